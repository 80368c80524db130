//! Where a tool's maker publishes its files.
//!
//! ```toml
//! origins = ["https://dist.skerrow.example/{version}/", "https://old.skerrow.example/get/{file}?for={platform}"]
//! ```
//!
//! A page that a person must visit: `{ page = "https://skerrow.example/get", asks = "an account", costs = "nothing" }`.
//!
//! An index that the settings name is asked where a file of a project lies: `"index:wheels/tide-lint"`.
//!
//! `{version}`, `{file}` and `{platform}` are filled in, each as it may stand in an address (RFC 3986, `unreserved`); the file's
//! name follows at the end where the address does not say where it stands.

use std::path::Path;

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use serde::{Deserialize, Deserializer};

use crate::address::{NotAnAddress, YardAddress};
use crate::names::is_plain;
use crate::near::near;
use crate::path::InnerPath;
use crate::version::Version;

/// What stays as it is; a path keeps its slashes.
const PLAIN: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b'/');

/// What can be filled in.
const HOLES: [&str; 3] = ["version", "file", "platform"];

/// How an origin begins that an index knows.
const INDEX: &str = "index:";

/// Whether a text can be what an index calls something: a name, or names with slashes between them.
fn is_project(text: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || "._+-@{}:".contains(c);
    text.split('/').all(|part| !part.is_empty() && part != "." && part != ".." && part.chars().all(fits))
}

/// More than these are not asked for one file.
const MOST: usize = 8;

/// An address at which a maker publishes, or what an index calls it, or a page.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Origin {
    text: String,
    /// It is a page, where this is there.
    page: Option<Toll>,
}

/// What a page asks of whoever visits it, in words.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Toll {
    asks: Option<String>,
    costs: Option<String>,
}

/// A page that a person must visit for a file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Visit {
    /// Its address.
    pub page: String,
    /// What it asks for: an account, a form.
    pub asks: Option<String>,
    /// What the file costs.
    pub costs: Option<String>,
}

#[derive(Deserialize)]
#[serde(
    untagged,
    expecting = "here stands an address, `index:NAME/PROJECT`, or a table with `page`, `asks` and `costs`"
)]
enum OriginForm {
    Text(String),
    Page(PageForm),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct PageForm {
    page: String,
    asks: Option<String>,
    costs: Option<String>,
}

impl OriginForm {
    fn origin(self) -> Result<Origin, String> {
        match self {
            Self::Text(text) => Origin::new(&text),
            Self::Page(PageForm { page, .. }) if page.starts_with(INDEX) => Err(format!("`{page}` is no page")),
            Self::Page(PageForm { page, asks, costs }) => {
                Ok(Origin { page: Some(Toll { asks, costs }), ..Origin::new(&page)? })
            }
        }
    }
}

impl Origin {
    fn new(text: &str) -> Result<Self, String> {
        let mut rest = text;
        while let Some(at) = rest.find('{') {
            let Some(end) = rest[at..].find('}') else { return Err(format!("in `{text}` a brace is open")) };
            let hole = &rest[at + 1..at + end];
            if !HOLES.contains(&hole) {
                let meant = near(hole, HOLES).into_iter().next().unwrap_or_else(|| HOLES[0].to_owned());
                return Err(format!("`{{{hole}}}` cannot be filled in; `{{{meant}}}` can"));
            }
            rest = &rest[at + end + 1..];
        }
        if let Some(rest) = text.strip_prefix(INDEX) {
            let project = rest.split_once('/').filter(|(index, project)| is_plain(index) && is_project(project));
            let wrong = || format!("`{text}`: write `index:NAME/PROJECT`, with a name from `[indexes]` in config.toml");
            return project.map(|_| Self { text: text.to_owned(), page: None }).ok_or_else(wrong);
        }
        let plain = HOLES.iter().fold(text.to_owned(), |text, hole| text.replace(&format!("{{{hole}}}"), "x"));
        match YardAddress::new(&plain, Path::new("/")) {
            Ok(YardAddress::Server(_)) => Ok(Self { text: text.to_owned(), page: None }),
            Ok(_) | Err(NotAnAddress::Scheme { .. }) => {
                Err(format!("`{text}`: an origin is an address with http:// or https://"))
            }
            Err(error) => Err(error.to_string()),
        }
    }

    /// The index and what it is called there, where an index is asked.
    pub fn listed(&self, version: &Version) -> Option<(String, String)> {
        let whole = self.text.strip_prefix(INDEX)?.replace("{version}", version.as_str());
        whole.split_once('/').map(|(index, project)| (index.to_owned(), project.to_owned()))
    }

    /// Whether an index is asked for this name.
    pub fn is_listed_as(&self, index: &str, project: &str) -> bool {
        self.text.strip_prefix(INDEX).and_then(|rest| rest.split_once('/')) == Some((index, project))
    }

    /// The page that a person must visit; `None` for what can be asked by itself.
    pub fn visit(&self, version: &Version, file: &InnerPath, platform: &str) -> Option<Visit> {
        let Toll { asks, costs } = self.page.clone()?;
        let values = [("version", version.as_str()), ("file", file.as_str()), ("platform", platform)];
        let filled = |text: &str| utf8_percent_encode(text, PLAIN).to_string();
        let page = values
            .iter()
            .fold(self.text.clone(), |text, (hole, value)| text.replace(&format!("{{{hole}}}"), &filled(value)));
        Some(Visit { page, asks, costs })
    }

    /// Whether it can be asked by itself.
    pub fn is_asked(&self) -> bool {
        self.page.is_none()
    }

    /// The address of a file.
    pub fn of(&self, version: &Version, file: &InnerPath, platform: &str) -> String {
        if self.text.starts_with(INDEX) {
            let values = [("version", version.as_str()), ("platform", platform)];
            return values
                .iter()
                .fold(self.text.clone(), |text, (hole, value)| text.replace(&format!("{{{hole}}}"), value));
        }
        let filled = |text: &str| utf8_percent_encode(text, PLAIN).to_string();
        let whole = if self.text.contains("{file}") {
            self.text.clone()
        } else {
            [self.text.trim_end_matches('/'), "/{file}"].concat()
        };
        let values = [("version", version.as_str()), ("file", file.as_str()), ("platform", platform)];
        values.iter().fold(whole, |text, (hole, value)| text.replace(&format!("{{{hole}}}"), &filled(value)))
    }
}

/// A list of them, not too long.
pub(in crate::catalog) fn origins<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Origin>, D::Error> {
    let forms = Vec::<OriginForm>::deserialize(deserializer)?;
    if forms.len() > MOST {
        return Err(serde::de::Error::custom(format!("more than {MOST} origins are asked by nobody")));
    }
    forms.into_iter().map(OriginForm::origin).collect::<Result<_, _>>().map_err(serde::de::Error::custom)
}
