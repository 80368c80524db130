//! Programs of a rehearsal that are asked over an open protocol, or sat before in a terminal.

use std::io;
use std::time::Instant;

use kladder_choose::catalog::{Step, Talk, Terminal};
use kladder_choose::names::Household;

use super::steps::failed;
use super::{Around, Bench, VerifyError, not_started};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Verdict, check_cancelled};
use crate::base::files;
use crate::host::process::Lasting;
use crate::prove::speak::{self, Said};
use crate::sys::Start;

/// Bytes of a file that a program is asked about.
const LONGEST: u64 = 16 << 20;

impl Bench<'_> {
    /// Talks to a program over its protocol, with a verdict for each thing it is asked.
    pub(super) fn talked(
        &self,
        subject: &Subject,
        step: &Step,
        talk: &Talk,
        around: &Around<'_>,
        starts: &mut Option<Vec<Start>>,
    ) -> Result<Vec<Verdict>, VerifyError> {
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let begun = self.begun(&step.trial, &Household::shared(), None, around)?;
        let failed_to = |finding| Ok(vec![self.conclude(subject.clone(), started, Outcome::failed(finding))]);
        let file = match talk {
            Talk::LanguageServer(ask) => &ask.file,
            Talk::DebugAdapter(ask) => &ask.file,
        };
        let Some(text) = files::text_of_at_most(&file.below(around.folder), LONGEST) else {
            let error = "it is no text, or too long".to_owned();
            return failed_to(Finding::NoFile { file: file.to_string(), error });
        };
        let (mut process, input) = match Lasting::talking(&self.setting(&begun, &step.trial, around)) {
            Ok(talking) => talking,
            Err(error) => return failed_to(not_started(&step.trial, &error)),
        };
        let mut open = speak::Talk::new(&mut process, input, step.limit);
        let heard = match talk {
            Talk::LanguageServer(ask) => speak::serve(&mut open, ask, around.folder, &text),
            Talk::DebugAdapter(ask) => speak::debug(&mut open, ask, around.folder, &text),
        };
        drop(open);
        check_cancelled(self.observer)?;
        *starts = process.starts();
        Ok(self.told(subject, heard, |finding| failed(finding, &process)))
    }

    /// Sits before a program in a terminal; the screen is told where something is not as it should be.
    pub(super) fn sat(
        &self,
        subject: &Subject,
        terminal: &Terminal,
        step: &Step,
        around: &Around<'_>,
        starts: &mut Option<Vec<Start>>,
    ) -> Result<Vec<Verdict>, VerifyError> {
        let started = Instant::now();
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let mut begun = self.begun(&step.trial, &Household::shared(), None, around)?;
        begun.variables.push(("TERM".into(), terminal.kind.clone().into()));
        let opened = Lasting::in_terminal(&self.setting(&begun, &step.trial, around), terminal.size);
        let (mut process, keys) = match opened {
            Ok(opened) => opened,
            Err(error) if error.kind() == io::ErrorKind::Unsupported => {
                let reason = "this system gives it no terminal".to_owned();
                let skipped = Outcome::Skipped(Skipped::PassedOver { reason });
                return Ok(vec![self.conclude(subject.clone(), started, skipped)]);
            }
            Err(error) => {
                let failed = Outcome::failed(not_started(&step.trial, &error));
                return Ok(vec![self.conclude(subject.clone(), started, failed)]);
            }
        };
        let (heard, screen) = speak::sit(&mut process, keys, terminal, step.limit, &|| self.observer.cancelled());
        check_cancelled(self.observer)?;
        *starts = process.starts();
        let failed = |finding| Outcome::Failed { finding, output: Output::of(&screen), causes: Vec::new() };
        Ok(self.told(subject, heard, failed))
    }

    /// What was heard, as verdicts.
    fn told(&self, subject: &Subject, heard: Vec<Said>, failed: impl Fn(Finding) -> Outcome) -> Vec<Verdict> {
        let mut verdicts = Vec::new();
        for Said { claim, heard, took } in heard {
            let outcome = heard.map_or_else(|finding| self.known(failed(finding)), |()| Outcome::Passed);
            let verdict = Verdict { subject: subject.claiming(&claim), outcome, took };
            self.observer.event(&Event::Checked(verdict.clone()));
            verdicts.push(verdict);
        }
        verdicts
    }
}
