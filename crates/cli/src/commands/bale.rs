//! `kladder bale`

use std::collections::BTreeMap;
use std::path::Path;
use std::process::ExitCode;

use kladder_choose::platform::Platform;
use kladder_core::bring::bale::{Bale, Index, Member, Whole};
use kladder_core::share::bale::{Order, make};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean, count};

use super::report::by_hand;
use crate::args::BaleOptions;
use crate::context::Context;
use crate::render::text::{BAD, FAINT, STRONG, TOLD, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out, options: &BaleOptions) -> Result<ExitCode, Problem> {
    let file = context.around.folder.join(&options.file);
    if options.list {
        return list(&Bale::open(&file)?, out);
    }
    if options.check {
        return check(&Bale::open(&file)?, out);
    }
    let (desk, pins, _) = context.open_pinned(out)?;
    desk.write_pins(&pins)?;
    let mut programs: BTreeMap<_, _> =
        options.programs.iter().map(|(platform, file)| (platform.clone(), context.around.folder.join(file))).collect();
    if options.with_kladder {
        let own = context.around.host.installed.clone();
        let own = own.ok_or_else(|| Problem::new(Code::Failed, "this program's own file cannot be told"))?;
        programs.insert(Platform::built_for().to_string(), own);
    }
    let order = Order {
        since: options.since.as_ref().map(|other| context.around.folder.join(other)),
        volume: options.volume,
        machines: options.machines.clone(),
        guide: by_hand(&desk, &pins, false, false)?,
        without_code: options.without_code,
        programs,
        file: file.clone(),
    };
    let progress = Progress::new(out)?;
    let made = make(&desk, &pins, &order, &progress);
    progress.finish();
    let made = made?;
    out.value(&shapes::Bale::of(&file, &made.index, &made.files))?;
    let (number, size) = (made.index.files.len(), total(made.index.files.values()));
    let volumes = match made.files.as_slice() {
        [_] => String::new(),
        several => format!(" in {}", count(several.len(), "volume")),
    };
    let machines = made.index.machines.join(", ");
    out.say(format!(
        "{} has {} for {}{volumes}, {}.",
        shown(&file),
        count(number, "file"),
        clean(&machines),
        bytes(size)
    ))?;
    if !made.index.elsewhere.is_empty() {
        let (number, size) = (made.index.elsewhere.len(), total(made.index.elsewhere.values()));
        out.say(format!("It leaves out {}, {}, that the other bale has.", count(number, "file"), bytes(size)))?;
    }
    let next = if options.with_kladder { "sh begin BALE" } else { "kladder climb --from BALE" };
    let begin = if options.with_kladder { "`tar -xf BALE begin`, then " } else { "" };
    out.say(format!("Over there: {begin}{}", styled(TOLD, next)))?;
    Ok(ExitCode::SUCCESS)
}

fn total<'m>(members: impl Iterator<Item = &'m Member>) -> u64 {
    members.map(|member| member.size).sum()
}

fn list(bale: &Bale, out: &Out) -> Result<ExitCode, Problem> {
    let index = &bale.index;
    out.value(&shapes::Bale::of(bale.path(), index, &[]))?;
    out.say(format!("{}, made by kladder {}", styled(STRONG, clean(&index.title)), clean(&index.kladder)))?;
    out.say(format!("for {}\n", clean(&index.machines.join(", "))))?;
    out.say(out.columns(&["file", "size", "of"], rows(index), &[1]))?;
    out.say(format!("\n{}, {}", count(index.files.len(), "file"), bytes(total(index.files.values()))))?;
    Ok(ExitCode::SUCCESS)
}

fn rows(index: &Index) -> Vec<Vec<String>> {
    let row = |note: &str, (path, member): (&String, &Member)| {
        let of = member.of.as_deref().map(clean).unwrap_or_default();
        vec![clean(path), bytes(member.size), [of.as_str(), note].concat()]
    };
    let here = index.files.iter().map(|one| row("", one));
    let note = styled(FAINT, "  in the other bale");
    here.chain(index.elsewhere.iter().map(|one| row(&note, one))).collect()
}

fn check(bale: &Bale, out: &Out) -> Result<ExitCode, Problem> {
    let progress = Progress::new(out)?;
    let checked = bale.check(&progress);
    progress.finish();
    let all = checked.map_err(|_| Problem::interrupted())?;
    let damaged: Vec<(&str, String)> = all
        .iter()
        .filter_map(|(path, whole)| match whole {
            Whole::Yes => None,
            Whole::No(error) => Some((*path, kladder_core::base::event::chain(error))),
        })
        .collect();
    out.value(&shapes::BaleCheck::of(bale.path(), all.len(), &damaged))?;
    if damaged.is_empty() {
        let size = bytes(total(bale.index.files.values()));
        out.say(format!("All {} of {} are whole, {size}.", count(all.len(), "file"), shown(bale.path())))?;
        return Ok(ExitCode::SUCCESS);
    }
    for (path, why) in &damaged {
        let of = bale.index.files.get(*path).and_then(|member| member.of.as_deref());
        let of = of.map(|of| format!(", of {}", clean(of))).unwrap_or_default();
        out.say(format!("{}{of}: {}", styled(BAD, clean(path)), clean(why)))?;
    }
    Err(damaged_bale(bale.path(), damaged.len(), all.len()))
}

fn damaged_bale(path: &Path, damaged: usize, all: usize) -> Problem {
    let are = if damaged == 1 { "is" } else { "are" };
    Problem::new(Code::Integrity, format!("{damaged} of {} {are} damaged or missing", count(all, "file")))
        .at(path)
        .next("copy the bale, or the volume that is named, anew from where it was made")
        .next("the rest of it can be climbed from: `kladder climb --from BALE` takes what is damaged from elsewhere")
}
