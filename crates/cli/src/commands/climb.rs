//! `kladder climb`

use std::process::ExitCode;
use std::time::{Duration, Instant};

use kladder_core::climb::{Climbed, Request};
use kladder_core::landing::Landing;
use kladder_core::pins::Freshness;
use serde::Serialize;

use crate::args::ClimbOptions;
use crate::commands::pin;
use crate::context::{Context, Opened};
use crate::person::Person;
use crate::problem::Problem;
use crate::render::text::{GOOD, STRONG, count, shown, styled, time};
use crate::render::{Out, Progress};

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    changed: bool,
    landing: u32,
    commands: String,
    rungs: Vec<RungShape>,
    seconds: f64,
}

#[derive(Serialize)]
struct RungShape {
    tool: String,
    version: String,
    folder: String,
}

pub(super) fn run(context: &Context, out: &Out, options: &ClimbOptions) -> Result<ExitCode, Problem> {
    let started = Instant::now();
    let opened = context.open()?;
    let (pins, freshness) = opened.settle(context, out)?;
    if pin::write(&opened, &pins)? && freshness != Freshness::Current {
        out.say(format!("Pinned {} in {}.", count(pins.rungs.len(), "rung"), shown(&opened.ladder.pins_path())))?;
    }
    let progress = Progress::new(out)?;
    let site = opened.site(context, &pins);
    let request =
        Request { wait: context.wait, skip_gates: options.skip_gates.clone(), accept: options.accept.clone() };
    let person = Person::new(out, options.yes);
    let climbed = site.climb(&request, &person, &progress);
    progress.finish();
    let took = started.elapsed().saturating_sub(person.waited());
    if person.interrupted() {
        return Err(Problem::interrupted());
    }
    let (landing, changed) = match climbed? {
        Climbed::NothingToDo(landing) => (landing, false),
        Climbed::Landed(landing) => (landing, true),
    };
    let commands = site.landings().current_link().join("commands");
    out.value(&shape(&landing, changed, &commands, took))?;
    tell(&opened, &landing, changed, took, out)?;
    Ok(ExitCode::SUCCESS)
}

fn tell(opened: &Opened, landing: &Landing, changed: bool, took: Duration, out: &Out) -> Result<(), Problem> {
    let number = landing.number;
    if !changed {
        return out.say(format!("Nothing to do: landing {number} is what the pins say."));
    }
    let title = styled(STRONG, &opened.ladder.title);
    let took = time(took);
    out.say(format!("\n{title} is at {}, after {took}.", styled(GOOD, format!("landing {number}"))))?;
    out.say("Use its tools with `kladder run -- CMD`; prove that they work together with `kladder verify`.")
}

fn shape(landing: &Landing, changed: bool, commands: &std::path::Path, took: Duration) -> Shape {
    Shape {
        format: "kladder.climb/1",
        changed,
        landing: landing.number,
        commands: commands.display().to_string(),
        rungs: landing
            .rungs
            .iter()
            .map(|rung| RungShape {
                tool: rung.tool.clone(),
                version: rung.version.to_string(),
                folder: rung.folder.display().to_string(),
            })
            .collect(),
        seconds: took.as_secs_f64(),
    }
}
