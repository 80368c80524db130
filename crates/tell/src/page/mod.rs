//! A report as one page of HTML, whole in itself: it fetches nothing, needs no script, and reads in print, in grey and in the dark.

use std::time::Duration;

use kladder_core::prove::together::Proof;
use kladder_core::share::report::{Doing, Layers, Report, ReportFile, Timeline};
use minijinja::{Environment, context};
use serde::Serialize;

use crate::text::{bytes, time};
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
    let timeline = report.climb.as_ref().map(drawn_climb);
    let matrix = matrix(report);
    environment
        .get_template(NAME)?
        .render(context! { report, rows, files, failed, licences, missing, size, layers, timeline, matrix })
}

/// A climb as bars on a line of time; lengths are per mille of its whole.
#[derive(Serialize)]
struct DrawnClimb {
    took: String,
    rungs: Vec<DrawnRung>,
    /// Moments that are named below the bars.
    marks: Vec<Mark>,
}

#[derive(Serialize)]
struct DrawnRung {
    rung: String,
    longest: bool,
    bars: Vec<Bar>,
    /// The same in words.
    told: String,
}

#[derive(Serialize)]
struct Bar {
    kind: &'static str,
    from: u64,
    width: u64,
}

#[derive(Serialize)]
struct Mark {
    at: u64,
    text: String,
}

fn drawn_climb(climb: &Timeline) -> DrawnClimb {
    let end = climb.rungs.iter().flat_map(|rung| &rung.spans).map(|span| span.until).max().unwrap_or(0);
    let whole = end.max(climb.took).max(1);
    let mille = |at: u64| at * 1000 / whole;
    let name = |what: Doing| match what {
        Doing::Download => "download",
        Doing::Waiting => "waiting",
        Doing::Unpack => "unpack",
        Doing::SetUp => "set-up",
        Doing::Checks => "checks",
    };
    let rungs = climb.rungs.iter().map(|rung| DrawnRung {
        rung: rung.rung.clone(),
        longest: rung.longest,
        bars: rung
            .spans
            .iter()
            .map(|span| Bar {
                kind: name(span.what),
                from: mille(span.from),
                width: mille(span.until - span.from).max(2),
            })
            .collect(),
        told: rung
            .spans
            .iter()
            .map(|span| format!("{} {}", name(span.what), time(Duration::from_millis(span.until - span.from))))
            .collect::<Vec<_>>()
            .join(", "),
    });
    let marks = (0..=4).map(|part| Mark { at: part * 250, text: time(Duration::from_millis(whole * part / 4)) });
    DrawnClimb { took: time(Duration::from_millis(climb.took)), rungs: rungs.collect(), marks: marks.collect() }
}

/// Who needs whom: a row for each that needs, a column for each that is needed.
#[derive(Serialize)]
struct Matrix {
    columns: Vec<String>,
    rows: Vec<(String, Vec<&'static str>)>,
    proved: usize,
    all: usize,
}

fn matrix(report: &Report) -> Option<Matrix> {
    if report.together.is_empty() {
        return None;
    }
    let sorted = |mut names: Vec<String>| {
        names.sort();
        names.dedup();
        names
    };
    let columns = sorted(report.together.iter().map(|need| need.needs.clone()).collect());
    let rows = sorted(report.together.iter().map(|need| need.rung.clone()).collect());
    let cell = |row: &str, column: &str| {
        let need = report.together.iter().find(|need| need.rung == row && need.needs == column);
        need.map_or("", |need| match need.proof {
            Proof::Proved => "proved",
            Proof::NotProved => "open",
            Proof::Failing => "failing",
        })
    };
    let rows = rows.into_iter().map(|row| {
        let cells = columns.iter().map(|column| cell(&row, column)).collect();
        (row, cells)
    });
    let rows = rows.collect();
    let proved = report.together.iter().filter(|need| need.proof == Proof::Proved).count();
    Some(Matrix { columns, rows, proved, all: report.together.len() })
}
