//! `kladder verify`

use std::process::ExitCode;

use kladder_core::base::files;
use kladder_core::climb::route::Route;
use kladder_core::climb::{Looking, Site, Verified};
use kladder_core::desk::{Desk, Misplaced};
use kladder_core::keep::landing::Recipes;
use kladder_core::keep::state::TaskName;
use kladder_core::prove::mend::{Mend, Way};
use kladder_core::tasks::Rung;
use kladder_tell::problem::{Code, Problem};
use kladder_tell::text::{clean, count};
use kladder_tell::{shapes, words};

use super::{climb, services, together, verdicts, wire};
use crate::args::{ClimbOptions, ServicesOptions, VerifyOptions};
use crate::context::Context;
use crate::person::Person;
use crate::render::text::{FAINT, shown, styled};
use crate::render::{Out, Progress, junit};

pub(super) fn run(context: &Context, out: &Out, options: &VerifyOptions) -> Result<ExitCode, Problem> {
    let (desk, pins, _) = context.open_pinned(out)?;
    let site = desk.site(&pins);
    let route = site.route()?;
    ensure_climbed(&route, &site)
        .map_err(|problem| problem.why("verify looks at a landing that is what the pins and the catalog say"))?;
    let progress = Progress::new(out)?;
    let looking =
        Looking { person: Some(&context.person), deep: options.deep, only: &options.only, jobs: options.jobs };
    let verified = site.verify(&route, looking, &progress);
    progress.finish();
    let verified = verified?;
    let shape = shapes::Verify::of(&verified, &route.rungs);
    let mends = if options.mend { doable(&verified) } else { Vec::new() };
    if mends.is_empty() {
        out.value(&shape)?;
        options.junit.as_deref().map_or(Ok(()), |file| junit::write(&shape, file))?;
    }
    tell(&verified, &shape, &route, options, out)?;
    tell_misplaced(&desk, out)?;
    if !mends.is_empty() {
        do_them(&mends, context, out, options.yes)?;
        out.say("")?;
        return run(context, out, &VerifyOptions { mend: false, ..options.clone() });
    }
    if shape.failed == 0 {
        return Ok(ExitCode::SUCCESS);
    }
    if !options.mend && !doable(&verified).is_empty() {
        let all = doable(&verified).iter().all(|mend| mend.way() == Way::Safe);
        let asks = if all { "" } else { ", and asks before it changes what is yours" };
        out.say(format!("`kladder verify --mend` does what helps here{asks}."))?;
    }
    Ok(Code::CheckFailed.into())
}

/// Libraries that another installer put where no set sees them.
fn tell_misplaced(desk: &Desk, out: &Out) -> Result<(), Problem> {
    const NAMED: usize = 3;
    let all = desk.misplaced_libraries();
    for (library, Misplaced { folder, version, .. }) in all.iter().take(NAMED) {
        let (library, version, folder) = (clean(library), clean(version), shown(folder));
        out.say(format!(
            "{library} {version} is in {folder}, too, where no set sees it: `kladder why {library}` tells more."
        ))?;
    }
    match all.len().saturating_sub(NAMED) {
        0 => Ok(()),
        more => out.say(format!("So it is with {more} more of the sets' libraries.")),
    }
}

/// What failed first, then all of it at a glance.
fn tell(
    verified: &Verified,
    shape: &shapes::Verify,
    route: &Route,
    options: &VerifyOptions,
    out: &Out,
) -> Result<(), Problem> {
    verdicts::show_reasons(shape, out)?;
    verdicts::show_rungs(route, &verified.verdicts, out)?;
    verdicts::show_rehearsals(&verified.verdicts, out)?;
    // Who worked with whom is no news beside a failure.
    if options.only.is_empty() && shape.failed == 0 {
        together::show(&shape.together, out)?;
    }
    if let Some(kept) = &verified.kept {
        out.say(styled(FAINT, format!("\nPrograms were {}.", words::confined(kept))))?;
    }
    out.say(format!("\n{}", verdicts::sentence(shape)))
}

/// What can be done about what failed, each once.
fn doable(verified: &Verified) -> Vec<Mend> {
    let mut all: Vec<Mend> = Vec::new();
    for mend in verified.verdicts.iter().filter_map(Mend::of) {
        let is_ours = mend.way() != Way::Person;
        if is_ours && !all.contains(&mend) {
            all.push(mend);
        }
    }
    all
}

fn do_them(mends: &[Mend], context: &Context, out: &Out, yes: bool) -> Result<(), Problem> {
    let quiet = out.without_values();
    for mend in mends {
        let Mend::Replace { path } = mend else { continue };
        let question = format!("Put the ladder's in the place of {}, which is kept beside it?", clean(&shown(path)));
        if yes || Person::new(out, false).agrees(&question) {
            std::fs::rename(path, files::free_beside(path)).map_err(|error| {
                Problem::new(Code::Failed, format!("{} cannot be moved", shown(path))).why(error.to_string())
            })?;
        }
    }
    if mends.iter().any(|mend| matches!(mend, Mend::Climb | Mend::Accept { .. } | Mend::Replace { .. })) {
        out.say("\nA climb brings anew what is damaged:\n")?;
        climb::run(context, &quiet, &ClimbOptions { yes: true, verified_afterwards: true, ..ClimbOptions::default() })?;
    }
    for mend in mends {
        let (Mend::Start { service } | Mend::Again { service }) = mend else { continue };
        let name = Some(service.clone());
        let question = format!("Stop and start the service {service}?");
        if matches!(mend, Mend::Again { .. }) && !yes && !Person::new(out, false).agrees(&question) {
            out.say(format!("\nThe service {} is left as it is.", clean(service)))?;
            continue;
        }
        out.say("")?;
        if matches!(mend, Mend::Again { .. }) {
            let stop = ServicesOptions { name: name.clone(), stop: true, ..ServicesOptions::default() };
            services::run(context, &quiet, &stop)?;
        }
        services::run(context, &quiet, &ServicesOptions { name, start: true, ..ServicesOptions::default() })?;
    }
    if mends.contains(&Mend::Wire) {
        out.say("\nThe shells are wired again:\n")?;
        wire::put(context, &quiet, &[], yes)?;
    }
    Ok(())
}

/// A landing that is another one than the pins say would be verified against what it never was. What is damaged is what
/// verifying is for, and new checks can be tried on what is there.
pub(super) fn ensure_climbed(route: &Route, site: &Site<'_>) -> Result<(), Problem> {
    let landing = site.landings().usable();
    let made = |recipes: &Recipes| -> Recipes {
        recipes.iter().filter(|(task, _)| **task != TaskName::Check).map(|(task, recipe)| (*task, *recipe)).collect()
    };
    let stands = |rung: &&Rung| {
        let landed = landing.as_ref().and_then(|landing| landing.rung(&rung.key));
        landed.is_some_and(|landed| made(&landed.recipes) == made(&rung.recipes()))
    };
    let missing: Vec<_> = route.rungs.iter().filter(|rung| !stands(rung)).collect();
    let Some(first) = missing.first() else { return Ok(()) };
    let rungs = count(missing.len(), "rung");
    let to_climb = if missing.len() == 1 { "is to be climbed" } else { "are to be climbed" };
    Err(Problem::new(Code::NotClimbed, format!("{rungs} {to_climb}, {} first of all", first.key))
        .at(&site.ladder.path)
        .next("`kladder climb`"))
}
