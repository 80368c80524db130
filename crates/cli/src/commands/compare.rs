//! `kladder compare`

use std::process::ExitCode;

use kladder_core::base::files;
use kladder_core::share::compare::{Difference, Weight, What, compare};
use kladder_core::share::report::Report;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{clean, count};
use kladder_tell::{shapes, words};

use super::report::here;
use crate::args::CompareOptions;
use crate::context::Context;
use crate::render::Out;
use crate::render::text::{BAD, FAINT, STRONG, TOLD, styled};

/// Machines that are named in one line.
const NAMED: usize = 4;

pub(super) fn run(context: &Context, out: &Out, options: &CompareOptions) -> Result<ExitCode, Problem> {
    let mut named: Vec<String> =
        options.workstations.iter().map(|name| within(context, name)).collect::<Result<Vec<_>, _>>()?.concat();
    if named.len() == 1 {
        named.insert(0, "here".to_owned());
    }
    let all: Vec<Report> = named.iter().map(|name| read(context, out, name)).collect::<Result<_, _>>()?;
    let comparison = compare(&all, &|subject| format!("{}: {}", words::owner(subject), words::claim(subject)));
    out.value(&shapes::Compare::of(&all, &comparison))?;
    let told: Vec<&Difference> =
        comparison.differences.iter().filter(|one| options.hosts || one.weight != Weight::Host).collect();
    if told.is_empty() {
        out.say(format!(
            "{} are the same, in {}.",
            count(all.len(), "workstation"),
            count(comparison.compared, "thing")
        ))?;
    } else {
        odd_ones(&all, &comparison.odd, out)?;
        let rows = told.iter().map(|one| row(one, &all)).collect();
        let most = if all.len() == 2 { clean(&all[0].machine) } else { "mostly".to_owned() };
        let other = if all.len() == 2 { clean(&all[1].machine) } else { "otherwise".to_owned() };
        out.say(out.columns(&["", &most, &other, "what it is"], rows, &[]))?;
    }
    let hidden = comparison.differences.len() - told.len();
    if hidden > 0 {
        let differ = if hidden == 1 { "differs" } else { "differ" };
        let note = format!("{} of the machines {differ}: `--hosts` shows them", count(hidden, "fact"));
        out.say(styled(FAINT, note))?;
    }
    Ok(if comparison.is_same() { ExitCode::SUCCESS } else { Code::Different.into() })
}

/// The reports in a folder, or what was named itself.
fn within(context: &Context, name: &str) -> Result<Vec<String>, Problem> {
    let path = context.around.folder.join(name);
    if name == "here" || name.parse::<u32>().is_ok() || !path.is_dir() {
        return Ok(vec![name.to_owned()]);
    }
    let failed = |error: std::io::Error| Problem::new(Code::Failed, error.to_string()).at(&path);
    let mut all = Vec::new();
    for entry in std::fs::read_dir(&path).map_err(failed)? {
        let file = entry.map_err(failed)?.path();
        let is_hidden = file.file_name().is_some_and(|name| name.as_encoded_bytes().starts_with(b"."));
        if !is_hidden && file.extension().is_some_and(|ending| ending == "json") {
            all.push(file.display().to_string());
        }
    }
    all.sort();
    if all.is_empty() {
        let problem = Problem::new(Code::BadFile, "there is no report in this folder").at(&path);
        return Err(problem
            .next("`kladder report FILE.json` writes one; `kladder yard serve --collect` gathers those of a room"));
    }
    Ok(all)
}

/// A report from a file, of a landing, or of this machine.
fn read(context: &Context, out: &Out, name: &str) -> Result<Report, Problem> {
    if name == "here" {
        return here(context, out);
    }
    if let Ok(number) = name.parse::<u32>() {
        let (desk, pins, _) = context.open_pinned(out)?;
        let landings = desk.site(&pins).landings().all()?;
        let there = landings.into_iter().find(|(other, _)| *other == number);
        let missing =
            || Problem::new(Code::Usage, format!("there is no landing {number}")).next("`kladder landings` lists them");
        return Ok(Report::of_landing(&there.ok_or_else(missing)?.1?, &desk.ladder.title));
    }
    let path = context.around.folder.join(name);
    let text = files::read(&path)
        .map_err(|error| Problem::file(&error).next("`kladder report FILE.json` on the other machine writes one"))?;
    let wrong = |why: String| {
        Problem::new(Code::BadFile, "this is no report")
            .at(&path)
            .why(why)
            .next("`kladder report FILE.json` on the other machine writes one")
    };
    let report: Report = serde_json::from_slice(&text).map_err(|error| wrong(error.to_string()))?;
    if report.format != Report::FORMAT {
        return Err(wrong(format!(
            "its format is `{}`, and {} is what is read here",
            clean(&report.format),
            Report::FORMAT
        )));
    }
    Ok(report)
}

/// Who differs most, where there are more than two.
fn odd_ones(all: &[Report], odd: &[(usize, usize)], out: &Out) -> Result<(), Problem> {
    if all.len() < 3 {
        return Ok(());
    }
    let name = |(at, _): &(usize, usize)| styled(STRONG, clean(&all[*at].machine));
    let names: Vec<String> = odd.iter().take(NAMED).map(name).collect();
    let more = odd.len().saturating_sub(NAMED);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    let (are, of) = (if odd.len() == 1 { "is" } else { "are" }, count(all.len(), "workstation"));
    out.say(format!("{}{more} {are} otherwise than most of {of}.\n", names.join(", ")))
}

fn row(one: &Difference, all: &[Report]) -> Vec<String> {
    let missing = || styled(FAINT, "not there");
    let value = |value: &Option<String>| match (&one.what, value) {
        (What::Check(_), None) => "passes".to_owned(),
        (_, None) => missing(),
        (What::Check(_), Some(fails)) => styled(BAD, fails),
        (_, Some(value)) => clean(value),
    };
    let otherwise = if all.len() == 2 {
        one.otherwise.values().map(value).collect::<Vec<_>>().join(", ")
    } else {
        let told = |(at, other): (&usize, &Option<String>)| format!("{} {}", clean(&all[*at].machine), value(other));
        let mut told: Vec<String> = one.otherwise.iter().map(told).collect();
        let more = told.len().saturating_sub(NAMED);
        told.truncate(NAMED);
        if more > 0 {
            told.push(format!("{more} more"));
        }
        told.join(", ")
    };
    let what = match &one.what {
        What::Rung(name) | What::Check(name) | What::Fact(name) => styled(STRONG, clean(name)),
        What::Library { set, library } => format!("{} in {}", styled(STRONG, clean(library)), clean(set)),
    };
    let is_extra = one.weight == Weight::Missing && one.mostly.is_none();
    let weight = if is_extra { styled(TOLD, "only there") } else { weight(one.weight) };
    vec![what, value(&one.mostly), otherwise, weight]
}

fn weight(weight: Weight) -> String {
    match weight {
        Weight::Failing => styled(BAD, "fails on one alone"),
        Weight::Missing => styled(BAD, "missing"),
        Weight::Series => styled(TOLD, "another series"),
        Weight::Patch => "patch level".to_owned(),
        Weight::Host => styled(FAINT, "the machine's"),
    }
}
