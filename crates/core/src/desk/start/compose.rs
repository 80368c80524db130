//! The text of a ladder.

use kladder_choose::catalog::{Catalogs, Preset, PresetRung};
use kladder_choose::ladder::{HostPolicy, Range, Terms};
use kladder_choose::names::ToolName;
use kladder_choose::pins::OnHost;
use kladder_choose::version::Requirement;

use super::{Answers, StartError};

/// A line of the ladder, and the remark behind it.
struct Line {
    text: String,
    remark: Option<String>,
}

/// Writes the ladder that a preset and answers give. `catalog_path` is written into it as it is. What was offered and
/// declined stands in it as a comment.
///
/// # Errors
/// [`StartError`] for an answer that fits no question, or a tool that the catalogs have not.
pub fn compose(
    catalogs: &Catalogs,
    preset: &Preset,
    answers: &Answers,
    host: &dyn OnHost,
    catalog_path: Option<&str>,
) -> Result<String, StartError> {
    check(catalogs, preset, answers)?;
    let title = answers.title.as_ref().unwrap_or(&preset.title);
    let mut text = vec![
        ["# ", &preset.summary, ": what this workstation must have.\n"].concat(),
        "[ladder]".to_owned(),
        pair("title", title),
    ];
    text.extend(catalog_path.map(|path| pair("catalog", path)));
    if !answers.machines.is_empty() {
        text.push("\n[machines]".to_owned());
        text.extend(answers.machines.iter().map(|(name, platform)| pair(&key(name), platform.as_str())));
    }
    text.push("\n[rungs]".to_owned());
    let mut lines = Vec::new();
    let (wanted, declined): (Vec<_>, Vec<_>) = preset.rungs.iter().partition(|rung| answers.wants(rung));
    for rung in wanted {
        lines.push(line(catalogs, rung, answers)?);
    }
    lines.extend(taken_over(catalogs, answers, host)?);
    for rung in declined {
        let Line { text, remark } = line(catalogs, rung, answers)?;
        lines
            .push(Line { text: ["# ", &text].concat(), remark: remark.map(|remark| ["declined: ", &remark].concat()) });
    }
    // Remarks stand in one column, as far as the longest line allows.
    let width = lines.iter().map(|line| line.text.chars().count()).max().unwrap_or(0).min(60);
    text.extend(lines.into_iter().map(|Line { text, remark }| match remark {
        None => text,
        Some(remark) => format!("{text:<width$}   # {remark}"),
    }));
    Ok(text.join("\n") + "\n")
}

fn line(catalogs: &Catalogs, rung: &PresetRung, answers: &Answers) -> Result<Line, StartError> {
    let series = answers.series.get(&rung.tool).or(rung.series.as_ref()).filter(|series| !series.is_empty());
    let pieces = answers.pieces.get(&rung.tool).cloned().unwrap_or_default();
    let range = Range { requirement: rung.version.clone(), series: series.cloned(), pieces };
    let value = Terms { range, host: HostPolicy::Allow }.to_value().to_string();
    let summary = catalogs.tool(&rung.tool)?.map(|definition| definition.summary.clone());
    let remark = rung.comment.clone().or(summary).map(|remark| remark.replace(['\n', '\r'], " "));
    Ok(Line { text: [key(&rung.tool).as_str(), " = ", value.trim()].concat(), remark })
}

/// What the host has and was to be taken over: as the capability that it provides, and as nothing else but what is there.
fn taken_over(catalogs: &Catalogs, answers: &Answers, host: &dyn OnHost) -> Result<Vec<Line>, StartError> {
    let mut lines = Vec::new();
    for tool in answers.host.iter().filter(|(_, wanted)| **wanted).map(|(tool, _)| tool) {
        let Some(definition) = catalogs.tool(tool)? else { continue };
        let range = Range { requirement: Requirement::any(), series: None, pieces: Vec::new() };
        let value = Terms { range, host: HostPolicy::Prefer }.to_value().to_string();
        let found = host.find(&definition).into_iter().next();
        let remark = found.map(|found| {
            ["this host has ", &found.copy.path().to_string_lossy(), " ", found.version.as_str()].concat()
        });
        // The tool itself, not what it provides: that might be met by another one.
        lines.push(Line { text: [key(tool).as_str(), " = ", value.trim()].concat(), remark });
    }
    Ok(lines)
}

fn pair(name: &str, value: &str) -> String {
    [name, " = ", toml_edit::Value::from(value).to_string().trim()].concat()
}

/// A name as a key of TOML.
fn key(name: &str) -> String {
    toml_edit::Key::new(name).display_repr().into_owned()
}

/// Refuses answers about things that the preset or the catalogs do not have.
fn check(catalogs: &Catalogs, preset: &Preset, answers: &Answers) -> Result<(), StartError> {
    let names = |rungs: Vec<&PresetRung>| rungs.into_iter().map(|rung| rung.tool.to_string()).collect::<Vec<_>>();
    let tools = names(preset.rungs.iter().collect());
    let optional = names(preset.rungs.iter().filter(|rung| rung.question.is_some()).collect());
    for tool in answers.optional.keys() {
        known(tool, &optional, "is no optional tool of this preset")?;
    }
    for (tool, series) in &answers.series {
        known(tool, &tools, "is no tool of this preset")?;
        let definition = catalogs.tool(tool)?;
        let there: Vec<String> =
            definition.iter().flat_map(|d| &d.releases).flat_map(|release| release.series.clone()).collect();
        if !series.is_empty() {
            known(series, &there, &format!("is no series of {tool}"))?;
        }
    }
    for (tool, pieces) in &answers.pieces {
        known(tool, &tools, "is no tool of this preset")?;
        let definition = catalogs.tool(tool)?;
        let releases = definition.iter().flat_map(|definition| &definition.releases);
        let there: Vec<String> = releases.flat_map(|release| release.pieces.keys().cloned()).collect();
        pieces.iter().try_for_each(|piece| known(piece, &there, &format!("is no piece of {tool}")))?;
    }
    let all: Vec<String> = catalogs.names().map(ToolName::to_string).collect();
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
