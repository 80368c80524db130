//! The text of a ladder.

use super::{Answers, StartError};
use crate::catalog::{Catalog, Preset, PresetRung};
use crate::pins::HostTools;
use crate::version::Requirement;

/// Writes the ladder that a preset and answers give. `catalog_path` is written into it as it is.
///
/// # Errors
/// [`StartError`] for an answer that fits no question, or a tool that the catalog has not.
pub fn compose(
    catalog: &Catalog,
    preset: &Preset,
    answers: &Answers,
    host: &HostTools<'_>,
    catalog_path: Option<&str>,
) -> Result<String, StartError> {
    check(catalog, preset, answers)?;
    let title = answers.title.as_ref().unwrap_or(&preset.title);
    let mut text = vec![
        format!("# {}: what this workstation must have.\n", preset.summary),
        "[ladder]".to_owned(),
        format!("title = {}", quoted(title)),
    ];
    if !answers.platforms.is_empty() {
        let names: Vec<String> = answers.platforms.iter().map(|platform| quoted(platform.as_str())).collect();
        text.push(format!("platforms = [{}]", names.join(", ")));
    }
    text.extend(catalog_path.map(|path| format!("catalog = {}", quoted(path))));
    text.push("\n[rungs]".to_owned());
    let mut rungs: Vec<(String, Option<String>)> = Vec::new();
    for rung in preset.rungs.iter().filter(|rung| answers.wants(rung)) {
        rungs.push(line(catalog, rung, answers)?);
    }
    rungs.extend(taken_over(catalog, answers, host)?);
    // Remarks stand in one column, as far as the longest line allows.
    let width = rungs.iter().map(|(line, _)| line.chars().count()).max().unwrap_or(0).min(60);
    text.extend(rungs.into_iter().map(|(line, remark)| match remark {
        None => line,
        Some(remark) => format!("{line:<width$}   # {remark}"),
    }));
    Ok(text.join("\n") + "\n")
}

fn line(catalog: &Catalog, rung: &PresetRung, answers: &Answers) -> Result<(String, Option<String>), StartError> {
    let series = answers.series.get(&rung.tool).or(rung.series.as_ref()).filter(|series| !series.is_empty());
    let pieces = answers.pieces.get(&rung.tool).cloned().unwrap_or_default();
    let any = rung.version == Requirement::any();
    let mut parts = Vec::new();
    if !any {
        parts.push(format!("version = {}", quoted(&rung.version.to_string())));
    }
    parts.extend(series.map(|series| format!("series = {}", quoted(series))));
    if !pieces.is_empty() {
        let names: Vec<String> = pieces.iter().map(|piece| quoted(piece)).collect();
        parts.push(format!("pieces = [{}]", names.join(", ")));
    }
    let value = match (parts.len(), series) {
        (0, _) => quoted("any"),
        (1, _) if !any => quoted(&rung.version.to_string()),
        (1, Some(series)) => quoted(series),
        _ => format!("{{ {} }}", parts.join(", ")),
    };
    let summary = catalog.tool(&rung.tool)?.map(|definition| definition.summary.clone());
    Ok((format!("{} = {value}", rung.tool), rung.comment.clone().or(summary)))
}

/// What the host has and was to be taken over.
fn taken_over(
    catalog: &Catalog,
    answers: &Answers,
    host: &HostTools<'_>,
) -> Result<Vec<(String, Option<String>)>, StartError> {
    let mut lines = Vec::new();
    for tool in answers.host.iter().filter(|(_, wanted)| **wanted).map(|(tool, _)| tool) {
        let Some(definition) = catalog.tool(tool)? else { continue };
        let name = definition.provides.first().unwrap_or(tool);
        let found =
            host.find(&definition).map(|found| format!("this host has {} {}", found.file.display(), found.version));
        lines.push((format!("{name} = {{ host = \"prefer\" }}"), found));
    }
    Ok(lines)
}

/// Text as a basic string of TOML.
fn quoted(text: &str) -> String {
    toml_edit::Value::from(text).to_string()
}

/// Refuses answers about things that the preset or the catalog does not have.
fn check(catalog: &Catalog, preset: &Preset, answers: &Answers) -> Result<(), StartError> {
    let tools: Vec<String> = preset.rungs.iter().map(|rung| rung.tool.clone()).collect();
    let optional = preset.rungs.iter().filter(|rung| rung.question.is_some()).map(|rung| rung.tool.clone());
    let optional: Vec<String> = optional.collect();
    for tool in answers.optional.keys() {
        known(tool, &optional, "is no optional tool of this preset")?;
    }
    for (tool, series) in &answers.series {
        known(tool, &tools, "is no tool of this preset")?;
        let definition = catalog.tool(tool)?;
        let there: Vec<String> =
            definition.iter().flat_map(|d| &d.releases).flat_map(|release| release.series.clone()).collect();
        if !series.is_empty() {
            known(series, &there, &format!("is no series of {tool}"))?;
        }
    }
    for (tool, pieces) in &answers.pieces {
        known(tool, &tools, "is no tool of this preset")?;
        let definition = catalog.tool(tool)?;
        let releases = definition.iter().flat_map(|definition| &definition.releases);
        let there: Vec<String> = releases.flat_map(|release| release.pieces.keys().cloned()).collect();
        pieces.iter().try_for_each(|piece| known(piece, &there, &format!("is no piece of {tool}")))?;
    }
    let all: Vec<String> = catalog.names().map(str::to_owned).collect();
    answers.host.keys().try_for_each(|tool| known(tool, &all, "is no tool of the catalog"))
}

fn known(name: &str, there: &[String], otherwise: &str) -> Result<(), StartError> {
    if there.iter().any(|known| known == name) {
        return Ok(());
    }
    let mut fits = there.to_vec();
    fits.sort();
    fits.dedup();
    Err(StartError::Answer { what: format!("`{name}` {otherwise}"), fits })
}
