//! Which archives apt looks at (sources.list(5)): `*.sources` in deb822 form, and lines in `sources.list` and `*.list`.

use std::fs;
use std::path::{Path, PathBuf};

use deb822_fast::Deb822;

use crate::base::files;

/// A Debian archive, and what is looked at of it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) struct Archive {
    /// Where it is, with a slash at its end.
    pub(super) url: String,
    pub(super) suites: Vec<String>,
    pub(super) components: Vec<String>,
    pub(super) keys: Keys,
}

/// Whose signatures count.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Keys {
    /// All that the system trusts for archives.
    #[default]
    System,
    /// Those of these files.
    Files(Vec<PathBuf>),
    /// One that stands in the source itself, armoured.
    Inline(String),
    /// Nobody's: the archive need not be signed.
    Nobody,
}

/// The archives that the files below a root name.
pub(super) fn archives(root: &Path) -> Vec<Archive> {
    let folder = root.join("etc/apt");
    let parts = files::names(&folder.join("sources.list.d")).unwrap_or_default();
    let mut parts: Vec<PathBuf> = parts.into_iter().map(|name| folder.join("sources.list.d").join(name)).collect();
    parts.sort();
    let all = std::iter::once(folder.join("sources.list")).chain(parts);
    let read = |path: PathBuf| {
        let text = fs::read_to_string(&path).ok()?;
        match path.extension()?.to_str()? {
            "sources" => Some(stanzas(&text)),
            "list" => Some(text.lines().filter_map(line).collect()),
            _ => None,
        }
    };
    all.filter_map(read).flatten().collect()
}

fn words(text: Option<&str>) -> Vec<String> {
    text.unwrap_or_default().split_whitespace().map(str::to_owned).collect()
}

fn stanzas(text: &str) -> Vec<Archive> {
    let Ok(all) = text.parse::<Deb822>() else { return Vec::new() };
    let archives = all.iter().filter(|one| {
        let is = |name: &str, value: &str| one.get(name).is_some_and(|text| text.trim().eq_ignore_ascii_case(value));
        words(one.get("Types")).iter().any(|kind| kind == "deb") && !is("Enabled", "no")
    });
    let each = archives.flat_map(|one| {
        let keys = if one.get("Trusted").is_some_and(|text| text.trim() == "yes") {
            Keys::Nobody
        } else {
            keys(one.get("Signed-By"))
        };
        let archive = move |url: String| Archive {
            url: format!("{}/", url.trim_end_matches('/')),
            suites: words(one.get("Suites")),
            components: words(one.get("Components")),
            keys: keys.clone(),
        };
        words(one.get("URIs")).into_iter().map(archive).collect::<Vec<_>>()
    });
    each.collect()
}

fn keys(signed_by: Option<&str>) -> Keys {
    match signed_by {
        None => Keys::System,
        Some(text) if text.contains("-----BEGIN") => {
            // A blank line is written as a lone dot (deb822(5)).
            let lines = text.lines().map(str::trim).map(|line| if line == "." { "" } else { line });
            Keys::Inline(lines.collect::<Vec<_>>().join("\n").trim().to_owned())
        }
        Some(text) => {
            Keys::Files(text.split([',', ' ']).filter(|path| path.starts_with('/')).map(Into::into).collect())
        }
    }
}

/// `deb [OPTIONS] URI SUITE COMPONENT…`.
fn line(line: &str) -> Option<Archive> {
    let rest = line.split('#').next()?.trim().strip_prefix("deb ")?.trim();
    let (options, rest) = match rest.strip_prefix('[') {
        Some(rest) => rest.split_once(']')?,
        None => ("", rest),
    };
    let mut words = rest.split_whitespace();
    let (url, suite) = (words.next()?, words.next()?);
    let option = |name: &str| options.split_whitespace().find_map(|one| one.strip_prefix(name)?.strip_prefix('='));
    let keys = if option("trusted") == Some("yes") { Keys::Nobody } else { keys(option("signed-by")) };
    let (suites, components) = (vec![suite.to_owned()], words.map(str::to_owned).collect());
    Some(Archive { url: format!("{}/", url.trim_end_matches('/')), suites, components, keys })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_forms_of_sources_are_read() {
        let root = tempfile::tempdir().unwrap();
        let folder = root.path().join("etc/apt/sources.list.d");
        fs::create_dir_all(&folder).unwrap();
        let list = "# deb http://old.example x main\ndeb [arch=amd64 signed-by=/k.gpg] http://deb.example/d stable main extra # y\n";
        fs::write(folder.with_file_name("sources.list"), list).unwrap();
        let sources = "Types: deb deb-src\nURIs: http://two.example/\nSuites: stable stable-updates\nComponents: main\nSigned-By:\n -----BEGIN PGP PUBLIC KEY BLOCK-----\n .\n abc\n\nTypes: deb\nURIs: http://off.example\nSuites: s\nComponents: main\nEnabled: no\n";
        fs::write(folder.join("two.sources"), sources).unwrap();
        let found = archives(root.path());
        assert_eq!(found.len(), 2, "{found:?}");
        assert_eq!(
            (found[0].url.as_str(), &found[0].keys),
            ("http://deb.example/d/", &Keys::Files(vec!["/k.gpg".into()]))
        );
        assert_eq!((found[0].components.len(), found[1].suites.len()), (2, 2));
        assert_eq!(found[1].keys, Keys::Inline("-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nabc".into()), "{found:?}");
    }
}
