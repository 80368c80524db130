//! The package documents of an npm registry, in their abbreviated form where the registry has it. A sum is a Subresource
//! Integrity text (W3C), of which SHA-512 is the one that registries write.

use std::collections::BTreeMap;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde::Deserialize;

use super::{Listed, Sum, day, last_segment, text};
use crate::base::digest::Digest;
use crate::bring::fetch::{Document, resolved};

pub(super) const ACCEPT: &str = "application/vnd.npm.install-v1+json, application/json;q=0.8";

pub(super) fn url(address: &str, project: &str) -> String {
    // The slash of a scoped name is part of the name.
    let scoped = project.strip_prefix('@').map(|rest| format!("@{}", super::segments(rest).replace('/', "%2f")));
    format!("{address}{}", scoped.unwrap_or_else(|| super::segments(project)))
}

#[derive(Deserialize)]
struct Answer {
    name: String,
    versions: BTreeMap<String, Version>,
    #[serde(default)]
    time: BTreeMap<String, serde_json::Value>,
}

#[derive(Deserialize)]
struct Version {
    dist: Dist,
    #[serde(default)]
    deprecated: Option<serde_json::Value>,
}

#[derive(Deserialize)]
struct Dist {
    tarball: String,
    integrity: Option<String>,
}

pub(super) fn list(project: &str, document: &Document) -> Result<Vec<Listed>, String> {
    let answer: Answer = serde_json::from_str(text(document)?).map_err(|error| error.to_string())?;
    if answer.name != project {
        return Err(format!("it tells of `{}` where `{project}` was asked for", answer.name));
    }
    let date = |version: &str| day(answer.time.get(version)?.as_str()?);
    let listed = |(version, told): (&String, &Version)| {
        let url = resolved(&document.url, &told.dist.tarball)?;
        let date = date(version);
        let withdrawn = told.deprecated.as_ref().is_some_and(|why| !matches!(why, serde_json::Value::Bool(false)));
        let sum = told.dist.integrity.as_deref().and_then(integrity);
        let version = Some(version.clone());
        Some(Listed { file: last_segment(&url), url, version, sum, date, withdrawn, ..Listed::default() })
    };
    Ok(answer.versions.iter().filter_map(listed).collect())
}

/// The strongest sum of an integrity text that is known here.
fn integrity(text: &str) -> Option<Sum> {
    let of = |name: &str| {
        let one = text.split_whitespace().find_map(|one| one.strip_prefix(name)?.split('?').next());
        STANDARD.decode(one?).ok()
    };
    let sha512 = of("sha512-").filter(|bytes| bytes.len() == 64).map(Sum::Sha512);
    sha512.or_else(|| Some(Sum::Sha256(Digest::from_bytes(of("sha256-")?.try_into().ok()?))))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_are_listed_with_their_sums() {
        let sum = STANDARD.encode([7; 64]);
        let text = format!(
            r#"{{"name":"@skerrow/lint","versions":{{"1.2.0":{{"dist":{{"tarball":"/@skerrow/lint/-/lint-1.2.0.tgz",
               "integrity":"sha512-{sum}"}}}}}},"time":{{"1.2.0":"2026-03-04T05:06:07Z"}}}}"#
        );
        let url = "https://packages.example/@skerrow%2flint".to_owned();
        let document = Document { url, kind: None, bytes: text.into_bytes() };
        let listed = list("@skerrow/lint", &document).unwrap();
        assert_eq!(listed[0].sum, Some(Sum::Sha512(vec![7; 64])));
        assert_eq!(listed[0].url, "https://packages.example/@skerrow/lint/-/lint-1.2.0.tgz");
        assert_eq!((listed[0].file.as_str(), listed[0].date.as_deref()), ("lint-1.2.0.tgz", Some("2026-03-04")));
        assert!(list("lint", &document).unwrap_err().contains("it tells of `@skerrow/lint`"));
        assert_eq!(url_of("@skerrow/lint"), "https://packages.example/@skerrow%2flint");
    }

    fn url_of(project: &str) -> String {
        url("https://packages.example/", project)
    }
}
