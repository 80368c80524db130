//! A report as one page of HTML, whole in itself: it fetches nothing, needs no script, and reads in print, in grey and in the dark.

use kladder_core::share::report::{Layers, Report, ReportFile};
use minijinja::{Environment, context};
use serde::Serialize;

use crate::text::bytes;
use crate::words;

/// Ends in `.html`, so that what is filled in is escaped.
const NAME: &str = "page.html";

/// What the table says of a rung that the report does not say itself.
#[derive(Serialize)]
struct Row<'r> {
    /// Its position in the report.
    at: usize,
    size: String,
    askers: Vec<&'r str>,
}

/// The page of a report.
///
/// # Errors
/// Where the page's own template is wrong.
pub fn page(report: &Report) -> Result<String, minijinja::Error> {
    let mut environment = Environment::new();
    environment.add_template(NAME, include_str!("page.html"))?;
    let size = |files: &[ReportFile]| files.iter().map(|file| file.size).sum::<u64>();
    let row = |at: usize| {
        let rung = &report.rungs[at];
        let askers = report.rungs.iter().filter(|other| other.needs.contains(&rung.rung));
        let size = if rung.on_host { "the host's".to_owned() } else { bytes(size(&rung.files)) };
        Row { at, size, askers: askers.map(|other| other.rung.as_str()).collect() }
    };
    // The topmost first, as the drawing has it.
    let rows: Vec<Row<'_>> = (0..report.rungs.len()).rev().map(row).collect();
    let files: Vec<&ReportFile> = report.rungs.iter().flat_map(|rung| &rung.files).collect();
    let failed: Vec<String> =
        report.failed.iter().map(|one| format!("{}: {}", words::owner(one), words::claim(one))).collect();
    let licences = report.rungs.iter().any(|rung| rung.licence.is_some());
    let missing = report.rungs.iter().filter(|rung| report.landing.is_some() && rung.stands.is_none()).count();
    let size = bytes(files.iter().map(|file| file.size).sum());
    let layers = Layers::of(report);
    environment.get_template(NAME)?.render(context! { report, rows, files, failed, licences, missing, size, layers })
}
