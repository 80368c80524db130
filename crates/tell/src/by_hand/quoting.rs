//! Words for a shell, in which the folder of tools still counts.

use crate::text::shell_word;

/// What stands for the folder of tools.
pub(super) const TOOLS: &str = "$TOOLS";

/// A text in which some characters have a backslash before them, but for the name of the folder of tools.
pub(super) fn escaped(text: &str, which: &[char]) -> String {
    let plain = |part: &str| {
        let both = part.chars().flat_map(|char| [which.contains(&char).then_some('\\'), Some(char)]);
        both.flatten().collect::<String>()
    };
    text.split(TOOLS).map(plain).collect::<Vec<_>>().join(TOOLS)
}

/// A text inside of double quotes, in which the folder of tools still counts and nothing else (IEEE 1003.1, section 2.2.3).
pub(super) fn inside(text: &str) -> String {
    escaped(text, &['\\', '"', '`', '$'])
}

/// A word of a command line, in which the folder of tools still counts.
pub(super) fn word(text: &str) -> String {
    if text.contains(TOOLS) { format!("\"{}\"", inside(text)) } else { shell_word(text) }
}

/// A file's name, which no program takes for an option.
pub(super) fn plain(name: &str) -> String {
    if name.starts_with('-') { format!("./{name}") } else { name.to_owned() }
}
