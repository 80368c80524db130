//! `kladder wire` and `kladder unwire`

use std::path::{Path, PathBuf};
use std::process::ExitCode;

use inquire::Confirm;
use kladder_core::base::dialect::Dialect;
use kladder_core::base::event::Silent;
use kladder_core::climb::settings::{Of, take_back, to_take_back};
use kladder_core::host::survey;
use kladder_core::keep::state::Writer;
use kladder_core::keep::wired::Wired;
use kladder_core::wire::{self, Change, Obstacle, Planned, Shell};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::count;

use crate::args::{ShellName, WireOptions};
use crate::commands::settings;
use crate::context::Context;
use crate::person::is_present;
use crate::render::text::{FAINT, TOLD, shown, styled};
use crate::render::{Out, asking, difference, look};

pub(super) fn run(context: &Context, out: &Out, options: &WireOptions) -> Result<ExitCode, Problem> {
    let wired = Wired::of(&context.around.home);
    if let Some(name) = options.print {
        out.verbatim(by_hand(name, &wired).trim_end())?;
        return Ok(ExitCode::SUCCESS);
    }
    let asked: Vec<Shell> = options.shells.iter().filter_map(|name| name.wired()).collect();
    let changed = put(context, out, &asked, options.yes)?;
    if changed {
        out.say(format!("New shells have the commands. {}", this_terminal(context)))?;
    }
    Ok(ExitCode::SUCCESS)
}

/// Plans, shows, asks and writes; tells whether anything was written.
pub(super) fn put(context: &Context, out: &Out, asked: &[Shell], yes: bool) -> Result<bool, Problem> {
    let (home, host) = (&context.around.home, &context.around.host);
    if context.person.home.as_os_str().is_empty() {
        let problem = Problem::new(Code::Failed, "your home folder cannot be told, so nothing in it can be wired");
        return Err(problem.next("set HOME"));
    }
    if host.is_described() {
        return Err(Problem::new(Code::Usage, "a described machine has no shells to wire").next("leave `--root` out"));
    }
    let wired = Wired::of(home);
    if !wired.is_true() {
        // Entering makes it what it should be.
        drop(Writer::enter(home, context.around.wait, &Silent)?);
    }
    crate::pages::put(&wired.share())?;
    let shells = survey::facts(host, &[]).shells;
    let planned = wire::wired(context.person.to_wire(&shells, asked, host), &wired);
    if planned.is_empty() {
        let problem = Problem::new(Code::Failed, "no shell was found that could be wired");
        return Err(problem.next("name one with `--shell`, or print its lines with `kladder wire --print SHELL`"));
    }
    let none = "Your shells are wired already.";
    change(context, out, planned, &Doing { taken_out: false, question: "Write this?", none, yes, has_more: false })
}

pub(super) fn unwire(context: &Context, out: &Out, yes: bool) -> Result<ExitCode, Problem> {
    take_out(context, out, yes)?;
    Ok(ExitCode::SUCCESS)
}

/// Takes the block out of every file that has one.
pub(super) fn take_out(context: &Context, out: &Out, yes: bool) -> Result<bool, Problem> {
    // Without a home there is nothing of it that could have been wired.
    let is_known = !context.person.home.as_os_str().is_empty();
    let planned = if is_known { wire::unwired(context.person.all()) } else { Vec::new() };
    let placed = to_take_back(&context.around.home)?;
    for change in placed.iter().filter_map(|placing| placing.change.as_ref()) {
        out.verbatim(difference(change))?;
    }
    let has_more = placed.iter().any(|placing| placing.change.is_some());
    let none = "No file of yours has anything of kladder.";
    let doing = Doing { taken_out: true, question: "Take this out?", none, yes, has_more };
    let goes = change(context, out, planned, &doing)?;
    if goes && !placed.is_empty() {
        settings::tell(&take_back(&context.around.home, Of::All, context.around.wait, &Silent)?, out)?;
    }
    Ok(goes)
}

/// Whether any start-up file has the block of this home.
pub(super) fn is_wired(context: &Context) -> bool {
    let is_known = !context.person.home.as_os_str().is_empty();
    is_known && wire::is_wired(context.person.all(), &Wired::of(&context.around.home))
}

struct Doing {
    taken_out: bool,
    question: &'static str,
    none: &'static str,
    yes: bool,
    /// Other files are to be changed along with these.
    has_more: bool,
}

