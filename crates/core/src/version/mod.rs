//! Versions and requirements.
//!
//! One order serves every scheme found in practice. A version is read as a row of numbers and words; separators only
//! divide. At the first difference, in rising order:
//!
//! 1. a preview word (`dev`, `nightly`, `snapshot`, `alpha`, `beta`, `preview`, `rc`, in this order),
//! 2. the end of the version,
//! 3. any other word, by its letters: `3.2.0` comes before `3.2.0q`,
//! 4. a number, by its value: `1.9` comes before `1.10`.
//!
//! So `1.5.0-rc.1` comes before `1.5.0`, `8u392` after `8u45`, `21.0.2+13` after `21.0.2+7`, and `1.4` before `1.4.0`.
//! Versions that read alike (`1.4` and `1-4`) are ordered by their text, so that equal means equal.

mod requirement;

pub use requirement::{Requirement, RequirementError};

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

/// A version, kept as it was written.
#[derive(Clone, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Version {
    text: String,
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
enum Part {
    Preview(u8, String),
    End,
    Word(String),
    Number(u64),
}

/// A text that is no version.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not a version: it needs a digit, and may hold letters, digits, spaces and . - _ +")]
pub struct NotAVersion(String);

impl Version {
    /// The version as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether it says of itself that it is a preview.
    pub fn is_preview(&self) -> bool {
        self.parts.iter().any(|part| matches!(part, Part::Preview(..)))
    }

    /// Whether it is `prefix`, or goes on where `prefix` ends: `1.4.2` starts with `1.4`, `1.40` does not.
    pub fn starts_with(&self, prefix: &Self) -> bool {
        self.parts.starts_with(prefix.meant())
    }

    /// Everything but the end.
    fn meant(&self) -> &[Part] {
        &self.parts[..self.parts.len() - 1]
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.parts.cmp(&other.parts).then_with(|| self.text.cmp(&other.text))
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl FromStr for Version {
    type Err = NotAVersion;

    fn from_str(text: &str) -> Result<Self, NotAVersion> {
        let wrong = || NotAVersion(text.to_owned());
        let fits = |c: char| c.is_ascii_alphanumeric() || ".-_+ ".contains(c);
        if !text.chars().all(fits) || text.trim() != text || !text.bytes().any(|byte| byte.is_ascii_digit()) {
            return Err(wrong());
        }
        let runs = runs(text);
        let mut parts = Vec::with_capacity(runs.len() + 1);
        for (at, run) in runs.iter().enumerate() {
            let numbered = runs.get(at + 1).is_some_and(|next| next.as_bytes()[0].is_ascii_digit());
            parts.push(part(run, numbered).ok_or_else(wrong)?);
        }
        parts.push(Part::End);
        Ok(Self { text: text.to_owned(), parts })
    }
}

/// Splits at separators and where letters and digits meet.
fn runs(text: &str) -> Vec<&str> {
    text.split(|c: char| !c.is_ascii_alphanumeric())
        .flat_map(|word| {
            let bytes = word.as_bytes();
            let turns = |at: &usize| bytes[*at].is_ascii_digit() != bytes[*at - 1].is_ascii_digit();
            let mut cuts: Vec<usize> = (1..word.len()).filter(turns).collect();
            cuts.insert(0, 0);
            cuts.push(word.len());
            cuts.windows(2).map(|pair| &word[pair[0]..pair[1]]).collect::<Vec<_>>()
        })
        .filter(|run| !run.is_empty())
        .collect()
}

/// `numbered`: a number follows. `b2` is a beta, the `b` of `3.2.0b` a letter release.
fn part(run: &str, numbered: bool) -> Option<Part> {
    if run.as_bytes()[0].is_ascii_digit() {
        return run.parse().ok().map(Part::Number);
    }
    let word = run.to_ascii_lowercase();
    let rank = match word.as_str() {
        "dev" => 0,
        "nightly" | "canary" => 1,
        "snapshot" => 2,
        "alpha" => 3,
        "beta" => 4,
        "preview" | "pre" | "ea" => 5,
        "rc" => 6,
        "a" if numbered => 3,
        "b" if numbered => 4,
        _ => return Some(Part::Word(word)),
    };
    Some(Part::Preview(rank, word))
}

impl TryFrom<String> for Version {
    type Error = NotAVersion;

    fn try_from(text: String) -> Result<Self, NotAVersion> {
        text.parse()
    }
}

impl From<Version> for String {
    fn from(version: Version) -> Self {
        version.text
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn version(text: &str) -> Version {
        text.parse().unwrap()
    }

    #[test]
    fn the_schemes_of_practice_are_ordered_as_their_makers_mean_it() {
        let rising: [&[&str]; 7] = [
            &["1.4", "1.4.0", "1.4.2", "1.4.10", "1.10", "2"],
            &["1.5.0-dev", "1.5.0-nightly.3", "1.5.0-alpha", "1.5.0-beta.2", "1.5.0-rc.1", "1.5.0-rc.10", "1.5.0"],
            &["8u45", "8u392", "9"],
            &["21.0.2+7", "21.0.2+13", "21.0.3+1"],
            &["3.2.0", "3.2.0b", "3.2.0q", "3.2.1"],
            &["r26", "r27", "r27c"],
            &["2023.11", "2024.3.1", "2024.3.1 Patch 2", "2024.3.1 Patch 10"],
        ];
        for row in rising {
            for pair in row.windows(2) {
                assert!(version(pair[0]) < version(pair[1]), "{} < {}", pair[0], pair[1]);
            }
        }
        assert!(version("3.11.0b2").is_preview() && !version("3.2.0b").is_preview());
    }

    #[test]
    fn what_is_no_version_is_refused() {
        for bad in ["", "latest", "1.2/3", " 1", "1\n", "99999999999999999999", "1.é"] {
            assert!(bad.parse::<Version>().is_err(), "{bad:?}");
        }
    }

    proptest! {
        #[test]
        fn the_order_is_total_and_text_survives(texts in prop::array::uniform3("[0-9]{1,2}([.+-](rc|b|q|[0-9]{1,2})){0,3}")) {
            let [a, b, c] = texts.clone().map(|text| version(&text));
            prop_assert_eq!(a.as_str(), texts[0].as_str());
            prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
            prop_assert_eq!(a.cmp(&b) == Ordering::Equal, a == b);
            if a <= b && b <= c {
                prop_assert!(a <= c);
            }
        }
    }
}
