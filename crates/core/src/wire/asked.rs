//! Who answers to a command, asked of real shells: new ones, as a terminal or a login starts them, in the surroundings that a
//! session gives them and not the caller's.

use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::files_of::{Shell, Surroundings};
use crate::base::event::Silent;
use crate::host::process::{self, Ended, Setting};
use crate::host::survey::{Host, Shells, answers};

/// Where a command is typed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// Where this is called.
    Here,
    /// A new terminal with this shell.
    Terminal(Shell),
    /// A login shell.
    Login(Shell),
    /// A program that no shell started, like a scheduled job.
    Bare,
}

/// What answers there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Answered {
    /// This file.
    File(PathBuf),
    /// Something that is no file, as the shell tells it: an alias, a function.
    Other(String),
    /// Nothing.
    Nothing,
    /// The shell did not come to an end.
    Unasked,
}

/// How long a shell may take to start and answer.
const PATIENCE: Duration = Duration::from_secs(10);
/// What a session without settings of its own has as PATH.
const BARE: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";
/// Before the answer, whatever start-up files print.
const MARK: &str = "kladder asks:";

/// Asks for a command in every place that there is for this person.
pub fn ask(name: &str, person: &Surroundings, shells: &Shells, host: &Host) -> Vec<(Place, Answered)> {
    let file = |path: &OsString| answers(name, path).map_or(Answered::Nothing, Answered::File);
    let mut all = vec![(Place::Here, file(&host.path))];
    let one = |mut answered: Vec<Answered>| answered.pop().unwrap_or(Answered::Unasked);
    all.extend(ask_shells(&[name], person, shells).into_iter().map(|(place, answered)| (place, one(answered))));
    all.push((Place::Bare, file(&BARE.into())));
    all
}

/// Asks for several commands in new shells; each shell is started once for a terminal and once for a login.
pub fn ask_shells(names: &[&str], person: &Surroundings, shells: &Shells) -> Vec<(Place, Vec<Answered>)> {
    let mut all = Vec::new();
    let mut seen = Vec::new();
    let own = person.shell.iter().chain(&shells.login).chain(&shells.installed);
    for (program, shell) in own.filter_map(|program| Some((program, Shell::of(program)?))) {
        // Shells that read the same files are one.
        if seen.contains(&shell) || !is_used(shell, person, shells) {
            continue;
        }
        seen.push(shell);
        all.push((Place::Terminal(shell), answered(program, shell, false, names, person)));
        all.push((Place::Login(shell), answered(program, shell, true, names, person)));
    }
    all
}

/// Whether it is the person's own shell, or has something in the home.
fn is_used(shell: Shell, person: &Surroundings, shells: &Shells) -> bool {
    let own = [person.shell.as_deref(), shells.login.as_deref()];
    // What sh reads is there for others too, so it tells nothing of sh.
    own.into_iter().flatten().any(|program| Shell::of(program) == Some(shell))
        || (shell != Shell::Sh && person.files(shell).iter().any(|path| path.exists()))
}

fn answered(program: &Path, shell: Shell, is_login: bool, names: &[&str], person: &Surroundings) -> Vec<Answered> {
    let asked = |name: &&str| {
        let word = shell.dialect().word(name.as_ref());
        format!("echo; echo '{MARK}'; command -v {}", String::from_utf8_lossy(&word))
    };
    let line = names.iter().map(asked).collect::<Vec<_>>().join("; ");
    let how = if is_login { ["-l", "-c"] } else { ["-i", "-c"] };
    let mut run: Vec<OsString> = vec![program.into(), how[0].into(), how[1].into(), line.into()];
    // An interactive shell must not take the terminal that this is called from.
    if let Some(setsid) = answers("setsid", &BARE.into()) {
        run.splice(0..0, [setsid.into(), "--wait".into()]);
    }
    let variable = |name: &str, value: Option<&Path>| Some((OsString::from(name), value?.as_os_str().to_owned()));
    let fixed = [("PATH", BARE), ("TERM", "dumb"), ("LC_ALL", "C")];
    let mut variables: Vec<(OsString, OsString)> = fixed.map(|(name, value)| (name.into(), value.into())).to_vec();
    variables.extend(variable("HOME", Some(&person.home)));
    variables.extend(variable("SHELL", Some(program)));
    variables.extend(variable("ZDOTDIR", person.zsh.as_deref()));
    variables.extend(variable("XDG_CONFIG_HOME", person.settings.as_deref()));
    variables.extend(variable("ENV", person.interactive.as_deref()));
    let setting = Setting::open(&run, &person.home, &variables, PATIENCE);
    match process::run(&setting, &Silent) {
        Ok(ran) if matches!(ran.ended, Ended::Status(_)) => read(&ran.stdout, names.len()),
        _ => vec![Answered::Unasked; names.len()],
    }
}

/// The last so many answers: whatever start-up files print comes before.
fn read(output: &str, many: usize) -> Vec<Answered> {
    let answers: Vec<&str> = output.split(MARK).skip(1).collect();
    match answers.len().checked_sub(many) {
        Some(before) => answers[before..].iter().map(|answer| read_one(answer)).collect(),
        None => vec![Answered::Unasked; many],
    }
}

fn read_one(answer: &str) -> Answered {
    match answer.trim() {
        "" => Answered::Nothing,
        path if path.starts_with('/') && !path.contains('\n') => Answered::File(path.into()),
        other => Answered::Other(other.lines().next().unwrap_or_default().to_owned()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_start_up_files_print_is_no_answer() {
        let one = |text: &str| read(text, 1).remove(0);
        assert_eq!(one("welcome\n\nkladder asks:\n/usr/bin/ls\n"), Answered::File("/usr/bin/ls".into()));
        assert_eq!(one("kladder asks:\nalias ls='ls -l'\n"), Answered::Other("alias ls='ls -l'".to_owned()));
        assert_eq!(one("/usr/bin/ls\nkladder asks:\n"), Answered::Nothing);
        assert_eq!(one("/usr/bin/ls\n"), Answered::Unasked);
        let several = read("kladder asks: is no mark of mine\nkladder asks:\n/bin/a\n\nkladder asks:\n\n", 2);
        assert_eq!(several, [Answered::File("/bin/a".into()), Answered::Nothing]);
    }
}
