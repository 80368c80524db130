//! From what a command did to whether that is what was expected, and every other claim on it.

use std::io::Read;
use std::path::Path;

use kladder_choose::catalog::{Claim, Devices, Is, Of, Pattern, Trial, Value};
use kladder_choose::template::Hole;

use crate::base::event::{Finding, Looked, Much, Outcome, Output, Skipped, Stream};
use crate::base::files::{self, Attach, FileError};
use crate::host::process::{Ended, Most, Ran};
use crate::host::survey::Host;
use crate::host::system;
use crate::prove::causes;

/// Bytes that are read of a file that a claim is about.
const MOST: u64 = 16 << 20;

/// What a command did, and what is known to judge it by.
pub(super) struct Judged<'j> {
    /// What was expected.
    pub(super) trial: &'j Trial,
    /// What it did.
    pub(super) ran: &'j Ran,
    /// The version as the tool says it; what a group `version` matches must be this.
    pub(super) said: Option<&'j str>,
    /// What patterns name.
    pub(super) value: &'j dyn Fn(&Hole) -> Option<String>,
    /// Where it ran.
    pub(super) folder: &'j Path,
    /// What it might take.
    pub(super) most: Most,
    /// Whose devices those are that a claim is about.
    pub(super) host: &'j Host,
}

