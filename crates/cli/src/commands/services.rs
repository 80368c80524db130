//! `kladder services`

use std::process::ExitCode;

use kladder_core::climb::Site;
use kladder_core::serve::{Place, ServeError, Serving};
use kladder_tell::problem::{Code, Problem};
use kladder_tell::shapes;
use kladder_tell::text::{clean, count, time};

use super::verify::ensure_climbed;
use crate::args::ServicesOptions;
use crate::context::Context;
use crate::render::text::{BAD, FAINT, GOOD, STRONG, TOLD, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, out: &Out, options: &ServicesOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let site = desk.site(&pins);
    let route = site.route()?;
    let left = site.services_left(&route);
    if let Err(problem) = ensure_climbed(&route, &site) {
        // What runs can be stopped, whatever it has become.
        return if options.stop { stop_all(&site, options, out) } else { Err(problem.why(NEEDS_A_LANDING)) };
    }
    let progress = Progress::new(out)?;
    let done = site.with_services(&route, &progress, |serving| {
        if options.start {
            start(serving, options, &progress, out)
        } else if options.stop {
            stop(serving, &left, options, &progress, out)
        } else {
            look(serving, &left, options, out)
        }
    });
    progress.finish();
    done?
}

const NEEDS_A_LANDING: &str = "services run from a landing that is what the pins and the catalog say";

/// Stops what runs of a ladder that is not climbed as it stands.
fn stop_all(site: &Site<'_>, options: &ServicesOptions, out: &Out) -> Result<ExitCode, Problem> {
    let progress = Progress::new(out)?;
    let is_meant = |name: &str| options.name.as_deref().is_none_or(|wanted| wanted == name);
    let mut stopped = Vec::new();
    for (name, place) in site.services_that_run().into_iter().filter(|(name, _)| is_meant(name)) {
        place.end(PATIENCE, &progress).map_err(ServeError::from)?;
        stopped.push(name);
    }
    progress.finish();
    say_stopped(&stopped, out)?;
    out.value(&shapes::Services { format: shapes::Services::FORMAT, services: Vec::new(), left: Vec::new() })?;
    Ok(ExitCode::SUCCESS)
}

fn say_stopped(stopped: &[String], out: &Out) -> Result<(), Problem> {
    for name in stopped {
        out.say(format!("{} is stopped.", styled(STRONG, clean(name))))?;
    }
    if stopped.is_empty() { out.say("None of them ran.") } else { Ok(()) }
}

/// The services that are meant: the one that is named, else all.
fn meant(serving: &Serving<'_>, options: &ServicesOptions) -> Vec<String> {
    match &options.name {
        Some(name) => vec![name.clone()],
        None => serving.all.iter().map(|served| served.service.name.clone()).collect(),
    }
}

fn start(
    serving: &Serving<'_>,
    options: &ServicesOptions,
    progress: &Progress,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let started = serving.start(&meant(serving, options), progress);
    progress.finish();
    for one in started? {
        let name = styled(STRONG, clean(&one.name));
        let port = serving.named(&one.name)?.port.map(|at| format!(" on port {}", at.port)).unwrap_or_default();
        let after = time(one.took);
        out.say(if one.ran {
            format!("{name} runs already{port}.")
        } else {
            format!("{name} is ready{port}, after {after}.")
        })?;
    }
    told(serving, &[], options, out)?;
    Ok(ExitCode::SUCCESS)
}

fn stop(
    serving: &Serving<'_>,
    left: &[(String, Place)],
    options: &ServicesOptions,
    progress: &Progress,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let is_meant = |name: &str| options.name.as_deref().is_none_or(|wanted| wanted == name);
    let mut stopped = Vec::new();
    for (name, place) in left.iter().filter(|(name, _)| is_meant(name)) {
        place.end(PATIENCE, progress).map_err(ServeError::from)?;
        stopped.push(name.clone());
    }
    let names = match &options.name {
        Some(name) if stopped.contains(name) => Vec::new(),
        _ => meant(serving, options),
    };
    stopped.extend(serving.stop(&names, progress)?);
    progress.finish();
    say_stopped(&stopped, out)?;
    told(serving, left, options, out)?;
    Ok(ExitCode::SUCCESS)
}

/// How long one that the ladder no longer has may take to end.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(30);

