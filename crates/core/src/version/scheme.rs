//! Schemes: how the versions of one tool are ordered.
//!
//! Every scheme reads a version as a row of [`Part`]s, and rows are compared part by part. A row that goes on where the
//! other has its end is decided by the end's place among the parts.

use std::cmp::Ordering;

use serde::{Deserialize, Serialize};

use super::Version;

/// How the versions of a tool are read and ordered. Each scheme orders all versions; what does not have its form is
/// read by the common rules. Versions that read alike are ordered by their text, so that equal means equal.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Scheme {
    /// Numbers by value, words by letter, preview words before the end of the version, others after it.
    #[default]
    Common,
    /// Precedence as in Semantic Versioning 2.0.0, section 11; build metadata decides between equals.
    Semantic,
    /// As the common one, but no letter stands for a preview: `8u392-b08` and `11b2` are final.
    Letters,
    /// What follows the first dot are decimal places: `3.14` comes before `3.2`.
    Decimal,
}

/// A piece of a version. The variants are in rising order.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) enum Part {
    /// The end of a semantic preview: before all that could follow.
    Close,
    /// A word that makes a preview, by rank and then by letters.
    Preview(u8, String),
    /// A number among words that come after numbers.
    Count(u64),
    End,
    Word(String),
    Number(u64),
}

/// A version as a scheme reads it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Reading(Vec<Part>);

impl Scheme {
    /// How two versions of one tool compare. A total order: equal only for equal texts.
    pub fn compare(self, one: &Version, other: &Version) -> Ordering {
        match self {
            Self::Common => one.cmp(other),
            _ => self.read(one).cmp(&self.read(other)).then_with(|| one.text.cmp(&other.text)),
        }
    }

    /// Whether `version` is `prefix`, or goes on where `prefix` ends: `1.4.2` starts with `1.4`, `1.40` does not.
    pub fn starts_with(self, version: &Version, prefix: &Version) -> bool {
        match self {
            Self::Common => version.reading.0.starts_with(prefix.reading.meant()),
            _ => self.read(version).0.starts_with(self.read(prefix).meant()),
        }
    }

    /// Whether a version says of itself that it is a preview.
    pub fn is_preview(self, version: &Version) -> bool {
        match self {
            Self::Common => version.is_preview(),
            _ => self.read(version).is_preview(),
        }
    }

    fn read(self, version: &Version) -> Reading {
        let special = match self {
            Self::Common => None,
            Self::Semantic => Reading::semantic(&version.text),
            Self::Letters => Reading::common(&version.text, false),
            Self::Decimal => Reading::decimal(&version.text),
        };
        special.unwrap_or_else(|| version.reading.clone())
    }
}

impl Reading {
    pub(super) fn is_preview(&self) -> bool {
        self.0.iter().any(|part| matches!(part, Part::Preview(..)))
    }

    /// Everything but the end.
    pub(super) fn meant(&self) -> &[Part] {
        let ends = self.0.iter().rev().take_while(|part| matches!(part, Part::End | Part::Close)).count();
        &self.0[..self.0.len() - ends]
    }

    /// `letters`: whether `a` and `b` before a number stand for alpha and beta. `None` when a number is too large.
    pub(super) fn common(text: &str, letters: bool) -> Option<Self> {
        let runs = runs(text.strip_prefix('v').filter(|rest| starts_with_digit(rest)).unwrap_or(text));
        let mut parts = Vec::with_capacity(runs.len() + 1);
        for (at, run) in runs.iter().enumerate() {
            let numbered = letters && runs.get(at + 1).is_some_and(|next| starts_with_digit(next));
            parts.push(part(run, numbered)?);
        }
        parts.push(Part::End);
        Some(Self(parts))
    }

    /// `MAJOR.MINOR.PATCH-PREVIEW+BUILD`, with any count of numbers.
    fn semantic(text: &str) -> Option<Self> {
        let (text, build) = text.split_once('+').map_or((text, None), |(text, build)| (text, Some(build)));
        let (numbers, preview) = text.split_once('-').map_or((text, None), |(text, preview)| (text, Some(preview)));
        let number = |number: &str| number.parse().ok().map(Part::Number);
        let mut parts: Vec<Part> = numbers.split('.').map(number).collect::<Option<_>>()?;
        match preview {
            None => parts.push(Part::End),
            Some(preview) => {
                parts.push(Part::Preview(0, String::new()));
                parts.extend(preview.split('.').map(identifier));
                parts.push(Part::Close);
            }
        }
        parts.extend(build.into_iter().flat_map(|build| build.split('.')).map(identifier));
        Some(Self(parts))
    }

    /// A number before the first dot, decimal places behind it; further parts by the common rules.
    fn decimal(text: &str) -> Option<Self> {
        let (whole, rest) = text.split_once('.')?;
        let places = rest.split(|c: char| !c.is_ascii_digit()).next().filter(|places| !places.is_empty())?;
        let mut parts = vec![Part::Number(whole.parse().ok()?)];
        parts.extend(places.bytes().map(|digit| Part::Number(u64::from(digit - b'0'))));
        parts.extend(Self::common(&rest[places.len()..], true)?.0);
        Some(Self(parts))
    }
}

/// Numbers before words, numbers by value.
fn identifier(text: &str) -> Part {
    text.parse().map_or_else(|_| Part::Word(text.to_owned()), Part::Count)
}

fn starts_with_digit(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_digit())
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
    if starts_with_digit(run) {
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
