//! A program in a terminal of its own, whose keys are pressed and whose screen is read.
//!
//! ```toml
//! [[steps]]
//! run = ["whimbrow", "gauge.skw"]
//! reaches-nobody = true                        # it may not even try to
//! [steps.terminal]
//! size = [100, 30]                             # columns and lines; [80, 24] if left out
//! kind = "vt100"                               # what programs know it as (terminfo); "xterm" if left out
//! never = 'Continue\?'                         # its screen is never like this
//! does = [                                     # in order
//!     { shows = 'begins no statement' },       # it is waited for until the screen is like this
//!     { presses = ["Escape", "Ctrl+o"] },
//!     { types = ":quit" },
//!     { presses = ["Enter"], ends = true },    # and the program ends by that
//! ]
//! ```

use serde::Deserialize;

use crate::catalog::Pattern;

/// What is done in a terminal.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Terminal {
    /// Columns and lines.
    #[serde(default = "usual")]
    pub size: (u16, u16),
    /// What programs know it as: a name of terminfo(5).
    #[serde(default = "xterm")]
    pub kind: String,
    /// What its screen must never be like.
    pub never: Option<Pattern>,
    /// What is done, in order.
    pub does: Vec<Deed>,
}

fn usual() -> (u16, u16) {
    (80, 24)
}

fn xterm() -> String {
    "xterm".to_owned()
}

impl Terminal {
    /// The same with words filled in where something is typed.
    #[must_use]
    pub(super) fn filled(&self, fill: &dyn Fn(&str) -> String) -> Self {
        let mut terminal = self.clone();
        terminal.does.iter_mut().filter_map(|deed| deed.types.as_mut()).for_each(|text| *text = fill(text));
        terminal
    }

    /// What no single value shows to be wrong.
    pub(super) fn check(&self) -> Result<(), &'static str> {
        let (columns, lines) = self.size;
        if !(20..=500).contains(&columns) || !(4..=200).contains(&lines) {
            return Err("a terminal has 20 to 500 columns and 4 to 200 lines");
        }
        if !self.does.iter().any(|deed| deed.shows.is_some()) {
            return Err("of a terminal something is looked for: `shows`");
        }
        let is_one = |deed: &Deed| {
            let said = [deed.shows.is_some(), deed.types.is_some(), !deed.presses.is_empty()];
            said.iter().filter(|said| **said).count() == 1
        };
        if self.does.iter().all(is_one) { Ok(()) } else { Err("a deed is one of `shows`, `types`, `presses`") }
    }
}

/// One thing that is done.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Deed {
    /// What it proves, in words, where it is waited for something.
    pub name: Option<String>,
    /// It is waited for until the screen is like this.
    pub shows: Option<Pattern>,
    /// Text that is typed.
    pub types: Option<String>,
    /// Keys that are pressed.
    #[serde(default)]
    pub presses: Vec<Key>,
    /// The program ends then.
    #[serde(default)]
    pub ends: bool,
}

/// A key, as the bytes that a terminal sends for it (ECMA-48; the cursor and editing keys as xterm's documentation, "Control
/// Sequences", has them).
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub struct Key(Vec<u8>);

impl Key {
    /// What is sent for it.
    pub fn bytes(&self) -> &[u8] {
        &self.0
    }
}

impl TryFrom<String> for Key {
    type Error = String;

    fn try_from(name: String) -> Result<Self, String> {
        let named: &[u8] = match name.as_str() {
            "Enter" => b"\r",
            "Escape" => b"\x1b",
            "Tab" => b"\t",
            "Backspace" => b"\x7f",
            "Space" => b" ",
            "Up" => b"\x1b[A",
            "Down" => b"\x1b[B",
            "Right" => b"\x1b[C",
            "Left" => b"\x1b[D",
            "Home" => b"\x1b[H",
            "End" => b"\x1b[F",
            "Delete" => b"\x1b[3~",
            "PageUp" => b"\x1b[5~",
            "PageDown" => b"\x1b[6~",
            other => return with_another(other).map(Self),
        };
        Ok(Self(named.to_vec()))
    }
}

/// A key that is held with another one: the control characters, and those with an escape before.
fn with_another(name: &str) -> Result<Vec<u8>, String> {
    let single = |text: &str| text.bytes().next().filter(|byte| text.len() == 1 && byte.is_ascii_graphic());
    let control = name.strip_prefix("Ctrl+").map(|key| if key == "Space" { "@" } else { key }).and_then(single);
    if let Some(byte) = control.map(|byte| byte.to_ascii_uppercase()).filter(|byte| (b'@'..=b'_').contains(byte)) {
        return Ok(vec![byte & 0x1f]);
    }
    match name.strip_prefix("Alt+").and_then(single) {
        Some(byte) => Ok(vec![0x1b, byte]),
        None => {
            Err(format!("`{name}` is no key: `Enter`, `Escape`, `Tab`, `Up`, `Ctrl+x` and `Alt+x` are; text is typed"))
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_what_a_terminal_sends_for_them() {
        let bytes = |name: &str| Key::try_from(name.to_owned()).map(|key| key.0);
        let known: [(&str, &[u8]); 6] = [
            ("Enter", b"\r"),
            ("Ctrl+x", b"\x18"),
            ("Ctrl+Space", b"\0"),
            ("Ctrl+]", b"\x1d"),
            ("Alt+x", b"\x1bx"),
            ("Up", b"\x1b[A"),
        ];
        for (name, wanted) in known {
            assert_eq!(bytes(name).as_deref(), Ok(wanted), "{name}");
        }
        for wrong in ["x", "", "Ctrl+", "Ctrl+ab", "Ctrl+1", "Alt+\u{e9}", "enter"] {
            assert!(bytes(wrong).is_err(), "{wrong}");
        }
    }
}
