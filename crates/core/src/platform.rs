//! Platforms: the operating system and processor an artifact is for.

use std::fmt;
use std::str::FromStr;

use crate::near::near;

const SYSTEMS: [&str; 3] = ["linux", "macos", "windows"];
const PROCESSORS: [&str; 5] = ["x86_64", "aarch64", "armv7", "i686", "riscv64"];

/// An operating system and a processor, written like `linux-x86_64`; `any` for what runs everywhere.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Platform(String);

/// A text that is no platform.
#[derive(Debug, thiserror::Error)]
#[error("`{text}` is not a platform{}", hint(near))]
pub struct NotAPlatform {
    /// The text.
    pub text: String,
    /// Platforms that look like it.
    pub near: Vec<String>,
}

fn hint(near: &[String]) -> String {
    near.first().map_or_else(|| ": write one like `linux-x86_64`".to_owned(), |near| format!("; `{near}` is one"))
}

impl Platform {
    /// What an artifact that runs everywhere is for.
    pub fn any() -> Self {
        Self("any".into())
    }

    /// Whether it stands for all.
    pub fn is_any(&self) -> bool {
        self.0 == "any"
    }

    /// The platform this program was built for.
    pub fn here() -> Self {
        Self(format!("{}-{}", std::env::consts::OS, std::env::consts::ARCH))
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// A platform, or an operating system on all processors: `linux-x86_64`, `linux`.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Scope(String);

impl Scope {
    /// Whether a platform is meant.
    pub fn holds_on(&self, platform: &Platform) -> bool {
        platform.0 == self.0 || platform.0.strip_prefix(&self.0).is_some_and(|rest| rest.starts_with('-'))
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Scope {
    type Error = NotAPlatform;

    fn try_from(text: String) -> Result<Self, NotAPlatform> {
        if SYSTEMS.contains(&text.as_str()) { Ok(Self(text)) } else { Platform::try_from(text).map(|p| Self(p.0)) }
    }
}

impl From<Scope> for String {
    fn from(scope: Scope) -> Self {
        scope.0
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl FromStr for Platform {
    type Err = NotAPlatform;

    fn from_str(text: &str) -> Result<Self, NotAPlatform> {
        let all = || SYSTEMS.iter().flat_map(|os| PROCESSORS.iter().map(move |cpu| format!("{os}-{cpu}")));
        if text == "any" || all().any(|known| known == text) {
            return Ok(Self(text.into()));
        }
        let all: Vec<String> = all().collect();
        Err(NotAPlatform { text: text.into(), near: near(text, all.iter().map(String::as_str)) })
    }
}

impl TryFrom<String> for Platform {
    type Error = NotAPlatform;

    fn try_from(text: String) -> Result<Self, NotAPlatform> {
        text.parse()
    }
}

impl From<Platform> for String {
    fn from(platform: Platform) -> Self {
        platform.0
    }
}
