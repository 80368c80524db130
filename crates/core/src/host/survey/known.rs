//! Tools that every survey asks after, whatever the catalog knows.

use super::Known;

/// Command and the arguments that make it say its version.
const USUAL: [(&str, &[&str]); 14] = [
    ("awk", &["-W", "version"]),
    ("bash", &["--version"]),
    ("bzip2", &["--version"]),
    ("c++", &["--version"]),
    ("cc", &["--version"]),
    ("curl", &["--version"]),
    ("git", &["--version"]),
    ("java", &["-version"]),
    ("ld", &["--version"]),
    ("make", &["--version"]),
    ("perl", &["--version"]),
    ("python3", &["--version"]),
    ("tar", &["--version"]),
    ("unzip", &["-v"]),
];

/// The usual tools; each says its version with numbers and dots somewhere.
pub fn usual() -> Vec<Known> {
    USUAL.iter().filter_map(|(command, _)| of(command)).collect()
}

/// A command with the arguments that make it say its version: `--version` for those that are not known better.
pub(super) fn of(command: &str) -> Option<Known> {
    let arguments = USUAL.iter().find(|(usual, _)| *usual == command).map_or(&["--version"][..], |(_, words)| words);
    // The pattern is fixed and was seen to compile; without it nothing is asked.
    let pattern = regex::Regex::new(r"(?<version>\d+\.\d+(?:\.\d+)*)").ok()?;
    let arguments = arguments.iter().map(|&argument| argument.to_owned()).collect();
    Some(Known { tool: command.to_owned(), command: command.to_owned(), arguments, pattern })
}
