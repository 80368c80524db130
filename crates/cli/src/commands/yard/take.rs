//! `kladder yard take`

use std::path::PathBuf;
use std::process::ExitCode;

use kladder_core::desk::take::{Taken, take};
use kladder_tell::problem::Problem;
use kladder_tell::shapes;
use kladder_tell::text::{bytes, clean};

use crate::context::Context;
use crate::render::text::{STRONG, TOLD, shown, styled};
use crate::render::{Out, Progress};

pub(super) fn run(context: &Context, files: &[PathBuf], out: &Out) -> Result<ExitCode, Problem> {
    let paths: Vec<PathBuf> = files.iter().map(|file| context.around.folder.join(file)).collect();
    let progress = Progress::new(out)?;
    let all = take(&context.around, &paths, &progress);
    progress.finish();
    out.value(&shapes::YardTaken::of(&all))?;
    let (mut first, mut pinned) = (None, false);
    for (path, taken) in all {
        match taken {
            Ok(Taken { tool, version, size, pinned: is_pinned, before }) => {
                pinned |= is_pinned;
                let what = format!("{} {}", styled(STRONG, clean(tool.as_str())), clean(version.as_str()));
                let was = if before { "was in the cache already" } else { "is in the cache now" };
                out.say(format!("{}, {}, is a file of {what}, and {was}.", shown(&path), bytes(size)))?;
            }
            Err(error) => {
                // Each is told; the first decides how this ends.
                let problem = Problem::from(error);
                match first {
                    None => first = Some(problem),
                    Some(_) => out.problem(&problem),
                }
            }
        }
    }
    match first {
        Some(problem) => Err(problem),
        None if pinned => {
            out.say(format!("Next: {}", styled(TOLD, "kladder climb")))?;
            Ok(ExitCode::SUCCESS)
        }
        None => Ok(ExitCode::SUCCESS),
    }
}
