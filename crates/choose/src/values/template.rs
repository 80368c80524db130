//! Texts with places to fill in.
//!
//! ```
//! use kladder_choose::template::{Hole, Template};
//!
//! let text = Template::new("{folder}/lib/{version}")?;
//! let filled = text.fill(|hole| if *hole == Hole::Version { "1.4.2".into() } else { "/shelf/skerroc".into() });
//! assert_eq!(filled, "/shelf/skerroc/lib/1.4.2");
//! // Another rung is named with what is meant of it.
//! let other = Template::new("{tidlow.folder}/lib")?;
//! assert_eq!(other.others().map(|tool| tool.as_str()).collect::<Vec<_>>(), ["tidlow"]);
//! // Braces that are meant as such are doubled; a name that nothing fills is a mistake, not a text.
//! assert_eq!(Template::new("${{version}}")?.fill(|_| "".into()), "${version}");
//! assert!(Template::new("{foldr}").unwrap_err().to_string().contains("`{folder}` can"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::ffi::OsString;
use std::fmt;

use serde::{Deserialize, Serialize};

use super::names::ToolName;
use super::near::near;
use super::path::{InnerPath, NotInner};

/// What can be filled into a text of a definition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Hole {
    /// `{folder}`: where the rung's files are, as whoever runs sees them.
    Folder,
    /// `{version}`: the rung's version.
    Version,
    /// `{place}`: where the rung's files will stand once they are on the shelf; elsewhere the same as the folder.
    Place,
    /// `{TOOL.folder}`: where the files of another rung are.
    FolderOf(ToolName),
    /// `{TOOL.version}`: the version of another rung.
    VersionOf(ToolName),
    /// `{port}`: where the rung's service listens.
    Port,
    /// `{address}`: the address at which the rung's service listens: the loopback's, or any, as the ladder wants.
    Address,
    /// `{TOOL.port}`: where another rung's service listens.
    PortOf(ToolName),
}

impl Hole {
    /// By what stands between braces; `None` where that is no hole, but text.
    fn named(name: &str) -> Option<Result<Self, TemplateError>> {
        let Some((tool, what)) = name.rsplit_once('.') else {
            let known = HOLES.iter().find(|(known, _)| *known == name);
            return Some(known.map(|(_, hole)| hole.clone()).ok_or_else(|| unknown(name)));
        };
        let tool: ToolName = tool.parse().ok()?;
        match what {
            "folder" => Some(Ok(Self::FolderOf(tool))),
            "version" => Some(Ok(Self::VersionOf(tool))),
            "port" => Some(Ok(Self::PortOf(tool))),
            other => {
                let near = near(other, ["folder", "version", "port"]).into_iter().next()?;
                let near = Some([tool.as_str(), ".", &near].concat());
                Some(Err(TemplateError::Unknown { name: name.to_owned(), near }))
            }
        }
    }

    /// A hole at the start of a text, with its length; `None` where there is none that means something.
    pub(crate) fn at_start(text: &str) -> Option<(Self, usize)> {
        let name = name_of(text)?;
        Some((Self::named(name)?.ok()?, name.len() + 2))
    }

    /// As it stands in a text.
    pub fn as_written(&self) -> String {
        ["{", &self.name(), "}"].concat()
    }

    fn name(&self) -> String {
        match self {
            Self::FolderOf(tool) => [tool.as_str(), ".folder"].concat(),
            Self::VersionOf(tool) => [tool.as_str(), ".version"].concat(),
            Self::PortOf(tool) => [tool.as_str(), ".port"].concat(),
            own => HOLES.iter().find(|(_, known)| known == own).map_or("", |(name, _)| name).to_owned(),
        }
    }
}

const HOLES: [(&str, Hole); 5] = [
    ("folder", Hole::Folder),
    ("version", Hole::Version),
    ("place", Hole::Place),
    ("port", Hole::Port),
    ("address", Hole::Address),
];

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
                (None, name) => {
                    let Some((name, hole)) = name.and_then(|name| Some((name, Hole::named(name)?))) else {
                        plain.push('{');
                        rest = &rest[1..];
                        continue;
                    };
                    if !plain.is_empty() {
                        parts.push(Part::Text(std::mem::take(&mut plain)));
                    }
                    parts.push(Part::Hole(hole?));
                    rest = &rest[name.len() + 2..];
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
            Part::Hole(hole) => hole.as_written(),
        };
        self.parts.iter().map(part).collect()
    }

    /// The other rungs that it names.
    pub fn others(&self) -> impl Iterator<Item = &ToolName> {
        self.parts.iter().filter_map(|part| match part {
            Part::Hole(Hole::FolderOf(tool) | Hole::VersionOf(tool)) => Some(tool),
            _ => None,
        })
    }

    /// The text with its holes filled.
    pub fn fill(&self, with: impl Fn(&Hole) -> OsString) -> OsString {
        let mut out = OsString::new();
        for part in &self.parts {
            match part {
                Part::Text(text) => out.push(text),
                Part::Hole(hole) => out.push(with(hole)),
            }
        }
        out
    }
}

/// The word in braces at the start of a text: lower-case letters and hyphens only, or a tool's name and such a word behind a dot,
/// so that other braces stay what they are.
fn name_of(text: &str) -> Option<&str> {
    let inside = text.strip_prefix('{')?.split_once('}')?.0;
    let is_word = |word: &str| !word.is_empty() && word.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'-');
    let of_tool = |(tool, what): (&str, &str)| tool.parse::<ToolName>().is_ok() && is_word(what);
    (is_word(inside) || inside.rsplit_once('.').is_some_and(of_tool)).then_some(inside)
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
        InnerPath::new(&template.fill(|_| "0".into()).to_string_lossy())?;
        Ok(Self(template))
    }

    /// The path for a version.
    ///
    /// # Panics
    /// Never: it was seen to stay inside whatever the version is.
    pub fn at(&self, version: &crate::version::Version) -> InnerPath {
        let text = self.0.fill(|_| version.as_str().into());
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
        let value = |hole: &Hole| match hole {
            Hole::Folder => "/s".into(),
            Hole::Version => "1.4".into(),
            Hole::Place => "/p".into(),
            other => format!("[{}]", other.name()).into(),
        };
        Template::new(text).map(|template| template.fill(value).into_string().unwrap())
    }

    #[test]
    fn holes_are_filled_and_other_braces_stay() {
        assert_eq!(filled("{folder}/lib:{place}/{version}").unwrap(), "/s/lib:/p/1.4");
        assert_eq!(filled("{ print $1 } {} {A} {\"a\": 1} {").unwrap(), "{ print $1 } {} {A} {\"a\": 1} {");
        assert_eq!(filled("awk '{{print}}'").unwrap(), "awk '{print}'");
        assert_eq!(filled("{tidlow.folder}:{a.b}:{tidlow.version}").unwrap(), "[tidlow.folder]:{a.b}:[tidlow.version]");
        assert!(filled("{tidlow.foldr}").unwrap_err().to_string().contains("`{tidlow.folder}` can"));
        for text in ["{folder}/x", "{tidlow.folder}", "a {{print}} b", "{ x }", "plain", ""] {
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
