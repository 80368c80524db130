//! Schemes: how the versions of one tool are ordered.
//!
//! Every scheme reads a version as a row of parts and writes them as a key, so that comparing versions is comparing bytes.
//! Each part is its rank and then what it says: a number as its length and its bytes, the highest first; a word as its
//! letters and a zero. A row that goes on where the other has its end is decided by the end's rank.
//!
//! ```
//! use std::cmp::Ordering;
//! use kladder_choose::version::{Scheme, Version};
//!
//! let compare = |scheme: Scheme, a: &str, b: &str| {
//!     let (a, b): (Version, Version) = (a.parse().unwrap(), b.parse().unwrap());
//!     scheme.compare(&a, &b)
//! };
//! assert_eq!(compare(Scheme::Common, "1.10", "1.9"), Ordering::Greater);
//! // In a decimal scheme what stands behind the dot is a fraction.
//! assert_eq!(compare(Scheme::Decimal, "1.10", "1.9"), Ordering::Less);
//! ```

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
    /// `EPOCH:UPSTREAM-REVISION` as packagers have it, deb-version(7): a tilde comes before everything, the end included.
    Packaged,
}

/// The parts of a version, in rising order.
mod rank {
    /// The end of a semantic preview: before all that could follow.
    pub(super) const CLOSE: u8 = 1;
    /// A word that makes a preview: its rank among those, then its letters.
    pub(super) const PREVIEW: u8 = 2;
    /// A number among words that come after numbers.
    pub(super) const COUNT: u8 = 3;
    /// The end of all other versions.
    pub(super) const END: u8 = 4;
    pub(super) const WORD: u8 = 5;
    pub(super) const NUMBER: u8 = 6;
}

/// A version as a scheme reads it.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub(super) struct Reading {
    key: Box<[u8]>,
    /// How much of the key there is before the end.
    meant: u16,
    /// How many parts that is.
    length: u16,
    is_preview: bool,
}

/// A key in the making.
#[derive(Default)]
struct Key {
    bytes: Vec<u8>,
    meant: usize,
    length: u16,
    is_preview: bool,
}

impl Key {
    fn number(&mut self, rank: u8, number: u64) {
        let bytes = number.to_be_bytes();
        let zeros = bytes.iter().take_while(|&&byte| byte == 0).count();
        // Eight bytes at most.
        self.bytes.extend([rank, 8 - u8::try_from(zeros).unwrap_or(8)]);
        self.bytes.extend(&bytes[zeros..]);
        self.part();
    }

    fn word(&mut self, rank: &[u8], word: &str) {
        self.bytes.extend(rank);
        self.bytes.extend(word.as_bytes());
        self.bytes.push(0);
        self.is_preview |= rank[0] == rank::PREVIEW;
        self.part();
    }

    fn part(&mut self) {
        self.length += 1;
        self.meant = self.bytes.len();
    }

    fn end(&mut self, rank: u8) {
        self.bytes.push(rank);
    }

    fn finish(self) -> Option<Reading> {
        let meant = self.meant.try_into().ok()?;
        Some(Reading { key: self.bytes.into(), meant, length: self.length, is_preview: self.is_preview })
    }
}

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
            Self::Common => version.reading.starts_with(&prefix.reading),
            _ => self.read(version).starts_with(&self.read(prefix)),
        }
    }

    /// Whether a version says of itself that it is a preview.
    pub fn is_preview(self, version: &Version) -> bool {
        match self {
            Self::Common => version.is_preview(),
            _ => self.read(version).is_preview(),
        }
    }

    /// The version as the tool itself says it: without what packagers put around it.
    pub fn said(self, version: &Version) -> &str {
        match self {
            Self::Packaged => split_packaged(&version.text).1,
            _ => &version.text,
        }
    }

    fn read(self, version: &Version) -> Reading {
        let special = match self {
            Self::Common => None,
            Self::Semantic => Reading::semantic(&version.text),
            Self::Letters => Reading::common(&version.text, false),
            Self::Decimal => Reading::decimal(&version.text),
            Self::Packaged => Reading::packaged(&version.text),
        };
        special.unwrap_or_else(|| version.reading.clone())
    }
}

impl Reading {
    pub(super) fn is_preview(&self) -> bool {
        self.is_preview
    }

    /// How many numbers and words there are.
    pub(super) fn length(&self) -> usize {
        usize::from(self.length)
    }

    fn starts_with(&self, prefix: &Self) -> bool {
        self.key.starts_with(&prefix.key[..usize::from(prefix.meant)])
    }

    /// `letters`: whether `a` and `b` before a number stand for alpha and beta. `None` when a number is too large.
    pub(super) fn common(text: &str, letters: bool) -> Option<Self> {
        let mut key = Key::default();
        read_common(&mut key, text.strip_prefix('v').filter(|rest| starts_with_digit(rest)).unwrap_or(text), letters)?;
        key.end(rank::END);
        key.finish()
    }

