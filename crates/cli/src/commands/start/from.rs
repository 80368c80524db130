//! A colleague's ladder.

use std::path::Path;

use kladder_core::desk::start::Colleague;
use kladder_tell::problem::Problem;

use crate::context::Context;

/// Puts the ladder that `source` names at `path`, with its pins and its catalog where there are any.
pub(super) fn take(context: &Context, source: &str, path: &Path) -> Result<(), Problem> {
    let colleague = Colleague::of(source, &context.around.folder)?;
    let network = context.around.network(&context.around.home.settings()?)?;
    Ok(colleague.take(&context.around, &network, path)?)
}
