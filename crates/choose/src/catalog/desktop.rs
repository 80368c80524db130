//! What a graphical tool shows on the desktop.
//!
//! ```toml
//! [[desktop]]
//! name = "Whimbrow"
//! command = "whimbrow"                       # one of its commands; what it opens follows
//! icon = "share/whimbrow.png"                # a file of the tool
//! categories = ["Development", "TextEditor"] # of the Desktop Menu Specification
//! terminal = false                           # whether it wants one
//! window = '^Whimbrow'                      # the title of its window, so that `verify` sees it come up
//! opens = { "text/x-skerrow" = "*.skw" }     # types of files, and how their names look; "" for a type that is known
//! ```

use std::collections::BTreeMap;

use serde::Deserialize;

use super::{CommandName, Pattern};
use crate::path::InnerPath;

/// An entry in the menu of programs (Desktop Entry Specification 1.5).
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct DesktopEntry {
    /// What it is called there.
    #[serde(deserialize_with = "line")]
    pub name: String,
    /// The command that it starts.
    pub command: CommandName,
    /// Its icon, below the tool's folder.
    #[serde(default)]
    pub icon: Option<InnerPath>,
    /// Where in the menu it stands.
    #[serde(default)]
    pub categories: Vec<Word>,
    /// Whether it is started in a terminal.
    #[serde(default)]
    pub terminal: bool,
    /// What the title of its window is like once it has come up.
    #[serde(default)]
    pub window: Option<Pattern>,
    /// The types of files that it opens, and how their names look; nothing for a type that systems know.
    #[serde(default)]
    pub opens: BTreeMap<Word, String>,
}

/// A category of the menu, or a type of files: letters, digits, and `-+./_`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
#[serde(try_from = "String")]
pub struct Word(String);

impl Word {
    /// The word.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Word {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        let is_plain = |char: char| char.is_ascii_alphanumeric() || "-+./_".contains(char);
        if !text.is_empty() && text.chars().all(is_plain) {
            Ok(Self(text))
        } else {
            Err(format!("`{text}` is no such word"))
        }
    }
}

fn line<'de, D: serde::Deserializer<'de>>(deserializer: D) -> Result<String, D::Error> {
    let text = String::deserialize(deserializer)?;
    if text.trim().is_empty() || text.contains(char::is_control) {
        return Err(serde::de::Error::custom("a name in the menu is one line"));
    }
    Ok(text)
}
