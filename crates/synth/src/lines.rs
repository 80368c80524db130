//! A catalog from lines.

use crate::{Made, Need, Release, Tool, Way};

impl Made {
    /// Reads a catalog from lines: a release each, or what holds for all of a tool's.
    ///
    /// ```text
    /// skerroc provides skerrow-compiler
    /// skerroc excludes skerrow-compiler
    /// skerroc scheme semantic
    /// cc host cc
    /// skerroc 1.5.0 WORD WORD …
    ///
    /// stable                 a series
    /// 2026-10-01             the day it came out
    /// oarweld:>=3            it needs
    /// oarweld:>=3/linux      … on one system or platform only
    /// ~oarweld:<3            … and may keep it to itself
    /// tidlow+tracer:any      … with a piece
    /// oarweld:2|tombolet:any … or something else
    /// !tombolet:<2           it does not stand beside
    /// +lens                  it has a piece
    /// +lens=oarweld:>=2      … that needs something
    /// =tide-format:3.1       it provides this, in this version
    /// @linux/x86_64          its artifact is for this platform; for all without such a word
    /// ```
    ///
    /// # Panics
    /// When a line is not of this form: such a test is wrong.
    pub fn from_lines(lines: &str) -> Self {
        let mut made = Self::default();
        for line in lines.lines().map(str::trim).filter(|line| !line.is_empty()) {
            let mut words = line.split_whitespace();
            let (Some(name), Some(second)) = (words.next(), words.next()) else {
                panic!("a line is too short: {line}")
            };
            let tool = made.tool(name);
            let mut third = || words.next().unwrap_or_else(|| panic!("something is missing: {line}")).to_owned();
            match second {
                "provides" => tool.provides.push(third()),
                "excludes" => tool.excludes.push(way(&third())),
                "scheme" => tool.scheme = Some(third()),
                "host" => tool.host = Some(third()),
                version => {
                    let mut release = Release { version: version.to_owned(), ..Release::default() };
                    words.for_each(|word| release.word(word));
                    tool.releases.push(release);
                }
            }
        }
        made
    }

    fn tool(&mut self, name: &str) -> &mut Tool {
        let at = self.tools.iter().position(|tool| tool.name == name).unwrap_or_else(|| {
            self.tools.push(Tool { name: name.to_owned(), ..Tool::default() });
            self.tools.len() - 1
        });
        &mut self.tools[at]
    }
}

impl Release {
    fn word(&mut self, word: &str) {
        if let Some(platform) = word.strip_prefix('@') {
            self.platforms.push(platform.to_owned());
        } else if let Some(other) = word.strip_prefix('!') {
            self.excludes.push(way(other));
        } else if let Some(piece) = word.strip_prefix('+') {
            let (name, needs) = piece.split_once('=').map_or((piece, Vec::new()), |(name, n)| (name, vec![need(n)]));
            self.pieces.push((name.to_owned(), needs));
        } else if let Some((name, version)) = word.strip_prefix('=').and_then(|word| word.split_once(':')) {
            self.provides.push((name.to_owned(), version.to_owned()));
        } else if word.contains(':') {
            self.needs.push(need(word));
        } else if word.len() == 10 && word.starts_with("20") {
            self.date = Some(word.to_owned());
        } else {
            self.series.push(word.to_owned());
        }
    }
}

fn need(text: &str) -> Need {
    let (text, private) = text.strip_prefix('~').map_or((text, false), |rest| (rest, true));
    let (text, on) = text.split_once('/').map_or((text, Vec::new()), |(text, on)| (text, vec![on.to_owned()]));
    Need { ways: text.split('|').map(way).collect(), private, on }
}

fn way(text: &str) -> Way {
    let (name, range) = text.split_once(':').unwrap_or((text, "any"));
    let mut pieces = name.split('+').map(str::to_owned);
    Way { name: pieces.next().unwrap_or_default(), range: range.to_owned(), pieces: pieces.collect() }
}
