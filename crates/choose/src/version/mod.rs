//! Versions, the schemes they are ordered by, and requirements.
//!
//! A version is kept as it was written. How two of one tool compare is the matter of a [`Scheme`]; without one the rules
//! of [`Scheme::Common`] hold, which serve most tools. `docs/versions.md` has the rules with examples.

mod requirement;
mod scheme;

pub use requirement::{Requirement, RequirementError, asks_for_newest};
pub use scheme::Scheme;

use std::cmp::Ordering;
use std::fmt;
use std::str::FromStr;

use scheme::Reading;

/// A version, kept as it was written.
#[derive(Clone, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Version {
    text: String,
    /// By the common scheme.
    reading: Reading,
}

/// A text that is no version.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error(
    "`{0}` is not a version: it needs a digit, and may hold letters, digits, spaces and . - _ + ~ : before its end"
)]
pub struct NotAVersion(String);

impl Version {
    /// The version as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether it says of itself that it is a preview, read by the common scheme.
    pub fn is_preview(&self) -> bool {
        self.reading.is_preview()
    }

    /// How many numbers and words it has.
    pub fn length(&self) -> usize {
        self.reading.length()
    }

    /// Its first `count` numbers and words, as they were written: `1.4` of `1.4.2`.
    #[must_use]
    pub fn prefix(&self, count: usize) -> Self {
        // A version is ASCII.
        let ends = (1..=self.text.len()).rev().filter(|&end| self.text.as_bytes()[end - 1].is_ascii_alphanumeric());
        let mut shorter = ends.filter_map(|end| self.text[..end].parse::<Self>().ok());
        // The longest text that has just so many: 12 has one number, as 1 has.
        shorter.find(|shorter| shorter.length() == count).unwrap_or_else(|| self.clone())
    }
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.reading.cmp(&other.reading).then_with(|| self.text.cmp(&other.text))
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
        let fits = |c: char| c.is_ascii_alphanumeric() || ".-_+~: ".contains(c);
        let ends_well = text.ends_with(|c: char| c.is_ascii_alphanumeric()) && !text.starts_with([' ', '~', ':']);
        if !text.chars().all(fits) || !ends_well || !text.bytes().any(|byte| byte.is_ascii_digit()) {
            return Err(wrong());
        }
        let reading = Reading::common(text, true).ok_or_else(wrong)?;
        Ok(Self { text: text.to_owned(), reading })
    }
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

    fn version(text: &str) -> Version {
        text.parse().unwrap()
    }

    #[test]
    fn a_prefix_is_cut_where_numbers_and_words_end() {
        let prefix = |text: &str, count| version(text).prefix(count).to_string();
        assert_eq!([prefix("1.4.12", 2), prefix("8u392", 1), prefix("2024.3.1 Patch 2", 3)], ["1.4", "8", "2024.3.1"]);
        assert_eq!(prefix("1.4", 5), "1.4");
    }

    #[test]
    fn what_is_no_version_is_refused() {
        for bad in ["", "latest", "1.2/3", " 1", "1\n", "99999999999999999999", "1.é"] {
            assert!(bad.parse::<Version>().is_err(), "{bad:?}");
        }
    }
}
