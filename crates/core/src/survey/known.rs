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
    // The pattern is fixed and was seen to compile; without it nothing is asked.
    let Ok(pattern) = regex::Regex::new(r"(?<version>\d+\.\d+(?:\.\d+)*)") else { return Vec::new() };
    let known = |&(command, arguments): &(&str, &[&str])| Known {
        tool: command.to_owned(),
        command: command.to_owned(),
        arguments: arguments.iter().map(|&argument| argument.to_owned()).collect(),
        pattern: pattern.clone(),
    };
    USUAL.iter().map(known).collect()
}