fn look(
    serving: &Serving<'_>,
    left: &[(String, Place)],
    options: &ServicesOptions,
    out: &Out,
) -> Result<ExitCode, Problem> {
    let all = told(serving, left, options, out)?;
    if let Some(name) = &options.name {
        return one(serving, name, &all, out);
    }
    if all.services.is_empty() && left.is_empty() {
        out.say("No rung of this ladder has a service.")?;
        return Ok(ExitCode::SUCCESS);
    }
    let row = |one: &shapes::Service| {
        let port = one.port.map(|port| port.to_string()).unwrap_or_default();
        vec![styled(STRONG, clean(&one.service)), state(one), port, clean(&one.rung), styled(FAINT, note(one))]
    };
    out.say(out.columns(&["service", "state", "port", "of", ""], all.services.iter().map(row).collect(), &[2]))?;
    for (name, _) in left {
        out.say(format!("{} runs, and the ladder no longer has it.", styled(STRONG, clean(name))))?;
    }
    let is_stopped = |one: &shapes::Service| one.state == "stopped";
    let what = if all.services.iter().any(is_stopped) { "start" } else { "stop" };
    out.say(format!("\nTo {what} them, or one by its NAME: {}", styled(TOLD, format!("kladder services --{what}"))))?;
    Ok(ExitCode::SUCCESS)
}

/// Tells programs of those that are meant.
fn told(
    serving: &Serving<'_>,
    left: &[(String, Place)],
    options: &ServicesOptions,
    out: &Out,
) -> Result<shapes::Services, Problem> {
    let names = meant(serving, options);
    let is_left = options.name.as_ref().is_some_and(|name| left.iter().any(|(left, _)| left == name));
    let mut services = Vec::new();
    for name in names.iter().filter(|_| !is_left) {
        let served = serving.named(name)?;
        let standing = serving.standing(served).map_err(ServeError::from)?;
        services.push(shapes::Service::of(served, &standing, served.is_old(serving)));
    }
    let left = left.iter().map(|(name, _)| name.clone()).collect();
    let shape = shapes::Services { format: shapes::Services::FORMAT, services, left };
    out.value(&shape)?;
    Ok(shape)
}

fn state(one: &shapes::Service) -> String {
    match one.state.as_str() {
        "ready" => styled(GOOD, "ready"),
        "failing" | "left" => styled(BAD, &one.state),
        state => state.to_owned(),
    }
}

/// What else there is to say in a line.
fn note(one: &shapes::Service) -> String {
    let mut notes = Vec::new();
    if one.restarts > 0 {
        notes.push(format!(
            "started again {}",
            if one.restarts == 1 { "once".to_owned() } else { format!("{} times", one.restarts) }
        ));
    }
    if let (Some(holder), true) = (&one.held_by, one.state == "stopped") {
        notes.push(format!("its port is taken by {} (process {})", clean(&holder.name), holder.process));
    }
    if let Some(again) = &one.again {
        notes.push(format!("is started again at {again}"));
    }
    match one.starts_with_session {
        Some(true) => notes.push("starts with your session".to_owned()),
        Some(false) => notes.push("cannot start with your session: this system has no user services".to_owned()),
        None => {}
    }
    if one.reachable {
        notes.push("other machines can reach it".to_owned());
    }
    if one.is_open {
        notes.push("other machines can reach it, which the ladder does not want".to_owned());
    }
    if one.is_old {
        notes.push("runs as it was before the last climb; start it anew".to_owned());
    }
    notes.join("; ")
}

/// One service: how it stands, what it says itself, what it wrote.
fn one(serving: &Serving<'_>, name: &str, all: &shapes::Services, out: &Out) -> Result<ExitCode, Problem> {
    let Some(shape) = all.services.first() else {
        out.say(format!("{} runs, and the ladder no longer has it.", styled(STRONG, clean(name))))?;
        return Ok(ExitCode::SUCCESS);
    };
    let served = serving.named(name)?;
    let port = shape.port.map(|port| format!(", port {port}")).unwrap_or_default();
    let note = Some(note(shape)).filter(|note| !note.is_empty()).map(|note| format!(" ({note})")).unwrap_or_default();
    out.say(format!("{} of {}: {}{port}{note}", styled(STRONG, clean(name)), shape.rung, state(shape)))?;
    if let Some(ended) = &shape.ended {
        out.say(format!("  ended the last time: {}", clean(ended)))?;
    }
    if shape.state == "ready"
        && let Some((verdict, said)) = serving.asked(served).map_err(ServeError::from)?
    {
        let head = if verdict.failed() { styled(BAD, "does not say well of itself") } else { "says".to_owned() };
        let rest = match (verdict.failed(), said.trim().is_empty()) {
            (_, false) => ":",
            (false, true) => " nothing",
            (true, true) => "",
        };
        out.say(format!("  {head}{rest}"))?;
        said.lines().try_for_each(|line| out.say(format!("    {}", clean(line))))?;
    }
    let wrote = served.place.said();
    if !wrote.is_empty() {
        out.say(format!("  wrote last ({}):", count(wrote.lines().count(), "line")))?;
        wrote.lines().try_for_each(|line| out.say(format!("    {}", styled(FAINT, clean(line)))))?;
    }
    Ok(if matches!(shape.state.as_str(), "ready" | "stopped" | "starting") {
        ExitCode::SUCCESS
    } else {
        Code::ServiceFailed.into()
    })
}
