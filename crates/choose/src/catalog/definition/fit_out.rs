//! Fit-outs: what a rung needs done once for each ladder, in its corners, after it stands.
//!
//! ```toml
//! corners = ["devices"]
//! [[fit-outs]]
//! name = "a buoy to try programs on"
//! done = { run = ["seichebox", "list"], expect = { stdout = '^buoy-1$' } }   # how to see that it is there
//! do = { run = ["seichebox", "make", "buoy-1"], limit = 60 }
//! undo = { run = ["seichebox", "remove", "buoy-1"] }                          # of what was only half done
//! network = false                                                             # whether `do` may use it
//! ```

use serde::Deserialize;

use super::super::Trial;

/// Something that is made once for each ladder.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FitOut {
    /// What is there afterwards, in words.
    pub name: String,
    /// How to see that it is done.
    pub done: Trial,
    /// How it is done.
    #[serde(rename = "do")]
    pub run: Trial,
    /// How what was only half done is taken away, before it is done anew.
    pub undo: Option<Trial>,
    /// Whether doing it uses the network.
    #[serde(default)]
    pub network: bool,
}

impl FitOut {
    /// Its commands, in the order in which they may be needed.
    pub fn trials(&self) -> impl Iterator<Item = &Trial> {
        [&self.done, &self.run].into_iter().chain(&self.undo)
    }
}
