//! What a wheel says that it needs (Python packaging specifications, "Core metadata", "Dependency specifiers"; PEP 658 for where
//! that is had without the wheel).

use std::fs::File;
use std::io::{Read, Seek};
use std::path::Path;

use kladder_choose::version::Requirement;

/// Most bytes that are read of it.
const MOST: u64 = 4 << 20;

/// A project and the versions of it that would do.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Needed {
    pub(super) project: String,
    /// Any where it is `None`.
    pub(super) versions: Option<Requirement>,
}

/// The text in a wheel that says what it is; `None` for what is no wheel.
pub(in crate::desk) fn in_wheel(path: &Path) -> Option<String> {
    in_archive(File::open(path).ok()?)
}

/// The same for the bytes of a wheel, wherever they are.
pub(in crate::desk) fn in_archive(bytes: impl Read + Seek) -> Option<String> {
    let mut archive = zip::ZipArchive::new(bytes).ok()?;
    let is_it = |name: &String| name.ends_with(".dist-info/METADATA") && name.matches('/').count() == 1;
    let name = archive.file_names().filter_map(|name| Some(name.ok()?.into_owned())).find(is_it)?;
    let mut text = String::new();
    archive.by_name(&name).ok()?.take(MOST).read_to_string(&mut text).ok()?;
    Some(text)
}

/// What is needed wherever the wheel runs. What only some systems or elder interpreters need, and extras, are left out.
pub(super) fn needed(metadata: &str) -> Vec<Needed> {
    let head = metadata.split("\n\n").next().unwrap_or_default();
    head.lines().filter_map(|line| line.strip_prefix("Requires-Dist:")).filter_map(specifier).collect()
}

fn specifier(text: &str) -> Option<Needed> {
    let (what, marker) = text.split_once(';').unwrap_or((text, ""));
    let only_some = ["extra", "win32", "Windows", "darwin", "Darwin", "PyPy", "pypy"];
    let for_elder = marker.contains("python") && marker.contains('<');
    if for_elder || only_some.iter().any(|word| marker.contains(word)) {
        return None;
    }
    let what = what.trim();
    let end = what.find(|c: char| !(c.is_ascii_alphanumeric() || "-_.".contains(c))).unwrap_or(what.len());
    let (project, rest) = what.split_at(end);
    let rest = rest.split_once(']').map_or(rest, |(_, rest)| rest);
    let versions = rest.trim().trim_start_matches('(').trim_end_matches(')');
    Some(Needed { project: project.to_owned(), versions: requirement(versions) })
}

/// A version specifier in our own words (PEP 440, "Version specifiers").
fn requirement(text: &str) -> Option<Requirement> {
    let clauses = text.split(',').map(str::trim).filter(|clause| !clause.is_empty());
    let each: Vec<String> = clauses.map(clause).collect();
    each.join(", ").parse().ok().filter(|_| !each.is_empty())
}

fn clause(clause: &str) -> String {
    if let Some(version) = clause.strip_prefix("~=").map(str::trim) {
        let above = version.rsplit_once('.').map_or(version, |(front, _)| front);
        return format!(">={version}, {above}");
    }
    if let Some(version) = clause.strip_prefix("==").map(str::trim) {
        return version.strip_suffix(".*").map_or_else(|| format!("={version}"), str::to_owned);
    }
    clause.to_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_needed_everywhere_is_read() {
        let text = "Metadata-Version: 2.1\nName: plank\nRequires-Dist: nail[big] (<3,>=2.1)\nRequires-Dist: tide-lint~=1.4.2\n\
                    Requires-Dist: glue==2.* ; python_version >= \"3.8\"\nRequires-Dist: old; python_version < '3.8'\n\
                    Requires-Dist: more>=1; extra == 'test'\nRequires-Dist: any_one\n\nRequires-Dist: no\n";
        let told: Vec<String> = needed(text)
            .iter()
            .map(|one| {
                format!("{} {}", one.project, one.versions.as_ref().map(ToString::to_string).unwrap_or_default())
            })
            .collect();
        assert_eq!(told, ["nail <3, >=2.1", "tide-lint >=1.4.2, 1.4", "glue 2", "any_one "]);
    }
}
