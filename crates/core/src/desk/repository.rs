//! Copies of repositories, made by the host's version control.

use std::ffi::OsString;
use std::path::Path;
use std::time::Duration;

use super::Surroundings;
use crate::base::event::Observer;
use crate::host::process::{Ended, Setting, run};
use crate::host::survey::answers;

/// How long one may take.
const PATIENCE: Duration = Duration::from_mins(10);

/// Copies a repository into a folder that is not there yet: what it shows by itself, or a branch, tag or commit.
///
/// # Errors
/// Why it could not be copied, in words.
pub(super) fn copy(
    repository: &str,
    at: Option<&str>,
    into: &Path,
    around: &Surroundings,
    observer: &dyn Observer,
) -> Result<(), String> {
    let git = answers("git", &around.host.path).ok_or("there is no git on PATH")?;
    let call = |words: &[OsString]| {
        let mut command: Vec<OsString> = vec![git.clone().into()];
        command.extend_from_slice(words);
        let mut variables: Vec<_> = around.host.variables.iter().map(|(k, v)| (k.into(), v.into())).collect();
        variables.push((OsString::from("PATH"), around.host.path.clone()));
        variables.extend(around.host.person.as_ref().map(|home| (OsString::from("HOME"), home.clone().into())));
        // Nobody is there to be asked for a password.
        variables.push(("GIT_TERMINAL_PROMPT".into(), "0".into()));
        variables.push(("GIT_SSH_COMMAND".into(), "ssh -oBatchMode=yes".into()));
        let folder = into.parent().unwrap_or(Path::new("/"));
        let setting = Setting {
            run: &command,
            input: "",
            folder,
            variables: &variables,
            limit: PATIENCE,
            cell: None,
            encloser: None,
            watched: None,
            most: None,
        };
        let ran = run(&setting, observer).map_err(|error| error.to_string())?;
        match ran.ended {
            Ended::Status(0) => Ok(()),
            Ended::Status(_) => Err(ran.stderr.trim().to_owned()),
            Ended::TooLate | Ended::TooMuch(_) | Ended::Cancelled => Err("it took too long".to_owned()),
        }
    };
    let words = |words: &[&str]| words.iter().map(OsString::from).collect::<Vec<_>>();
    let is_commit = at.is_some_and(|at| at.len() >= 7 && at.chars().all(|c| c.is_ascii_hexdigit()));
    let mut clone = words(&["clone", "--quiet"]);
    match at {
        // Any commit may be meant, so that all of them are brought.
        Some(_) if is_commit => clone.push("--no-checkout".into()),
        Some(name) => clone.extend([OsString::from("--depth=1"), ["--branch=", name].concat().into()]),
        None => clone.push("--depth=1".into()),
    }
    clone.extend(["--".into(), repository.into(), into.as_os_str().to_owned()]);
    call(&clone)?;
    match at.filter(|_| is_commit) {
        Some(commit) => {
            let mut checkout = vec!["-C".into(), into.as_os_str().to_owned()];
            checkout.extend(words(&["checkout", "--quiet", commit, "--"]));
            call(&checkout)
        }
        None => Ok(()),
    }
}
