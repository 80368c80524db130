//! `kladder landings` and `kladder back`

use std::process::ExitCode;
use std::time::Instant;

use kladder_core::climb::{self, Back, BackRequest};
use kladder_core::ladder::Ladder;
use kladder_core::landing::{Change, Landing, Landings};
use serde::Serialize;

use crate::args::BackOptions;
use crate::context::Context;
use crate::problem::{Code, Problem};
use crate::render::text::{FAINT, GOOD, STRONG, columns, count, shown, styled, time};
use crate::render::{Out, Progress};

/// Changes that fit on a line.
const SHOWN: usize = 3;

#[derive(Serialize)]
struct Shape {
    format: &'static str,
    ladder: String,
    landings: Vec<LandingShape>,
}

#[derive(Serialize)]
struct LandingShape {
    number: u32,
    made: String,
    current: bool,
    rungs: usize,
    changes: Vec<ChangeShape>,
    #[serde(skip)]
    first: bool,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    skipped_gates: Vec<String>,
}

#[derive(Serialize)]
struct ChangeShape {
    tool: String,
    was: Option<String>,
    now: Option<String>,
}

fn opened(context: &Context) -> Result<(Ladder, Landings), Problem> {
    let ladder = context.ladder()?;
    let landings = Landings::of(&context.home.ladders(), &ladder.path);
    Ok((ladder, landings))
}

pub(super) fn list(context: &Context, out: &Out) -> Result<ExitCode, Problem> {
    let (ladder, landings) = opened(context)?;
    let all = landings.all()?;
    let current = landings.current()?.map(|landing| landing.number);
    let mut shapes: Vec<LandingShape> = Vec::new();
    for (at, landing) in all.iter().enumerate() {
        let before = at.checked_sub(1).map(|before| &all[before]);
        shapes.push(shape(landing, before, current == Some(landing.number)));
    }
    shapes.reverse();
    if shapes.is_empty() {
        out.say("There is no landing yet; `kladder climb` makes the first.")?;
    } else {
        let rows = shapes.iter().map(row).collect();
        out.say(columns(&["landing", "made", "rungs", "what changed"], rows, &[0, 2]))?;
        if shapes.len() > 1 {
            out.say("\n`kladder back NUMBER` makes one of them current again, its pins too.")?;
        }
    }
    out.value(&Shape { format: "kladder.landings/1", ladder: ladder.path.display().to_string(), landings: shapes })?;
    Ok(ExitCode::SUCCESS)
}

fn shape(landing: &Landing, before: Option<&Landing>, current: bool) -> LandingShape {
    let change = |Change { tool, was, now }: Change| ChangeShape {
        tool,
        was: was.map(|version| version.to_string()),
        now: now.map(|version| version.to_string()),
    };
    LandingShape {
        number: landing.number,
        made: landing.made.to_string(),
        current,
        rungs: landing.rungs.len(),
        first: before.is_none(),
        changes: landing.changes_since(before).into_iter().map(change).collect(),
        skipped_gates: landing.skipped_gates.clone(),
    }
}

fn row(shape: &LandingShape) -> Vec<String> {
    let number = if shape.current { styled(GOOD, shape.number) } else { shape.number.to_string() };
    let made = shape.made.get(..16).unwrap_or(&shape.made).replace('T', " ") + " UTC";
    let mut told: Vec<String> = shape.changes.iter().take(SHOWN).map(sentence).collect();
    match shape.changes.len() {
        _ if shape.first => told = vec!["the first one".to_owned()],
        0 => told.push(styled(FAINT, "the same rungs")),
        all if all > SHOWN => told.push(format!("{} more", all - SHOWN)),
        _ => {}
    }
    if shape.current {
        told.push(styled(GOOD, "current"));
    }
    vec![number, made, shape.rungs.to_string(), told.join(", ")]
}

fn sentence(change: &ChangeShape) -> String {
    let tool = styled(STRONG, &change.tool);
    match (&change.was, &change.now) {
        (None, Some(now)) => format!("{tool} {now} came"),
        (Some(was), None) => format!("{tool} {was} left"),
        (Some(was), Some(now)) if was == now => format!("{tool} {now} made anew"),
        (was, now) => format!("{tool} from {} to {}", was.as_deref().unwrap_or("-"), now.as_deref().unwrap_or("-")),
    }
}

#[derive(Serialize)]
struct BackShape {
    format: &'static str,
    landing: u32,
    before: Option<u32>,
    ladder_differs: bool,
    seconds: f64,
}

pub(super) fn back(context: &Context, out: &Out, options: &BackOptions) -> Result<ExitCode, Problem> {
    let started = Instant::now();
    let (ladder, _) = opened(context)?;
    let request = BackRequest { number: options.number, with_ladder: options.with_ladder, wait: context.wait };
    let progress = Progress::new(out)?;
    let done = climb::back(&context.home, &ladder, &request, &progress);
    progress.finish();
    let Back { landing, before, ladder_differs } = done?;
    let took = started.elapsed();
    out.value(&BackShape {
        format: "kladder.back/1",
        landing: landing.number,
        before: before.as_ref().map(|before| before.number),
        ladder_differs,
        seconds: took.as_secs_f64(),
    })?;
    let number = styled(GOOD, format!("landing {}", landing.number));
    let title = styled(STRONG, &ladder.title);
    out.say(format!("{title} is at {number} again ({}), after {}.", count(landing.rungs.len(), "rung"), time(took)))?;
    out.say(format!("Its pins stand in {}.", shown(&ladder.pins_path())))?;
    if ladder_differs {
        out.say(format!(
            "{} is another one than it was then: where its wishes ask for it, the next climb moves rungs again. \
             `kladder back {} --with-ladder` puts that one back too.",
            shown(&ladder.path),
            landing.number
        ))?;
    }
    if options.with_ladder && ladder.path.with_added_extension("before").exists() {
        out.say(format!("The ladder as it was until now is kept in {}.before.", shown(&ladder.path)))?;
    }
    Ok(ExitCode::SUCCESS)
}

impl From<climb::BackError> for Problem {
    fn from(error: climb::BackError) -> Self {
        use climb::BackError;
        let problem = |code| Self::of(code, &error);
        match &error {
            BackError::NoSuch { there, .. } if there.is_empty() => {
                problem(Code::NotClimbed).next("`kladder climb` makes the first")
            }
            BackError::NoSuch { there, .. } => {
                let there: Vec<String> = there.iter().map(u32::to_string).collect();
                problem(Code::Usage)
                    .next(format!("there are {}; `kladder landings` tells what they are", there.join(", ")))
            }
            BackError::Nowhere { current: None } => problem(Code::NotClimbed).next("`kladder climb` makes the first"),
            BackError::Nowhere { .. } => problem(Code::Usage).next("`kladder landings` lists those that there are"),
            BackError::Cleared { .. } => {
                problem(Code::Failed).next("pin those versions (`kladder add TOOL =VERSION`) and climb")
            }
            BackError::Landing(error) => super::super::problem::landing(error),
            BackError::State(error) => super::super::problem::state(error),
            BackError::File(error) => Self::file(error),
        }
    }
}