    /// `MAJOR.MINOR.PATCH-PREVIEW+BUILD`, with any count of numbers.
    fn semantic(text: &str) -> Option<Self> {
        let (text, build) = text.split_once('+').map_or((text, None), |(text, build)| (text, Some(build)));
        let (numbers, preview) = text.split_once('-').map_or((text, None), |(text, preview)| (text, Some(preview)));
        let mut key = Key::default();
        for number in numbers.split('.') {
            key.number(rank::NUMBER, number.parse().ok()?);
        }
        match preview {
            None => key.end(rank::END),
            Some(preview) => {
                key.word(&[rank::PREVIEW, 0], "");
                preview.split('.').for_each(|part| identifier(&mut key, part));
                key.end(rank::CLOSE);
            }
        }
        build.into_iter().flat_map(|build| build.split('.')).for_each(|part| identifier(&mut key, part));
        key.finish()
    }

    /// Epoch, upstream's version and revision, compared one after the other.
    fn packaged(text: &str) -> Option<Self> {
        let (epoch, upstream, revision) = split_packaged(text);
        let mut key = Key::default();
        key.number(rank::NUMBER, epoch.parse().ok()?);
        // An epoch of none is no part that anybody names.
        key.length -= 1;
        read_packaged(&mut key, upstream)?;
        key.is_preview = upstream
            .split('~')
            .skip(1)
            .any(|part| runs(part).next().is_some_and(|word| preview(&word.to_ascii_lowercase(), true).is_some()));
        let (meant, length) = (key.meant, key.length);
        read_packaged(&mut key, revision)?;
        if revision.is_empty() {
            (key.meant, key.length) = (meant, length);
        }
        key.finish()
    }

    /// A number before the first dot, decimal places behind it; further parts by the common rules.
    fn decimal(text: &str) -> Option<Self> {
        let (whole, rest) = text.split_once('.')?;
        let places = rest.split(|c: char| !c.is_ascii_digit()).next().filter(|places| !places.is_empty())?;
        let mut key = Key::default();
        key.number(rank::NUMBER, whole.parse().ok()?);
        places.bytes().for_each(|digit| key.number(rank::NUMBER, u64::from(digit - b'0')));
        read_common(&mut key, &rest[places.len()..], true)?;
        key.end(rank::END);
        key.finish()
    }
}

/// The epoch (0 where there is none), upstream's version and the revision (empty where there is none).
fn split_packaged(text: &str) -> (&str, &str, &str) {
    let is_number = |epoch: &str| !epoch.is_empty() && epoch.bytes().all(|byte| byte.is_ascii_digit());
    let (epoch, rest) = text.split_once(':').filter(|(epoch, _)| is_number(epoch)).unwrap_or(("0", text));
    let (upstream, revision) = rest.rsplit_once('-').unwrap_or((rest, ""));
    (epoch, upstream, revision)
}

/// What is no digit by character (tilde, end, letters, all others) and numbers by value, in turns; an absent number counts as 0.
fn read_packaged(key: &mut Key, text: &str) -> Option<()> {
    const TILDE: u8 = 1;
    const ENDS: u8 = 2;
    let mut rest = text;
    while !rest.is_empty() {
        let at = rest.find(|c: char| c.is_ascii_digit()).unwrap_or(rest.len());
        key.bytes.extend(rest[..at].bytes().map(|byte| match byte {
            b'~' => TILDE,
            // ASCII letters are below 0x7b, so that all others come after them.
            letter if letter.is_ascii_alphabetic() => letter,
            other => other | 0x80,
        }));
        key.bytes.push(ENDS);
        rest = &rest[at..];
        let end = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
        let number: u64 = if end == 0 { 0 } else { rest[..end].parse().ok()? };
        key.number(rank::NUMBER, number);
        rest = &rest[end..];
    }
    key.bytes.push(ENDS);
    Some(())
}

fn read_common(key: &mut Key, text: &str, letters: bool) -> Option<()> {
    let mut runs = runs(text).peekable();
    while let Some(run) = runs.next() {
        if starts_with_digit(run) {
            key.number(rank::NUMBER, run.parse().ok()?);
            continue;
        }
        let numbered = letters && runs.peek().is_some_and(|next| starts_with_digit(next));
        let word = run.to_ascii_lowercase();
        match preview(&word, numbered) {
            Some(rank) => key.word(&[rank::PREVIEW, rank], &word),
            None => key.word(&[rank::WORD], &word),
        }
    }
    Some(())
}

/// Numbers before words, numbers by value.
fn identifier(key: &mut Key, text: &str) {
    match text.parse() {
        Ok(number) => key.number(rank::COUNT, number),
        Err(_) => key.word(&[rank::WORD], text),
    }
}

fn starts_with_digit(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_digit())
}

/// Splits at separators and where letters and digits meet.
fn runs(text: &str) -> impl Iterator<Item = &str> {
    text.split(|c: char| !c.is_ascii_alphanumeric()).flat_map(|word| {
        word.as_bytes().chunk_by(|a, b| a.is_ascii_digit() == b.is_ascii_digit()).scan(0, move |at, chunk| {
            *at += chunk.len();
            word.get(*at - chunk.len()..*at)
        })
    })
}

/// The rank of a preview word. `numbered`: a number follows. `b2` is a beta, the `b` of `3.2.0b` a letter release.
fn preview(word: &str, numbered: bool) -> Option<u8> {
    Some(match word {
        "dev" => 0,
        "nightly" | "canary" => 1,
        "snapshot" => 2,
        "alpha" => 3,
        "beta" => 4,
        "preview" | "pre" | "ea" => 5,
        "rc" => 6,
        "a" if numbered => 3,
        "b" if numbered => 4,
        _ => return None,
    })
}
