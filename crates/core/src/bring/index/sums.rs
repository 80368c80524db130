//! A folder with a file of checksums, as coreutils' `sha256sum` writes it, plain or tagged.

use super::{Listed, Sum, segments, text};
use crate::bring::fetch::{Document, resolved};

/// What the file is called.
const FILE: &str = "SHA256SUMS";

pub(super) fn url(address: &str, project: &str) -> String {
    format!("{address}{}/{FILE}", segments(project))
}

pub(super) fn list(document: &Document) -> Result<Vec<Listed>, String> {
    let listed = |line: &str| {
        let (digits, name) = tagged(line).or_else(|| plain(line))?;
        let url = resolved(&document.url, &segments(name))?;
        let sum = Some(Sum::Sha256(digits.parse().ok()?));
        Some(Listed { file: name.rsplit('/').next().unwrap_or(name).to_owned(), url, sum, ..Listed::default() })
    };
    let lines = text(document)?.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    let all: Vec<&str> = lines.collect();
    let listed: Vec<_> = all.iter().filter_map(|line| listed(line)).collect();
    if listed.is_empty() { Err(format!("no line of {FILE} has a digest and a name")) } else { Ok(listed) }
}

/// `DIGEST  NAME`, or `DIGEST *NAME`.
fn plain(line: &str) -> Option<(&str, &str)> {
    let (digits, name) = line.split_once(' ')?;
    Some((digits, name.trim_start_matches([' ', '*']).trim_start_matches("./"))).filter(|(_, name)| !name.is_empty())
}

/// `SHA256 (NAME) = DIGEST`.
fn tagged(line: &str) -> Option<(&str, &str)> {
    let (name, digits) = line.strip_prefix("SHA256 (")?.split_once(") = ")?;
    Some((digits, name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_ways_of_writing_are_read() {
        let sum = "cd".repeat(32);
        let text = format!("# files\n{sum} *./a b.tar.gz\nSHA256 (c.zip) = {sum}\nnothing\n");
        let url = "https://dist.example/1.2/SHA256SUMS".to_owned();
        let listed = list(&Document { url: url.clone(), kind: None, bytes: text.into_bytes() }).unwrap();
        let urls: Vec<_> = listed.iter().map(|file| file.url.as_str()).collect();
        assert_eq!(urls, ["https://dist.example/1.2/a%20b.tar.gz", "https://dist.example/1.2/c.zip"]);
        assert!(list(&Document { url, kind: None, bytes: b"<html>".to_vec() }).is_err());
    }
}