fn change(context: &Context, out: &Out, planned: Vec<Planned>, doing: &Doing) -> Result<bool, Problem> {
    let changes: Vec<&Change> = planned.iter().filter_map(|one| one.change.as_ref().ok()?.as_ref()).collect();
    for change in &changes {
        out.verbatim(difference(change))?;
    }
    let goes = (!changes.is_empty() || doing.has_more) && goes_on(out, doing)?;
    if goes {
        let backups = context.around.home.data.join("wired/before");
        for change in &changes {
            let kept = wire::apply(change, &backups)?.map(|kept| format!("before: {}", shown(&kept)));
            let became = match (&change.before, &change.after) {
                (None, _) => "is new",
                (_, None) => "is gone",
                _ if doing.taken_out => "is without them again",
                _ => "is wired",
            };
            let kept = kept.map(|kept| styled(FAINT, format!("; {kept}"))).unwrap_or_default();
            out.say(format!("{} {became}{kept}", shown(&change.file.path)))?;
        }
    }
    let left: Vec<(&Path, String)> =
        planned.iter().filter_map(|one| Some((one.file.path.as_path(), why(one.change.as_ref().err()?)))).collect();
    if changes.is_empty() && left.is_empty() && !doing.has_more {
        out.say(doing.none)?;
    }
    out.value(&shapes::Wire {
        format: shapes::Wire::FORMAT,
        taken_out: doing.taken_out,
        commands: shapes::path(&Wired::of(&context.around.home).commands()),
        files: planned.iter().map(|one| shape(one, goes)).collect(),
    })?;
    if left.is_empty() {
        return Ok(goes);
    }
    let what = format!("{} left as {}", count(left.len(), "file"), if left.len() == 1 { "it is" } else { "they are" });
    let problem = Problem::new(Code::NoPermission, what);
    let problem = left.iter().fold(problem, |problem, (path, why)| problem.why(format!("{}: {why}", shown(path))));
    Err(problem.next("`kladder wire --print SHELL` prints the lines to put there by hand"))
}

fn goes_on(out: &Out, doing: &Doing) -> Result<bool, Problem> {
    if doing.yes {
        return Ok(true);
    }
    if !is_present(out) {
        out.say("Nothing is written without `--yes` where nobody can be asked.")?;
        return Ok(false);
    }
    let question = Confirm::new(doing.question).with_default(true).with_render_config(look());
    Ok(asking(|| question.prompt()).unwrap_or(false))
}

fn why(obstacle: &Obstacle) -> String {
    match obstacle {
        Obstacle::ReadOnly => "it is read-only".to_owned(),
        Obstacle::Nowhere => "it is a link to nothing".to_owned(),
        Obstacle::NotAFile => "it is no file".to_owned(),
        Obstacle::NoEnd(error) => format!("{error}; take those lines out by hand"),
        Obstacle::Path => "the folder of commands has a path that cannot be written there".to_owned(),
        Obstacle::Unreadable(error) => error.to_string(),
    }
}

fn shape(planned: &Planned, goes: bool) -> shapes::WiredFile {
    let (state, why) = match &planned.change {
        Ok(None) => ("stands", None),
        Ok(Some(_)) => (if goes { "written" } else { "differs" }, None),
        Err(obstacle) => ("left", Some(why(obstacle))),
    };
    shapes::WiredFile { path: shapes::path(&planned.file.path), shell: planned.file.shell.as_str(), state, why }
}

/// The lines for a shell, to be put somewhere by hand.
fn by_hand(name: ShellName, wired: &Wired) -> String {
    let commands = wired.commands();
    let lines = match name.wired() {
        Some(shell) => shell.lines(&wired.start_file(shell.dialect())),
        None if name == ShellName::Nushell => {
            let word = Dialect::Nushell.word(commands.as_os_str());
            [b"$env.PATH = ($env.PATH | prepend ".as_slice(), &word, b")\n"].concat()
        }
        None => {
            let word = Dialect::PowerShell.word(commands.as_os_str());
            [b"$env:PATH = ".as_slice(), &word, b" + [IO.Path]::PathSeparator + $env:PATH\n"].concat()
        }
    };
    String::from_utf8_lossy(&lines).into_owned()
}

/// How the terminal in which this is called gets what new ones have.
pub(super) fn this_terminal(context: &Context) -> String {
    if is_here(context) {
        return "This terminal has them.".to_owned();
    }
    format!("This one gets them with\n\n    {}", to_paste(context))
}

/// The line with which this terminal gets what new ones have.
pub(super) fn to_paste(context: &Context) -> String {
    let shell = calling_shell(context).and_then(|program| Shell::of(&program)).unwrap_or(Shell::Sh);
    let file = Wired::of(&context.around.home).start_file(shell.dialect());
    let word = shell.dialect().word(file.as_os_str());
    let start = if shell == Shell::Fish { "source" } else { "." };
    styled(TOLD, format!("{start} {}", String::from_utf8_lossy(&word)))
}

/// Whether this terminal has the commands, and the variables as they are now.
pub(super) fn is_here(context: &Context) -> bool {
    let wired = Wired::of(&context.around.home);
    let has_commands = std::env::split_paths(&context.around.host.path).any(|folder| folder == wired.commands());
    has_commands && context.since.as_ref() == Some(&wired.since())
}

/// The program that called this one, as its system tells it, else the session's shell.
fn calling_shell(context: &Context) -> Option<PathBuf> {
    let parent = rustix::process::getppid().map(rustix::process::Pid::as_raw_nonzero);
    let name = parent.and_then(|pid| std::fs::read_to_string(format!("/proc/{pid}/comm")).ok());
    let parent = name.map(|name| PathBuf::from(name.trim())).filter(|name| Shell::of(name).is_some());
    parent.or_else(|| context.person.shell.clone())
}
