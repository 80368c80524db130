//! Platforms: the operating system and processor that something runs on, and the machines that a ladder is pinned for.
//!
//! ```
//! use kladder_choose::platform::{Platform, Scope};
//!
//! let desk: Platform = "linux/x86_64".parse()?;
//! assert!("any".parse::<Scope>()?.holds_on(&desk) && "linux".parse::<Scope>()?.holds_on(&desk));
//! // Beside musl runs only what is built for it.
//! assert!(!"linux/x86_64".parse::<Scope>()?.holds_on(&"linux/x86_64/musl".parse()?));
//! assert_eq!("linux-x86_64".parse::<Platform>().unwrap_err().near.as_deref(), Some("linux/x86_64"));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

use std::fmt;
use std::str::FromStr;

use super::near::near;

const SYSTEMS: [&str; 3] = ["linux", "macos", "windows"];
const PROCESSORS: [&str; 5] = ["x86_64", "aarch64", "armv7", "i686", "riscv64"];
/// C libraries that a platform is told apart by; without one it is the system's usual.
const LIBRARIES: [(&str, &str); 1] = [("linux", "musl")];

/// An operating system and a processor, with the C library where that is not the usual one: `linux/x86_64`,
/// `linux/x86_64/musl`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Platform(String);

/// A text that is no platform.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{text}` is not a platform{}", hint(near.as_deref()))]
pub struct NotAPlatform {
    /// The text.
    pub text: String,
    /// The platform that looks most like it.
    pub near: Option<String>,
}

fn hint(near: Option<&str>) -> String {
    near.map_or_else(|| ": write one like `linux/x86_64`".to_owned(), |near| format!("; `{near}` is one"))
}

fn all() -> impl Iterator<Item = String> {
    let plain = || SYSTEMS.iter().flat_map(|os| PROCESSORS.iter().map(move |cpu| format!("{os}/{cpu}")));
    let beside = |(os, library): &(&str, &str)| PROCESSORS.map(|cpu| format!("{os}/{cpu}/{library}"));
    plain().chain(LIBRARIES.iter().flat_map(beside))
}

fn not_a_platform(text: &str, others: &[&str]) -> NotAPlatform {
    // A hyphen is what people bring along from elsewhere.
    let like = text.replace('-', "/");
    let known: Vec<String> = all().chain(others.iter().map(|&other| other.to_owned())).collect();
    let exact = known.iter().find(|known| **known == like).cloned();
    let near = exact.or_else(|| near(&like, known.iter().map(String::as_str)).into_iter().next());
    NotAPlatform { text: text.to_owned(), near }
}

impl Platform {
    /// A system, a processor and, where it is not the system's usual one, a C library.
    ///
    /// # Errors
    /// [`NotAPlatform`] where nothing of that name is known.
    pub fn new(system: &str, processor: &str, library: Option<&str>) -> Result<Self, NotAPlatform> {
        let library = library.map(|library| format!("/{library}")).unwrap_or_default();
        format!("{system}/{processor}{library}").parse()
    }

    /// The platform this program was built for, as far as its C library is concerned the usual one.
    pub fn built_for() -> Self {
        Self(format!("{}/{}", std::env::consts::OS, std::env::consts::ARCH))
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The operating system's name.
    pub fn system(&self) -> &str {
        self.0.split('/').next().unwrap_or_default()
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl FromStr for Platform {
    type Err = NotAPlatform;

    fn from_str(text: &str) -> Result<Self, NotAPlatform> {
        if all().any(|known| known == text) { Ok(Self(text.into())) } else { Err(not_a_platform(text, &[])) }
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

/// The platforms that something is for: one, all of an operating system (`linux`), or all there are (`any`).
///
/// `linux/x86_64` means that with the usual C library: what is built for it does not run beside musl.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Serialize, serde::Deserialize)]
#[serde(into = "String", try_from = "String")]
pub enum Scope {
    /// This platform.
    Platform(Platform),
    /// All platforms of this operating system.
    System(String),
    /// All platforms.
    Any,
}

impl Scope {
    /// Whether a platform is meant.
    pub fn holds_on(&self, platform: &Platform) -> bool {
        match self {
            Self::Any => true,
            Self::System(system) => platform.system() == system,
            Self::Platform(one) => one == platform,
        }
    }

    /// Whether every platform that is meant is meant by another one too.
    pub fn lies_in(&self, other: &Self) -> bool {
        match (self, other) {
            (_, Self::Any) => true,
            (Self::Platform(platform), other) => other.holds_on(platform),
            (one, other) => one == other,
        }
    }

    /// The name.
    pub fn as_str(&self) -> &str {
        match self {
            Self::Any => "any",
            Self::System(system) => system,
            Self::Platform(platform) => platform.as_str(),
        }
    }
}

impl fmt::Display for Scope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.as_str())
    }
}

impl FromStr for Scope {
    type Err = NotAPlatform;

    fn from_str(text: &str) -> Result<Self, NotAPlatform> {
        if text == "any" {
            return Ok(Self::Any);
        }
        if SYSTEMS.contains(&text) {
            return Ok(Self::System(text.to_owned()));
        }
        let others = ["any", "linux", "macos", "windows"];
        text.parse().map(Self::Platform).map_err(|_| not_a_platform(text, &others))
    }
}

impl TryFrom<String> for Scope {
    type Error = NotAPlatform;

    fn try_from(text: String) -> Result<Self, NotAPlatform> {
        text.parse()
    }
}

impl From<Scope> for String {
    fn from(scope: Scope) -> Self {
        scope.as_str().to_owned()
    }
}

impl From<Platform> for Scope {
    fn from(platform: Platform) -> Self {
        Self::Platform(platform)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn platforms_are_told_apart_by_system_processor_and_c_library() {
        let platform = |text: &str| text.parse::<Platform>();
        for good in ["linux/x86_64", "linux/aarch64/musl", "macos/aarch64", "windows/x86_64"] {
            assert_eq!(platform(good).unwrap().as_str(), good);
        }
        for bad in ["any", "linux", "macos/aarch64/musl", "linux/x86_64/", "", "linux/x86_64/gnu"] {
            assert!(platform(bad).is_err(), "{bad}");
        }
        assert_eq!(platform("linux-x86_64").unwrap_err().near.as_deref(), Some("linux/x86_64"));
        let scope = |text: &str, on: &str| text.parse::<Scope>().unwrap().holds_on(&platform(on).unwrap());
        assert!(scope("any", "macos/x86_64") && scope("linux", "linux/x86_64/musl"));
        assert!(scope("linux/x86_64/musl", "linux/x86_64/musl") && !scope("linux/x86_64", "linux/x86_64/musl"));
        assert!(!scope("linux", "macos/x86_64"));
        assert!("linuxx".parse::<Scope>().unwrap_err().to_string().contains("`linux` is one"));
    }
}
