//! From what a command did to whether that is what was expected.

use crate::catalog::Trial;
use crate::process::{Ended, Ran};
use crate::verdict::Outcome;
use crate::version::Version;

/// Characters of output that a failed check keeps.
const SHOWN: usize = 2000;

/// Holds what a command did against what was expected of it. Where the pattern has a group `version`, what it matches
/// must be `pinned`.
pub(super) fn judge(trial: &Trial, ran: &Ran, pinned: Option<&Version>) -> Outcome {
    let expect = &trial.expect;
    let why = match ran.ended {
        Ended::Cancelled => return Outcome::Skipped { why: "interrupted".into() },
        Ended::TooLate => Some(format!("it was still running after {} s", trial.limit)),
        Ended::Status(status) if status != expect.status => {
            Some(format!("it ended with status {status}, and {} was expected", expect.status))
        }
        Ended::Status(_) => None,
    };
    let why = why
        .or_else(|| lacks("output", &ran.stdout, expect.stdout.as_ref()?.regex(), pinned))
        .or_else(|| lacks("error output", &ran.stderr, expect.stderr.as_ref()?.regex(), pinned));
    match why {
        None => Outcome::Passed,
        Some(why) => Outcome::Failed { why, output: excerpt(ran) },
    }
}

fn lacks(what: &str, text: &str, pattern: &regex::Regex, pinned: Option<&Version>) -> Option<String> {
    let Some(found) = pattern.captures(text) else {
        return Some(format!("its {what} has nothing like `{pattern}`"));
    };
    let said = found.name("version")?.as_str();
    let pinned = pinned?;
    (said != pinned.as_str()).then(|| format!("it says that it is {said}, and {pinned} is pinned"))
}

fn excerpt(ran: &Ran) -> String {
    let all = format!("{}{}", ran.stdout, ran.stderr);
    let all = all.trim_end();
    match all.char_indices().nth(SHOWN) {
        None => all.to_owned(),
        Some((end, _)) => format!("{}…", &all[..end]),
    }
}
