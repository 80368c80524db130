//! The Python Simple Repository API: PEP 503 (pages), PEP 691 (JSON), PEP 629 (its version), PEP 592 (what was taken back), PEP 700
//! (sizes and dates). Names of files are those of the binary and source distribution formats.

use std::collections::BTreeMap;

use kladder_choose::sets::normalised;
use serde::Deserialize;

use super::html::{is_page, links};
use super::{Beside, Listed, Sum, day, last_segment, segments, text};
use crate::bring::fetch::{Document, resolved};

/// JSON is what we would rather have; a page will do.
pub(super) const ACCEPT: &str =
    "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html;q=0.2, text/html;q=0.01";

pub(super) fn url(address: &str, project: &str) -> String {
    format!("{address}{}/", segments(&normalised(project)))
}

#[derive(Deserialize)]
struct Answer {
    meta: Meta,
    name: String,
    files: Vec<File>,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Meta {
    api_version: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct File {
    filename: String,
    url: String,
    #[serde(default)]
    hashes: BTreeMap<String, String>,
    size: Option<u64>,
    upload_time: Option<String>,
    requires_python: Option<String>,
    #[serde(alias = "dist-info-metadata", alias = "data-dist-info-metadata")]
    core_metadata: Option<BesideForm>,
    #[serde(default)]
    yanked: Yanked,
}

/// Whether, or why.
#[derive(Deserialize)]
#[serde(untagged)]
enum Yanked {
    Whether(bool),
    Why(#[allow(dead_code, reason = "that it is said is what counts")] String),
}

/// Whether what a wheel says of itself lies beside it, or with which digests (PEP 658, 714).
#[derive(Deserialize)]
#[serde(untagged)]
enum BesideForm {
    Whether(bool),
    Sums(BTreeMap<String, String>),
}

impl BesideForm {
    fn told(&self) -> Option<Beside> {
        match self {
            Self::Whether(is_there) => is_there.then_some(Beside::There),
            Self::Sums(sums) => Some(beside(sums.get("sha256").map(String::as_str))),
        }
    }
}

fn beside(digits: Option<&str>) -> Beside {
    digits.and_then(|digits| digits.parse().ok()).map_or(Beside::There, Beside::WithDigest)
}

impl Default for Yanked {
    fn default() -> Self {
        Self::Whether(false)
    }
}

pub(super) fn list(project: &str, document: &Document) -> Result<Vec<Listed>, String> {
    let content = text(document)?;
    if is_page(document.kind.as_deref(), content) {
        return of_page(project, document, content);
    }
    let answer: Answer = serde_json::from_str(content).map_err(|error| error.to_string())?;
    if answer.meta.api_version.split('.').next() != Some("1") {
        return Err(format!("it speaks version {} of the interface, and 1 is known", answer.meta.api_version));
    }
    if normalised(&answer.name) != normalised(project) {
        return Err(format!("it tells of `{}` where `{project}` was asked for", answer.name));
    }
    let listed = |file: File| {
        Some(Listed {
            url: resolved(&document.url, &file.url)?,
            version: version_of(project, &file.filename),
            size: file.size,
            sum: file.hashes.get("sha256").and_then(|digits| digits.parse().ok()).map(Sum::Sha256),
            date: file.upload_time.as_deref().and_then(day),
            withdrawn: !matches!(file.yanked, Yanked::Whether(false)),
            requires_python: file.requires_python,
            metadata: file.core_metadata.as_ref().and_then(BesideForm::told),
            file: file.filename,
            ..Listed::default()
        })
    };
    Ok(answer.files.into_iter().filter_map(listed).collect())
}

fn of_page(project: &str, document: &Document, content: &str) -> Result<Vec<Listed>, String> {
    let listed = links(content).into_iter().filter_map(|link| {
        let (address, fragment) = link.href.split_once('#').unwrap_or((&link.href, ""));
        let url = resolved(&document.url, address)?;
        let file = last_segment(&url);
        let version = version_of(project, &file);
        let sum = fragment.strip_prefix("sha256=").and_then(|digits| digits.parse().ok()).map(Sum::Sha256);
        let metadata = link.metadata.map(|told| beside(told.strip_prefix("sha256=")));
        let (withdrawn, requires_python) = (link.withdrawn, link.requires_python);
        Some(Listed { file, url, version, sum, withdrawn, requires_python, metadata, ..Listed::default() })
    });
    let listed: Vec<_> = listed.filter(|file| file.version.is_some()).collect();
    // A page of something else has links too, but none to files of that name.
    if listed.is_empty() { Err(format!("its page has no link to a file of `{project}`")) } else { Ok(listed) }
}

/// The version in a file's name, where it is a file of that project: the second part of a wheel's name, what follows the
/// name in a source archive's.
pub(super) fn version_of(project: &str, file: &str) -> Option<String> {
    let wanted = normalised(project);
    if let Some(wheel) = file.strip_suffix(".whl") {
        let mut parts = wheel.split('-');
        return parts.next().filter(|name| normalised(name) == wanted).and_then(|_| parts.next()).map(str::to_owned);
    }
    let stem = [".tar.gz", ".zip", ".tar.bz2", ".tgz"].iter().find_map(|ending| file.strip_suffix(ending))?;
    let mut ends = stem.match_indices('-').map(|(at, _)| at);
    ends.find(|at| normalised(&stem[..*at]) == wanted).map(|at| stem[at + 1..].to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn document(kind: &str, text: &str) -> Document {
        let url = "https://wheels.example/simple/tide-lint/".to_owned();
        Document { url, kind: Some(kind.to_owned()), bytes: text.as_bytes().to_vec() }
    }

    #[test]
    fn both_forms_tell_the_same() {
        let sum = "ab".repeat(32);
        let json = format!(
            r#"{{"meta":{{"api-version":"1.1"}},"name":"Tide_Lint","files":[{{"filename":"tide_lint-1.2-py3-none-any.whl",
               "url":"../../f/tide_lint-1.2-py3-none-any.whl","hashes":{{"sha256":"{sum}"}},"yanked":"broken"}}]}}"#
        );
        let page = format!(
            "<!DOCTYPE html><a href='/f/tide_lint-1.2-py3-none-any.whl#sha256={sum}' data-yanked>x</a><a href='/'>up</a>"
        );
        let json = list("tide.lint", &document("application/vnd.pypi.simple.v1+json", &json)).unwrap();
        assert_eq!(json, list("tide-lint", &document("text/html", &page)).unwrap());
        assert_eq!((json[0].version.as_deref(), json[0].withdrawn), (Some("1.2"), true));
        assert_eq!(json[0].url, "https://wheels.example/f/tide_lint-1.2-py3-none-any.whl");
        assert!(json[0].sha256().is_some());
    }

    #[test]
    fn what_lies_is_found_out() {
        let told = |kind: &str, text: &str| list("tide-lint", &document(kind, text)).unwrap_err();
        let json = |meta: &str, name: &str| {
            told("application/json", &format!(r#"{{"meta":{{"api-version":"{meta}"}},"name":"{name}","files":[]}}"#))
        };
        assert!(json("2.0", "tide-lint").contains("version 2.0"));
        assert!(json("1.0", "other").contains("it tells of `other`"));
        assert!(told("application/json", "<html>sign in</html>").contains("expected value"));
        assert!(told("text/html", "<a href='/login'>Sign in</a>").contains("no link to a file"));
        assert!(told("application/json", &" ".repeat(1 << 20)).contains("EOF"));
    }

    #[test]
    fn versions_are_found_in_names() {
        let version = |file| version_of("tide-lint", file);
        assert_eq!(version("tide_lint-1.2.post1-2-py3-none-any.whl").as_deref(), Some("1.2.post1"));
        assert_eq!(version("Tide.Lint-1.2.tar.gz").as_deref(), Some("1.2"));
        assert_eq!(version("tide-lint-1.2-rc.zip").as_deref(), Some("1.2-rc"));
        assert_eq!((version("tide-1.2.tar.gz"), version("tide_linter-1.2-py3-none-any.whl")), (None, None));
    }
}
