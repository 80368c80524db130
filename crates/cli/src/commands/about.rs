//! `kladder about TOOL`

use std::collections::BTreeSet;
use std::process::ExitCode;

use kladder_core::catalog::{Catalog, Definition, Need, Release, Way};
use kladder_core::platform::Platform;
use serde::Serialize;

use crate::context::{Context, Opened};
use crate::problem::{Code, Problem};
use crate::render::Out;
use crate::render::text::{FAINT, STRONG, bytes, clean, columns, styled};

#[derive(Serialize)]
struct Shape<'d> {
    format: &'static str,
    tool: &'d str,
    kind: &'d str,
    summary: &'d str,
    provides: &'d [String],
    commands: Vec<&'d String>,
    licence: Option<&'d String>,
    releases: Vec<ReleaseShape<'d>>,
}

#[derive(Serialize)]
struct ReleaseShape<'d> {
    version: &'d str,
    date: Option<String>,
    series: &'d [String],
    needs: Vec<String>,
    excludes: Vec<String>,
    platforms: Vec<&'d Platform>,
    /// For this platform; null where it has none.
    size: Option<u64>,
    pieces: Vec<PieceShape<'d>>,
}

#[derive(Serialize)]
struct PieceShape<'d> {
    piece: &'d str,
    summary: &'d str,
    needs: Vec<String>,
    size: Option<u64>,
}

pub(super) fn run(context: &Context, out: &Out, tool: &str) -> Result<ExitCode, Problem> {
    let opened = context.open()?;
    let Some(definition) = opened.catalog.tool(tool)? else { return Err(unknown(&opened.catalog, tool)?) };
    let platform = &context.host.platform;
    out.value(&shape(&definition, platform))?;
    head(&definition, out)?;
    releases(&definition, &opened, platform, out)?;
    pieces(&definition, platform, out)?;
    Ok(ExitCode::SUCCESS)
}

pub(super) fn unknown(catalog: &Catalog, name: &str) -> Result<Problem, Problem> {
    let problem = Problem::new(Code::NotInCatalog, format!("the catalog has no tool `{name}`"));
    let providers = catalog.providers(name)?;
    if !providers.is_empty() {
        return Ok(problem.why(format!("it is a capability, which {} can provide", providers.join(", "))));
    }
    let near = catalog.near(name);
    Ok(near.iter().fold(problem, |problem, near| problem.next(format!("did you mean `{near}`?"))))
}

fn head(definition: &Definition, out: &Out) -> Result<(), Problem> {
    out.say(format!("{}, {}", styled(STRONG, &definition.tool), clean(&definition.kind)))?;
    out.say(clean(&definition.summary))?;
    let commands: Vec<&str> = definition.commands.keys().map(String::as_str).collect();
    let mut rows = Vec::new();
    let mut row = |name: &str, text: String| {
        if !text.is_empty() {
            rows.push(vec![styled(FAINT, name), clean(&text)]);
        }
    };
    row("commands", commands.join(", "));
    row("provides", definition.provides.join(", "));
    row("licence", definition.licence.clone().unwrap_or_default());
    row("gates", definition.gates.iter().map(|gate| gate.name.clone()).collect::<Vec<_>>().join(", "));
    row(
        "on the host",
        definition.host.as_ref().map(|probe| format!("looked for as `{}`", probe.command)).unwrap_or_default(),
    );
    if rows.is_empty() { Ok(()) } else { out.say(columns(&[], rows, &[])) }
}

fn releases(definition: &Definition, opened: &Opened, platform: &Platform, out: &Out) -> Result<(), Problem> {
    if definition.releases.is_empty() {
        return out.say("\nThe catalog has no release of it; only the host can.");
    }
    let pinned = opened.old.as_ref().and_then(|pins| pins.rungs.get(&definition.tool)).map(|pin| &pin.version);
    let row = |release: &Release| {
        let version = if pinned == Some(&release.version) {
            format!("{} (pinned)", release.version)
        } else {
            release.version.to_string()
        };
        let size = release.artifact(platform).map_or_else(|| "not for this platform".to_owned(), |a| bytes(a.size));
        vec![
            styled(STRONG, version),
            date(release).unwrap_or_default(),
            release.series.join(", "),
            size,
            clean(&asked(release)),
        ]
    };
    let rows = definition.releases.iter().map(row).collect();
    out.say(format!("\n{}", columns(&["release", "date", "series", "size", "needs"], rows, &[3])))?;
    let platforms: BTreeSet<&Platform> =
        definition.releases.iter().flat_map(|release| release.artifacts.keys()).collect();
    let names: Vec<&str> = platforms.iter().map(|platform| platform.as_str()).collect();
    out.say(format!("\nThere are artifacts for {}.", names.join(", ")))
}

fn pieces(definition: &Definition, platform: &Platform, out: &Out) -> Result<(), Problem> {
    let mut rows = Vec::new();
    for release in &definition.releases {
        for (name, piece) in &release.pieces {
            let size = piece.artifact(platform).map_or_else(|| "not for this platform".to_owned(), |a| bytes(a.size));
            let needs: Vec<String> = piece.needs.iter().map(Need::to_string).collect();
            let (name, version) = (styled(STRONG, name), release.version.to_string());
            rows.push(vec![name, version, size, clean(&needs.join("; ")), clean(&piece.summary)]);
        }
    }
    if rows.is_empty() {
        return Ok(());
    }
    out.say(format!("\n{}", columns(&["piece", "of release", "size", "needs", "what it is for"], rows, &[2])))?;
    out.say(format!("\nTake one with `{} = {{ pieces = [\"NAME\"] }}` in the ladder.", definition.tool))
}

fn date(release: &Release) -> Option<String> {
    release.date.map(|date| date.to_string())
}

/// What a release needs, and what it does not stand beside.
fn asked(release: &Release) -> String {
    let excludes = release.excludes.iter().map(|way| format!("not beside {way}"));
    needs(release).into_iter().chain(excludes).collect::<Vec<_>>().join("; ")
}

fn needs(release: &Release) -> Vec<String> {
    release.needs.iter().map(Need::to_string).collect()
}

fn shape<'d>(definition: &'d Definition, platform: &Platform) -> Shape<'d> {
    let release = |release: &'d Release| ReleaseShape {
        version: release.version.as_str(),
        date: date(release),
        series: &release.series,
        needs: needs(release),
        excludes: release.excludes.iter().map(Way::to_string).collect(),
        platforms: release.artifacts.keys().collect(),
        size: release.artifact(platform).map(|artifact| artifact.size),
        pieces: release
            .pieces
            .iter()
            .map(|(piece, of)| PieceShape {
                piece,
                summary: &of.summary,
                needs: of.needs.iter().map(Need::to_string).collect(),
                size: of.artifact(platform).map(|a| a.size),
            })
            .collect(),
    };
    Shape {
        format: "kladder.about/1",
        tool: &definition.tool,
        kind: &definition.kind,
        summary: &definition.summary,
        provides: &definition.provides,
        commands: definition.commands.keys().collect(),
        licence: definition.licence.as_ref(),
        releases: definition.releases.iter().map(release).collect(),
    }
}