impl Judged<'_> {
    /// Whether it ended as it should, and wrote what it should.
    pub(super) fn outcome(&self) -> Outcome {
        let expect = &self.trial.expect;
        let finding = match self.ran.ended {
            // The caller looks for that itself, and ends.
            Ended::Cancelled => return Outcome::Passed,
            Ended::TooMuch(of) => {
                let processes = u64::try_from(self.most.processes).unwrap_or(u64::MAX);
                let limit = if of == Much::Processes { processes } else { self.most.memory };
                Some(Finding::TooMuch { of, limit })
            }
            Ended::TooLate => Some(Finding::TooLong { limit: self.trial.limit }),
            Ended::Status(status) if !expect.status.contains(&status) => {
                Some(Finding::Status { status, expected: expect.status.clone() })
            }
            Ended::Status(_) => None,
        };
        let finding = finding
            .or_else(|| self.lacks(Stream::Output, &self.ran.stdout, expect.stdout.as_ref()?))
            .or_else(|| self.lacks(Stream::Error, &self.ran.stderr, expect.stderr.as_ref()?))
            .or_else(|| self.has(&Looked::Outputs, &self.all(), expect.never.as_ref()?));
        finding.map_or(Outcome::Passed, |finding| self.failed(finding))
    }

    /// How a claim comes out.
    pub(super) fn claimed(&self, claim: &Claim) -> Outcome {
        if let Some(reason) = &claim.passed_over {
            return Outcome::Skipped(Skipped::PassedOver { reason: reason.clone() });
        }
        let (looked, text) = match self.text(&claim.of) {
            Ok(found) => found,
            Err(finding) => return Outcome::failed(finding),
        };
        let finding = match &claim.is {
            Is::Like(pattern) => self.lacks_in(&looked, &text, pattern),
            Is::Unlike(pattern) => self.has(&looked, &text, pattern),
            Is::Devices { which, each } => return self.devices(which, each, &text),
            Is::Value { pointer, value } => self.has_not(&looked, &text, pointer, value),
        };
        // What the command wrote says nothing of a file.
        let is_of_file = matches!(looked, Looked::File { .. });
        let failed = |finding| if is_of_file { Outcome::failed(finding) } else { self.failed(finding) };
        finding.map_or(Outcome::Passed, failed)
    }

    /// Whether a text tells of the devices that the system does.
    fn devices(&self, which: &Devices, each: &Pattern, text: &str) -> Outcome {
        let passed_over = |reason: &str| Outcome::Skipped(Skipped::PassedOver { reason: reason.to_owned() });
        let Some(mut there) = system::devices(self.host, which) else {
            return passed_over("this system does not tell of its devices");
        };
        let regex = each.regex_with(self.value);
        let named = regex.capture_names().flatten().any(|name| name == "device");
        let one = |found: regex::Captures<'_>| match found.name("device") {
            Some(device) => device.as_str().to_ascii_lowercase(),
            None => found.get(0).map(|whole| whole.as_str().trim().to_owned()).unwrap_or_default(),
        };
        let mut seen: Vec<String> = regex.captures_iter(text).map(one).collect();
        there.sort();
        seen.sort();
        match (there.is_empty() && seen.is_empty(), if named { seen == there } else { seen.len() == there.len() }) {
            (true, _) => passed_over("this machine has no such device"),
            (false, true) => Outcome::Passed,
            (false, false) => self.failed(Finding::OtherDevices { seen, there }),
        }
    }

    fn failed(&self, finding: Finding) -> Outcome {
        let all = [self.ran.stdout.as_str(), self.ran.stderr.as_str()].concat();
        Outcome::Failed { finding, output: Output::of(&all), causes: causes::of_output(&all) }
    }

    /// Both outputs, without what is harmless.
    fn all(&self) -> String {
        let error = &self.ran.stderr;
        let between = if self.ran.stdout.ends_with('\n') || error.is_empty() { "" } else { "\n" };
        self.without_harmless(&[self.ran.stdout.as_str(), between, error].concat())
    }

    /// A text without the lines that nothing is looked for in.
    fn without_harmless(&self, text: &str) -> String {
        if self.trial.harmless.is_empty() {
            return text.to_owned();
        }
        let harmless: Vec<regex::Regex> =
            self.trial.harmless.iter().map(|(pattern, _)| pattern.regex_with(self.value)).collect();
        let lines = text.split_inclusive('\n');
        lines.filter(|line| !harmless.iter().any(|regex| regex.is_match(line.trim_end()))).collect()
    }

    /// What a claim looks at.
    fn text(&self, of: &Of) -> Result<(Looked, String), Finding> {
        Ok(match of {
            Of::Output => (Looked::Output, self.without_harmless(&self.ran.stdout)),
            Of::Error => (Looked::Error, self.without_harmless(&self.ran.stderr)),
            Of::Either => (Looked::Outputs, self.all()),
            Of::File(file) => {
                let named = file.fill(|hole| (self.value)(hole).unwrap_or_default().into());
                let path = self.folder.join(named);
                let mut text = Vec::new();
                // Whatever the command left there: a pipe is not waited for.
                let read = files::open(&path).and_then(|file| file.take(MOST).read_to_end(&mut text).on("read", &path));
                if let Err(FileError { source, .. }) = read {
                    return Err(Finding::NoFile { file: file.as_written(), error: source.to_string() });
                }
                (Looked::File { file: file.as_written() }, String::from_utf8_lossy(&text).into_owned())
            }
        })
    }

    fn lacks(&self, stream: Stream, text: &str, pattern: &Pattern) -> Option<Finding> {
        let looked = if stream == Stream::Output { Looked::Output } else { Looked::Error };
        self.lacks_in(&looked, &self.without_harmless(text), pattern)
    }

    fn lacks_in(&self, looked: &Looked, text: &str, pattern: &Pattern) -> Option<Finding> {
        let regex = pattern.regex_with(self.value);
        let Some(found) = regex.captures(text) else {
            return Some(Finding::NoMatch { looked: looked.clone(), pattern: pattern.as_str().to_owned() });
        };
        let said = found.name("version")?.as_str();
        let pinned = self.said?;
        (said != pinned).then(|| Finding::OtherVersion { said: said.to_owned(), pinned: pinned.to_owned() })
    }

    fn has(&self, looked: &Looked, text: &str, pattern: &Pattern) -> Option<Finding> {
        let found = pattern.regex_with(self.value).find(text)?.as_str().to_owned();
        Some(Finding::Unwanted { looked: looked.clone(), pattern: pattern.as_str().to_owned(), found })
    }

    fn has_not(&self, looked: &Looked, text: &str, pointer: &str, wanted: &Value) -> Option<Finding> {
        let at = |found: Option<String>, wanted: String| {
            Some(Finding::OtherValue { looked: looked.clone(), pointer: pointer.to_owned(), found, wanted })
        };
        let document: serde_json::Value = match serde_json::from_str(text) {
            Ok(document) => document,
            Err(error) => return Some(Finding::NoJson { looked: looked.clone(), error: error.to_string() }),
        };
        let found = document.pointer(pointer);
        let shown = || found.map(ToString::to_string);
        match wanted {
            Value::Any => found.is_none().then(|| at(None, "a value".to_owned())).flatten(),
            Value::Equals(value) => {
                if found == Some(value) {
                    None
                } else {
                    at(shown(), value.to_string())
                }
            }
            Value::Like(pattern) => {
                let text = found.and_then(|found| found.as_str().map(str::to_owned).or_else(shown));
                let is_like = text.is_some_and(|text| pattern.regex_with(self.value).is_match(&text));
                if is_like { None } else { at(shown(), format!("something like `{}`", pattern.as_str())) }
            }
        }
    }
}
