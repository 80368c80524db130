//! Texts with places to fill in.
//!
//! ```
//! use kladder_choose::template::{Hole, Template};
//! use std::ffi::OsStr;
//!
//! let text = Template::new("{folder}/lib/{version}")?;
//! let filled = text.fill(|hole| OsStr::new(if hole == Hole::Version { "1.4.2" } else { "/shelf/skerroc" }));
//! assert_eq!(filled, "/shelf/skerroc/lib/1.4.2");
//! // Braces that are meant as such are doubled; a name that nothing fills is a mistake, not a text.
//! assert_eq!(Template::new("${{version}}")?.fill(|_| OsStr::new("")), "${version}");
//! assert!(Template::new("{foldr}").unwrap_err().to_string().contains("`{folder}` can"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::ffi::{OsStr, OsString};
use std::fmt;

use serde::{Deserialize, Serialize};

use super::near::near;
use super::path::{InnerPath, NotInner};

/// What can be filled into a text of a definition.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Hole {
    /// `{folder}`: where the rung's files are, as whoever runs sees them.
    Folder,
    /// `{version}`: the rung's version.
    Version,
    /// `{place}`: where the rung's files will stand once they are on the shelf; elsewhere the same as the folder.
    Place,
}

const HOLES: [(&str, Hole); 3] = [("folder", Hole::Folder), ("version", Hole::Version), ("place", Hole::Place)];

/// A text with holes: `{folder}/bin`. A brace that is meant as such is written twice where it would be taken for a hole.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Template {
    parts: Vec<Part>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part {
    Text(String),
    Hole(Hole),
}

/// Why a text is no template.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// It names something that cannot be filled in.
    #[error("`{{{name}}}` cannot be filled in{}", told(near.as_deref(), name))]
    Unknown {
        /// What stands between the braces.
        name: String,
        /// What was probably meant.
        near: Option<String>,
    },
    /// It holds a NUL, which no argument or variable can.
    #[error("a text that is handed to a program holds no NUL")]
    Nul,
    /// Only the version can be filled in here.
    #[error("only `{{version}}` can be filled in here")]
    OnlyVersion,
    /// With its holes filled it would lead out of the folder.
    #[error(transparent)]
    NotInner(#[from] NotInner),
}

fn told(near: Option<&str>, name: &str) -> String {
    match near {
        Some(near) => format!("; `{{{near}}}` can"),
        None => format!("; what can is {{folder}}, {{version}}, {{place}}; for the text itself write `{{{{{name}}}}}`"),
    }
}

impl Template {
    /// Reads a text.
    ///
    /// # Errors
    /// [`TemplateError`] for a hole that nothing fills, and for a NUL.
    pub fn new(text: &str) -> Result<Self, TemplateError> {
        if text.contains('\0') {
            return Err(TemplateError::Nul);
        }
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find('{') {
            plain.push_str(&rest[..at]);
            rest = &rest[at..];
            match (doubled(rest), name_of(rest)) {
                (Some(name), _) => {
                    plain.extend(["{", name, "}"]);
                    rest = &rest[name.len() + 4..];
                }
                (None, Some(name)) => {
                    let known = HOLES.iter().find(|(known, _)| *known == name);
                    let (_, hole) = known.ok_or_else(|| unknown(name))?;
                    if !plain.is_empty() {
                        parts.push(Part::Text(std::mem::take(&mut plain)));
                    }
                    parts.push(Part::Hole(*hole));
                    rest = &rest[name.len() + 2..];
                }
                (None, None) => {
                    plain.push('{');
                    rest = &rest[1..];
                }
            }
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            parts.push(Part::Text(plain));
        }
        Ok(Self { parts })
    }

    /// The text as it was written.
    pub fn as_written(&self) -> String {
        let part = |part: &Part| match part {
            Part::Text(text) => escaped(text),
            Part::Hole(hole) => format!("{{{}}}", name(*hole)),
        };
        self.parts.iter().map(part).collect()
    }

    /// The text with its holes filled.
    pub fn fill<'v>(&self, with: impl Fn(Hole) -> &'v OsStr) -> OsString {
        let mut out = OsString::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push(text),
                Part::Hole(hole) => out.push(with(*hole)),
            }
        }
        out
    }
}

fn name(hole: Hole) -> &'static str {
    HOLES.iter().find(|(_, known)| *known == hole).map_or("", |(name, _)| name)
}

/// The word in braces at the start of a text: lower-case letters and hyphens only, so that other braces stay what they are.
fn name_of(text: &str) -> Option<&str> {
    let inside = text.strip_prefix('{')?.split_once('}')?.0;
    let is_word = !inside.is_empty() && inside.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'-');
    is_word.then_some(inside)
}

