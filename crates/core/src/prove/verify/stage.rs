//! Services for a rehearsal: they are started for it alone, in a network of its own, with corners of its own that are made as the
//! ladder's were. What the person keeps in the ladder's is neither seen nor written, and nothing is in the way of a port.

use std::ffi::OsString;
use std::path::PathBuf;
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Rehearsal, Service};

use super::work::Asked;
use super::{Around, Bench, VerifyError};
use crate::base::event::{Event, Finding, Outcome, Output, Skipped, Subject, Verdict, check_cancelled};
use crate::base::files;
use crate::host::confine::Network;
use crate::host::process::{Lasting, Setting};
use crate::sys::{self, Shown};
use crate::tasks::launch::{Filling, filled};
use crate::tasks::{FitStep, Rung};

/// How often it is looked whether a service is ready.
const GLANCE: Duration = Duration::from_millis(30);
/// One that says nothing of itself is taken for ready once it has run so long.
const MOMENT: Duration = Duration::from_secs(1);

/// What a rehearsal finds in place of what is the ladder's own.
#[derive(Default)]
pub(super) struct Stage {
    /// Corners of its own.
    pub(super) shown: Vec<Shown>,
    /// Its services, which end with it.
    pub(super) running: Vec<(Subject, Lasting)>,
}

