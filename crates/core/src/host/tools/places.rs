//! Where a definition says that copies of a tool may be, besides PATH.

use std::path::{Path, PathBuf};

use kladder_choose::catalog::{HostProbe, Spot};

use crate::base::files;
use crate::host::survey::{Host, Root};

/// More than these of one pattern are not looked at: a definition that is so wide is wrong.
const MOST: usize = 64;

/// What there is of the places, each once, in their order.
pub(super) fn all(host: &Host, probe: &HostProbe) -> Vec<PathBuf> {
    let mut all: Vec<PathBuf> = Vec::new();
    for spot in &probe.places {
        let found = match spot {
            Spot::Path(path) => matching(host, path),
            Spot::Told { file, like } => {
                let like = like.regex();
                matching(host, file).iter().flat_map(|file| told(host, file, &like)).collect()
            }
        };
        for path in found {
            if !all.contains(&path) {
                all.push(path);
            }
        }
    }
    all
}

/// The paths that are there and like a pattern.
fn matching(host: &Host, path: &str) -> Vec<PathBuf> {
    let Some((begin, rest)) = begun(host, path) else { return Vec::new() };
    let rest = rest.trim_matches('/');
    if rest.is_empty() {
        return begin.exists().then_some(begin).into_iter().collect();
    }
    let Some(begin) = begin.to_str() else { return Vec::new() };
    let pattern = [glob::Pattern::escape(begin.trim_end_matches('/')).as_str(), "/", rest].concat();
    let options = glob::MatchOptions { require_literal_leading_dot: true, ..glob::MatchOptions::default() };
    let found = glob::glob_with(&pattern, options).into_iter().flatten().filter_map(Result::ok);
    found.take(MOST).collect()
}

/// The folder that a pattern begins in, and what is left of it. A described host has no person and no variables.
fn begun<'p>(host: &Host, path: &'p str) -> Option<(PathBuf, &'p str)> {
    if let Some(rest) = path.strip_prefix("~/") {
        return Some((host.person.clone().filter(|_| !host.is_described())?, rest));
    }
    let Some(variable) = path.strip_prefix('$') else { return Some((host.root.clone(), path)) };
    let (name, rest) = variable.split_once('/').unwrap_or((variable, ""));
    let value = PathBuf::from(host.environment.get(name).filter(|_| !host.is_described())?);
    value.is_absolute().then_some((value, rest))
}

/// The paths that a file names.
fn told(host: &Host, file: &Path, like: &regex::Regex) -> Vec<PathBuf> {
    let root = Root::open(host);
    let Some(text) = files::text_of_at_most(file, 1 << 20) else { return Vec::new() };
    let place = |captures: regex::Captures<'_>| {
        let found = captures.name("place").or_else(|| captures.get(0))?;
        let text = found.as_str().trim();
        let path = root.at(text);
        (text.starts_with('/') && !text.split('/').any(|part| part == "..") && path.exists()).then_some(path)
    };
    like.captures_iter(&text).take(MOST).filter_map(place).collect()
}
