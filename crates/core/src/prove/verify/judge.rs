//! From what a command did to whether that is what was expected.

use kladder_choose::catalog::{Pattern, Trial};
use kladder_choose::version::Version;

use crate::base::event::{Finding, Outcome, Output, Stream};
use crate::host::process::{Ended, Ran};
use crate::prove::causes;

/// Holds what a command did against what was expected of it. Where the pattern has a group `version`, what it matches
/// must be `pinned`.
pub(super) fn judge(trial: &Trial, ran: &Ran, pinned: Option<&Version>) -> Outcome {
    let expect = &trial.expect;
    let finding = match ran.ended {
        // The caller looks for that itself, and ends.
        Ended::Cancelled => return Outcome::Passed,
        Ended::TooLate => Some(Finding::TooLong { limit: trial.limit }),
        Ended::Status(status) if status != expect.status => Some(Finding::Status { status, expected: expect.status }),
        Ended::Status(_) => None,
    };
    let finding = finding
        .or_else(|| lacks(Stream::Output, &ran.stdout, expect.stdout.as_ref()?, pinned))
        .or_else(|| lacks(Stream::Error, &ran.stderr, expect.stderr.as_ref()?, pinned));
    let Some(finding) = finding else { return Outcome::Passed };
    let all = [ran.stdout.as_str(), ran.stderr.as_str()].concat();
    Outcome::Failed { finding, output: Output::of(&all), causes: causes::of_output(&all) }
}

fn lacks(stream: Stream, text: &str, pattern: &Pattern, pinned: Option<&Version>) -> Option<Finding> {
    let Some(found) = pattern.regex().captures(text) else {
        return Some(Finding::NoMatch { stream, pattern: pattern.as_str().to_owned() });
    };
    let said = found.name("version")?.as_str();
    let pinned = pinned?;
    (said != pinned.as_str()).then(|| Finding::OtherVersion { said: said.to_owned(), pinned: pinned.clone() })
}
