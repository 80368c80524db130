//! Which libraries a set wants, and from which indexes.
//!
//! Versions are wished for as those of tools are (`1.4`, `=1.4.2`, `>=1.2, <2`, `any`), and mean what they mean for libraries
//! (PEP 440): `1.4` is `==1.4.*` there. What a project's own files have (`==1.4`, `~=1.4.2`) is understood, too.

use std::collections::BTreeMap;
use std::str::FromStr;

use pep508_rs::pep440_rs::VersionSpecifiers;
use serde::Deserialize;
use toml::Spanned;

use super::lock::normalised;
use crate::document::{DocumentError, Source};

/// How a set calls the catalogs of its ladder where it names indexes.
pub const OF_CATALOGS: &str = "catalog";
/// The index that is asked where a set names none.
const USUAL_INDEX: &str = "wheels";
/// Bytes of a range.
const LONGEST: usize = 1 << 10;

/// The libraries that a set wants, to be chosen from indexes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Libraries {
    /// Each of them, in the order of their names.
    pub wishes: Vec<LibraryWish>,
    /// Names of indexes, as the settings have them.
    pub indexes: Vec<String>,
    /// From which of them a library is taken that several have.
    pub from: BTreeMap<String, String>,
}

/// One library that is wanted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LibraryWish {
    /// Its name, normalised (PEP 503).
    pub name: String,
    /// Its versions, as the ladder says it.
    pub written: String,
    /// The same (PEP 440).
    pub versions: VersionSpecifiers,
    /// Its optional pieces: extras (PEP 508).
    pub pieces: Vec<String>,
}

#[derive(Deserialize)]
#[serde(untagged)]
pub(super) enum WishForm {
    Short(String),
    Long {
        #[serde(default = "any")]
        version: String,
        #[serde(default)]
        pieces: Vec<String>,
    },
}

fn any() -> String {
    "any".to_owned()
}

pub(super) type WishForms = BTreeMap<Spanned<String>, Spanned<WishForm>>;

impl Libraries {
    pub(super) fn read(
        source: &Source,
        forms: WishForms,
        indexes: Option<Vec<String>>,
        from: BTreeMap<Spanned<String>, String>,
    ) -> Result<Self, DocumentError> {
        let mut wishes = Vec::new();
        for (name, form) in forms {
            let span = form.span();
            let (written, pieces) = match form.into_inner() {
                WishForm::Short(version) => (version, Vec::new()),
                WishForm::Long { version, pieces } => (version, pieces),
            };
            if !is_name(name.get_ref()) || pieces.iter().any(|piece| !is_name(piece)) {
                let message = format!("`{}` cannot be the name of a library", name.get_ref());
                return Err(source.invalid(name.span(), message));
            }
            let versions = specifiers(&written).map_err(|message| source.invalid(span, message))?;
            let pieces = pieces.iter().map(|piece| normalised(piece)).collect();
            wishes.push(LibraryWish { name: normalised(name.get_ref()), written, versions, pieces });
        }
        wishes.sort_by(|one, other| one.name.cmp(&other.name));
        let indexes = indexes.unwrap_or_else(|| vec![USUAL_INDEX.to_owned()]);
        let mut chosen = BTreeMap::new();
        for (name, index) in from {
            if index != OF_CATALOGS && !indexes.contains(&index) {
                let message = format!("`{index}` is none of the set's `indexes`");
                return Err(source.invalid(name.span(), message));
            }
            chosen.insert(normalised(name.get_ref()), index);
        }
        Ok(Self { wishes, indexes, from: chosen })
    }
}

/// Letters, digits, and `-_.` between them (PEP 508, "Names").
fn is_name(text: &str) -> bool {
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric();
    let ends = text.bytes().next().is_some_and(is_plain) && text.bytes().last().is_some_and(is_plain);
    ends && text.len() <= 200 && text.bytes().all(|byte| is_plain(byte) || b"-_.".contains(&byte))
}

/// Versions as they are wished for, in the terms of PEP 440.
fn specifiers(text: &str) -> Result<VersionSpecifiers, String> {
    if text.len() > LONGEST {
        return Err("it is longer than a range that people write".to_owned());
    }
    let clause = |clause: &str| -> Result<String, String> {
        let hint = |what: &str| Err(format!("`{clause}`: {what}"));
        match clause.trim() {
            "any" => Ok(String::new()),
            "latest" | "newest" | "*" => hint("the newest is taken by itself: write `any`"),
            other if other.starts_with('^') => hint("write `>=1.4, <2` for 1.4 and what is compatible with it"),
            other if other.starts_with(['=', '>', '<', '!', '~']) => match other.strip_prefix('=') {
                Some(version) if !version.starts_with('=') => Ok(format!("=={version}")),
                _ => Ok(other.to_owned()),
            },
            other => Ok(format!("=={}.*", other.trim_end_matches(".*"))),
        }
    };
    let clauses: Vec<String> = text.split(',').map(clause).collect::<Result<_, _>>()?;
    let said: Vec<&str> = clauses.iter().map(String::as_str).filter(|clause| !clause.is_empty()).collect();
    VersionSpecifiers::from_str(&said.join(", "))
        .map_err(|_| format!("`{text}` says no versions: `1.4`, `=1.4.2`, `>=1.2, <2` and `any` do"))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_mean_for_libraries_what_they_mean_for_tools() {
        let told = |text| specifiers(text).map(|specifiers| specifiers.to_string());
        assert_eq!(told("1.4").unwrap(), "==1.4.*");
        assert_eq!(told("=1.4.2").unwrap(), "==1.4.2");
        assert_eq!(told(">=1.2, <2, !=1.5").unwrap(), ">=1.2, !=1.5, <2");
        assert_eq!(told("any").unwrap(), "");
        assert_eq!((told("==1.4").unwrap(), told("~=1.4.2").unwrap()), ("==1.4".into(), "~=1.4.2".into()));
        for wrong in ["latest", "*", "^1.4", "tide", ">=", "1.4 2", "", "=>1"] {
            assert!(told(wrong).is_err(), "{wrong}: {told:?}", told = told(wrong));
        }
    }
}
