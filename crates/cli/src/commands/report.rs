//! `kladder report`

use std::path::Path;
use std::process::ExitCode;

use kladder_choose::catalog::Artifact;
use kladder_choose::pins::Pins;
use kladder_core::base::files;
use kladder_core::bring::fetch::addresses;
use kladder_core::desk::Desk;
use kladder_core::share::report::{Report, ReportRung, cyclonedx, spdx};
use kladder_tell::by_hand::{guide, script};
use kladder_tell::page::page;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{bytes, clean, count};
use serde_json::Value;

use super::survey::surveyed;
use crate::args::{ReportForm, ReportOptions};
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, shown, styled};

pub(super) fn run(context: &Context, out: &Out, options: &ReportOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let report = of(context, &desk, &pins, options.name.as_deref())?;
    out.value(&report)?;
    let Some(file) = &options.file else { return table(&report, out) };
    let form = options.form.or_else(|| by_name(file)).ok_or_else(|| {
        Problem::new(Code::Usage, "the name does not tell what to write")
            .at(file)
            .next("end it with `.html`, `.md`, `.sh`, `.json`, `.cdx.json` or `.spdx.json`, or say it with `--as`")
    })?;
    let written = |value: Value| serde_json::to_string_pretty(&value).unwrap_or_default() + "\n";
    let (text, what) = match form {
        ReportForm::Page => (written_page(&report)?, "the page"),
        ReportForm::Guide => (by_hand(&desk, &pins, false, true)?, "the guide"),
        ReportForm::Script => (by_hand(&desk, &pins, true, true)?, "the script"),
        ReportForm::Json => (written(serde_json::to_value(&report).unwrap_or_default()), "the report"),
        ReportForm::Cyclonedx => (written(cyclonedx(&report)), "CycloneDX 1.6"),
        ReportForm::Spdx => (written(spdx(&report)), "SPDX 2.3"),
    };
    let path = context.around.folder.join(file);
    files::replace(&path, text.as_bytes()).map_err(|error| Problem::file(&error))?;
    out.say(format!("{} has {what}, {}.", shown(&path), count(report.rungs.len(), "rung")))?;
    Ok(ExitCode::SUCCESS)
}

fn written_page(report: &Report) -> Result<String, Problem> {
    page(report).map_err(|error| Problem::new(Code::Failed, "the page cannot be written").why(error.to_string()))
}

/// What is to be done for the ladder without Kite Ladder: as a guide, or as a script. Where `asks` says so, indexes are asked where
/// their files are.
pub(super) fn by_hand(desk: &Desk, pins: &Pins, as_script: bool, asks: bool) -> Result<String, Problem> {
    let route = desk.site(pins).route()?;
    let named =
        |artifact: &Artifact| artifact.origins.iter().filter(|one| !one.starts_with("index:")).cloned().collect();
    let addresses = |artifact: &Artifact| if asks { addresses(artifact, &desk.network) } else { named(artifact) };
    let write = if as_script { script } else { guide };
    Ok(write(&desk.ladder, &desk.surroundings.host.platform, &route, &addresses))
}

/// The report of this machine.
pub(super) fn here(context: &Context, out: &Out) -> Result<Report, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    of(context, &desk, &pins, None)
}

pub(super) fn of(context: &Context, desk: &Desk, pins: &Pins, name: Option<&str>) -> Result<Report, Problem> {
    let own = || rustix::system::uname().nodename().to_string_lossy().into_owned();
    let name = name.map_or_else(own, str::to_owned);
    Ok(Report::of(desk, pins, &name, &surveyed(context))?)
}

fn by_name(file: &Path) -> Option<ReportForm> {
    let name = file.file_name()?.to_str()?.to_ascii_lowercase();
    let ends = |ending: &str| name.ends_with(ending);
    match () {
        () if ends(".html") || ends(".htm") => Some(ReportForm::Page),
        () if ends(".md") => Some(ReportForm::Guide),
        () if ends(".sh") => Some(ReportForm::Script),
        () if ends(".cdx.json") => Some(ReportForm::Cyclonedx),
        () if ends(".spdx.json") => Some(ReportForm::Spdx),
        () if ends(".json") => Some(ReportForm::Json),
        () => None,
    }
}

fn table(report: &Report, out: &Out) -> Result<ExitCode, Problem> {
    out.say(format!("{} on {}", styled(STRONG, clean(&report.title)), clean(&report.machine)))?;
    let fact = |name: &str| report.host.get(name).map(|value| clean(value));
    let host: Vec<String> = ["system", "release", "processor", "memory"].into_iter().filter_map(fact).collect();
    out.say(host.join(", "))?;
    let landing = match (report.landing, &report.landed) {
        (Some(number), Some(made)) => format!("landing {number}, of {}", clean(made)),
        _ => "nothing was climbed yet".to_owned(),
    };
    out.say(landing)?;
    let verified = match &report.verified {
        None => styled(FAINT, "never verified"),
        Some(at) if report.failed.is_empty() => {
            format!("{} at {}", styled(GOOD, format!("{} passed", count(report.looked_at, "check"))), clean(at))
        }
        Some(at) => format!("{} at {}", styled(BAD, format!("{} failed", report.failed.len())), clean(at)),
    };
    out.say(format!("{verified}\n"))?;
    let has_licences = report.rungs.iter().any(|rung| rung.licence.is_some());
    let row = |rung: &ReportRung| {
        let size: u64 = rung.files.iter().map(|file| file.size).sum();
        let size = if rung.on_host { "the host's".to_owned() } else { bytes(size) };
        let stands = if rung.stands.is_some() { String::new() } else { styled(BAD, "does not stand") };
        let mut row = vec![styled(STRONG, clean(&rung.rung)), clean(&rung.version), size];
        row.extend(rung.licence.as_deref().or(has_licences.then_some("")).map(clean));
        row.extend([clean(&rung.summary), stands]);
        row
    };
    // The topmost first, as a ladder stands.
    let rows = report.rungs.iter().rev().map(row).collect();
    let mut head = vec!["rung", "version", "size", "licence", "what it is", ""];
    head.retain(|name| has_licences || *name != "licence");
    out.say(out.columns(&head, rows, &[2]))?;
    Ok(ExitCode::SUCCESS)
}