fn doubled(text: &str) -> Option<&str> {
    let name = name_of(text.strip_prefix('{')?)?;
    text[name.len() + 3..].starts_with('}').then_some(name)
}

fn escaped(text: &str) -> String {
    let mut out = String::new();
    let mut rest = text;
    while let Some(at) = rest.find('{') {
        out.push_str(&rest[..at]);
        rest = &rest[at..];
        if let Some(name) = name_of(rest) {
            out.extend(["{{", name, "}}"]);
            rest = &rest[name.len() + 2..];
        } else {
            out.push('{');
            rest = &rest[1..];
        }
    }
    out + rest
}

fn unknown(name: &str) -> TemplateError {
    let near = near(name, HOLES.iter().map(|(known, _)| *known)).into_iter().next();
    TemplateError::Unknown { name: name.to_owned(), near }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.as_written())
    }
}

impl TryFrom<String> for Template {
    type Error = TemplateError;

    fn try_from(text: String) -> Result<Self, TemplateError> {
        Self::new(&text)
    }
}

impl From<Template> for String {
    fn from(template: Template) -> Self {
        template.as_written()
    }
}

/// A path below a rung's folder that may hold its version: `lib/skerroc-{version}`.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct PathTemplate(Template);

impl PathTemplate {
    /// Reads a text.
    ///
    /// # Errors
    /// [`TemplateError`] for other holes than the version, and for a path that leads out.
    pub fn new(text: &str) -> Result<Self, TemplateError> {
        let template = Template::new(text)?;
        if template.parts.iter().any(|part| matches!(part, Part::Hole(hole) if *hole != Hole::Version)) {
            return Err(TemplateError::OnlyVersion);
        }
        // No version is `.` or `..`, so one stands for all.
        InnerPath::new(&template.fill(|_| OsStr::new("0")).to_string_lossy())?;
        Ok(Self(template))
    }

    /// The path for a version.
    ///
    /// # Panics
    /// Never: it was seen to stay inside whatever the version is.
    pub fn at(&self, version: &crate::version::Version) -> InnerPath {
        let text = self.0.fill(|_| OsStr::new(version.as_str()));
        InnerPath::new(&text.to_string_lossy()).expect("a path that was checked stays inside")
    }

    /// The path as it was written.
    pub fn as_written(&self) -> String {
        self.0.as_written()
    }

    /// Whether it is the folder itself.
    pub fn is_empty(&self) -> bool {
        self.0.parts.is_empty()
    }
}

impl TryFrom<String> for PathTemplate {
    type Error = TemplateError;

    fn try_from(text: String) -> Result<Self, TemplateError> {
        Self::new(&text)
    }
}

impl From<PathTemplate> for String {
    fn from(template: PathTemplate) -> Self {
        template.as_written()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn filled(text: &str) -> Result<String, TemplateError> {
        let value = |hole| match hole {
            Hole::Folder => OsStr::new("/s"),
            Hole::Version => OsStr::new("1.4"),
            Hole::Place => OsStr::new("/p"),
        };
        Template::new(text).map(|template| template.fill(value).into_string().unwrap())
    }

    #[test]
    fn holes_are_filled_and_other_braces_stay() {
        assert_eq!(filled("{folder}/lib:{place}/{version}").unwrap(), "/s/lib:/p/1.4");
        assert_eq!(filled("{ print $1 } {} {A} {\"a\": 1} {").unwrap(), "{ print $1 } {} {A} {\"a\": 1} {");
        assert_eq!(filled("awk '{{print}}'").unwrap(), "awk '{print}'");
        for text in ["{folder}/x", "a {{print}} b", "{ x }", "plain", ""] {
            assert_eq!(Template::new(text).unwrap().as_written(), text);
        }
    }

    #[test]
    fn a_hole_that_nothing_fills_is_refused_with_what_was_meant() {
        assert!(filled("{versio}").unwrap_err().to_string().contains("`{version}` can"));
        assert!(filled("{print}").unwrap_err().to_string().contains("`{{print}}`"));
        assert_eq!(filled("a\0"), Err(TemplateError::Nul));
        assert_eq!(PathTemplate::new("{folder}/x"), Err(TemplateError::OnlyVersion));
        assert!(PathTemplate::new("../{version}").is_err());
        assert_eq!(PathTemplate::new("lib-{version}/a").unwrap().at(&"2.1".parse().unwrap()).as_str(), "lib-2.1/a");
    }
}
