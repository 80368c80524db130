//! What commands of definitions are run for.

use serde::{Deserialize, Serialize};

/// What a command of a definition was run for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Work {
    /// To make the unpacked files whole, before they go to the shelf.
    SetUp,
    /// To make something once for a ladder.
    FitOut,
    /// To take away what was only half made for a ladder.
    Undo,
}
