//! The text of a release, and its place in a definition: everything that stands there stays as it is, byte for byte.

use std::fmt::Write as _;

use kladder_choose::digest::Digest;

/// A file as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct FileBlock {
    pub(super) scopes: Vec<String>,
    pub(super) file: String,
    pub(super) size: u64,
    pub(super) sha256: Digest,
    /// What the file of the release before says besides, as it is written there.
    pub(super) more: Vec<String>,
    pub(super) also: Vec<FileBlock>,
}

/// A piece as it is written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct PieceBlock {
    pub(super) name: String,
    /// What it says besides its files.
    pub(super) more: Vec<String>,
    pub(super) files: Vec<FileBlock>,
}

/// A release as it is written.
pub(super) fn release(
    version: &str,
    date: Option<&str>,
    more: &[String],
    files: &[FileBlock],
    pieces: &[PieceBlock],
) -> String {
    let mut text = format!("[[releases]]\nversion = {}\n", quoted(version));
    if let Some(date) = date {
        let _ = writeln!(text, "date = {date}");
    }
    for line in more {
        let _ = writeln!(text, "{line}");
    }
    text.push_str(&artifacts("releases", files));
    for PieceBlock { name, more, files } in pieces {
        let table = format!("releases.pieces.{}", key(name));
        let _ = writeln!(text, "[{table}]");
        for line in more {
            let _ = writeln!(text, "{line}");
        }
        text.push_str(&artifacts(&table, files));
    }
    text
}

fn artifacts(table: &str, files: &[FileBlock]) -> String {
    let mut text = String::new();
    for file in files {
        let _ = writeln!(text, "[[{table}.artifacts]]");
        if file.scopes != ["any"] && !file.scopes.is_empty() {
            let scopes: Vec<String> = file.scopes.iter().map(|scope| quoted(scope)).collect();
            let _ = writeln!(text, "for = [{}]", scopes.join(", "));
        }
        text.push_str(&lines(file));
        for further in &file.also {
            let _ = writeln!(text, "[[{table}.artifacts.also]]");
            text.push_str(&lines(further));
        }
    }
    text
}

fn lines(file: &FileBlock) -> String {
    let more: String = file.more.iter().map(|line| format!("{line}\n")).collect();
    let FileBlock { file, size, sha256, .. } = file;
    format!("file = {}\nsize = {}\nsha256 = \"{sha256}\"\n{more}", quoted(file), grouped(*size))
}

/// A number with its thousands apart.
fn grouped(number: u64) -> String {
    let digits = number.to_string();
    let first = digits.len() % 3;
    let (front, rest) = digits.split_at(first);
    let parts = rest.as_bytes().chunks(3).map(|three| String::from_utf8_lossy(three).into_owned());
    std::iter::once(front.to_owned()).filter(|front| !front.is_empty()).chain(parts).collect::<Vec<_>>().join("_")
}

/// A name as a key, quoted where it must be.
pub(super) fn key(name: &str) -> String {
    let is_bare = name.chars().all(|c| c.is_ascii_alphanumeric() || "-_".contains(c));
    if is_bare { name.to_owned() } else { quoted(name) }
}

pub(super) fn quoted(text: &str) -> String {
    toml::Value::String(text.to_owned()).to_string()
}

/// Puts a block in front of the first release, or of the one it is older than; at the end where there is none.
pub(super) fn inserted(text: &str, block: &str, before: Option<usize>) -> String {
    let mut at = before.unwrap_or(text.len());
    // Comments right above a release are its own.
    while let Some(line) = text[..at].strip_suffix('\n').map(|front| front.rfind('\n').map_or(0, |end| end + 1)) {
        if !text[line..at].starts_with('#') || before.is_none() {
            break;
        }
        at = line;
    }
    let (front, back) = text.split_at(at);
    let front_gap = if front.is_empty() || front.ends_with("\n\n") {
        ""
    } else if front.ends_with('\n') {
        "\n"
    } else {
        "\n\n"
    };
    let back_gap = if back.is_empty() { "" } else { "\n" };
    [front, front_gap, block, back_gap, back].concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_block_goes_in_front_and_nothing_else_moves() {
        let old = "tool = \"x\"   # kept\n\n# the old one\n[[releases]]\nversion = \"1\"\n";
        let at = old.find("[[releases]]");
        let new = inserted(old, "[[releases]]\nversion = \"2\"\n", at);
        assert_eq!(
            new,
            "tool = \"x\"   # kept\n\n[[releases]]\nversion = \"2\"\n\n# the old one\n[[releases]]\nversion = \"1\"\n"
        );
        assert_eq!(inserted("tool = \"x\"", "[[releases]]\n", None), "tool = \"x\"\n\n[[releases]]\n");
        assert_eq!([7, 1234, 1_234_567].map(grouped), ["7", "1_234", "1_234_567"]);
    }
}