impl Bench<'_> {
    /// Sets a stage for a rehearsal; with it come the verdicts on what was started. Where one failed, the rehearsal cannot go on.
    pub(super) fn stage(
        &self,
        rehearsal: &Rehearsal,
        around: &Around<'_>,
    ) -> Result<(Stage, Vec<Verdict>), VerifyError> {
        let mut stage = Stage::default();
        if rehearsal.services.is_empty() {
            return Ok((stage, Vec::new()));
        }
        let whole = Subject::Rehearsal { rehearsal: rehearsal.rehearsal.clone(), step: None };
        let over = |outcome| Ok((Stage::default(), vec![self.conclude(whole.clone(), Instant::now(), outcome)]));
        if !matches!(around.network, Network::Room(_)) {
            let reason = "this system gives it no network of its own, and its services would meet those that run";
            return over(Outcome::Skipped(Skipped::PassedOver { reason: reason.to_owned() }));
        }
        let services = match self.wanted_services(rehearsal) {
            Ok(services) => services,
            Err(name) => {
                let error = "no rung of the ladder has such a service".to_owned();
                return over(Outcome::failed(Finding::NotStarted { command: name.to_owned(), error }));
            }
        };
        let mut verdicts = Vec::new();
        let mut made: Vec<&Rung> = Vec::new();
        for (rung, _) in &services {
            if made.iter().any(|one| one.key == rung.key) {
                continue;
            }
            made.push(rung);
            lay_corners(around, rung, &mut stage)?;
            for fit_out in rung.berth.iter().flat_map(|_| &rung.definition.says.fit_outs) {
                verdicts.push(self.fit_out_in(fit_out, FitStep::Do, rung, &stage.shown, around.nook)?);
            }
        }
        for (rung, service) in services {
            if verdicts.iter().any(Verdict::failed) {
                break;
            }
            verdicts.push(self.serve(rung, service, around, &mut stage)?);
        }
        Ok((stage, verdicts))
    }

    /// The services that a rehearsal names, after those of the rungs that they stand on.
    ///
    /// # Errors
    /// The name of one that there is not.
    fn wanted_services<'s>(&'s self, rehearsal: &'s Rehearsal) -> Result<Vec<(&'s Rung, &'s Service)>, &'s str> {
        let all =
            || self.rungs.iter().flat_map(|rung| rung.definition.says.services.iter().map(move |one| (rung, one)));
        let mut open = Vec::new();
        for name in &rehearsal.services {
            let found = all().find(|(_, service)| service.name == *name).ok_or(name.as_str())?;
            open.push(&found.0.key);
        }
        let mut needed = Vec::new();
        while let Some(key) = open.pop() {
            let rung = self.rungs.iter().find(|rung| rung.key == *key);
            for key in rung.into_iter().flat_map(|rung| &rung.needs) {
                if !needed.contains(&key) {
                    needed.push(key);
                    open.push(key);
                }
            }
        }
        let is_named = |service: &Service| rehearsal.services.contains(&service.name);
        Ok(all().filter(|(rung, service)| is_named(service) || needed.contains(&&rung.key)).collect())
    }

    fn serve(
        &self,
        rung: &Rung,
        service: &Service,
        around: &Around<'_>,
        stage: &mut Stage,
    ) -> Result<Verdict, VerifyError> {
        let started = Instant::now();
        let subject = Subject::Service { rung: rung.key.clone(), service: service.name.clone() };
        self.observer.event(&Event::Checking { subject: subject.clone() });
        let port = rung.ports.iter().find(|(name, _)| *name == service.name).map(|(_, port)| *port);
        let files = rung.files();
        let with = Filling { rung, folder: &files, place: &files, rungs: self.rungs, port };
        let run: Vec<OsString> = service.run.iter().map(|word| filled(word, &with)).collect();
        let mut variables = self.environment(&rung.key.household, around.nook);
        variables.extend(around.told.map(|told| ("KLADDER_STARTS".into(), told.into())));
        variables.extend(service.variables.iter().map(|(name, value)| (name.as_str().into(), filled(value, &with))));
        let mut cell = self.keeping.cell(self.writable(around), around.network, around.reads);
        cell.shown.clone_from(&stage.shown);
        let setting = Setting {
            run: &super::resolved(run, &variables),
            input: "",
            folder: &files,
            variables: &variables,
            limit: Duration::MAX,
            cell: Some(&cell),
            encloser: self.keeping.encloser(),
            watched: around.watched,
            most: None,
        };
        let mut process = match Lasting::start(&setting) {
            Ok(process) => process,
            Err(error) => {
                let command = service.run.first().map(ToString::to_string).unwrap_or_default();
                let failed = Finding::NotStarted { command, error: error.to_string() };
                return Ok(self.conclude(subject, started, Outcome::failed(failed)));
            }
        };
        let patience = Duration::from_secs(service.patience);
        let finding = loop {
            check_cancelled(self.observer)?;
            if let Some(status) = process.ended().ok().flatten() {
                break Some(Finding::EndedEarly { status });
            }
            let is_ready = match (&service.ready, port) {
                (Some(trial), _) => {
                    let asked = Asked { service: &service.name, rung, trial, port };
                    !self.ask_in(&asked, around.network, &stage.shown, around.nook)?.0.failed()
                }
                (None, Some(at)) => sys::ports::listens_in(around.network, at.port),
                (None, None) => started.elapsed() >= MOMENT,
            };
            if is_ready {
                break None;
            }
            if started.elapsed() > patience {
                break Some(Finding::NotReady { limit: service.patience });
            }
            thread::sleep(GLANCE);
        };
        let (stdout, stderr) = process.said();
        let outcome = match finding {
            None => Outcome::Passed,
            Some(finding) => {
                let output = Output::of(&[stdout, stderr].concat());
                self.known(Outcome::Failed { finding, output, causes: Vec::new() })
            }
        };
        stage.running.push((subject.clone(), process));
        Ok(self.conclude(subject, started, outcome))
    }

    /// Where what is run for a rehearsal may write.
    pub(super) fn writable(&self, around: &Around<'_>) -> Vec<PathBuf> {
        let here = [around.nook.to_path_buf(), around.folder.to_path_buf()];
        self.corners.iter().cloned().chain(here).collect()
    }
}

/// Makes empty corners for a rung, with the files of its first start.
fn lay_corners(around: &Around<'_>, rung: &Rung, stage: &mut Stage) -> Result<(), VerifyError> {
    let Some(berth) = &rung.berth else { return Ok(()) };
    let own = around.nook.join("stage").join(rung.key.folder_name());
    for (at, corner) in berth.corners().enumerate() {
        let own = own.join(at.to_string());
        files::create_folder(&own)?;
        stage.shown.push(Shown { own, at: corner });
    }
    for (path, text) in &rung.first_start {
        let Some(file) = berth.in_corner(path) else { continue };
        if let Some(own) = stage.shown.iter().find_map(|shown| shown.own_of(&file)) {
            files::create_folder(own.parent().unwrap_or(&own))?;
            files::replace(&own, text.as_bytes())?;
        }
    }
    Ok(())
}
