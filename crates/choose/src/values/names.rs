//! Names of tools, and where in a ladder a tool lives.

use std::borrow::Borrow;
use std::fmt;
use std::ops::Deref;
use std::str::FromStr;
use std::sync::Arc;

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The name of a tool, or of a capability that tools provide: both stand in the same places of a ladder.
///
/// Letters, digits and `. _ + -`, not beginning with a dot or a hyphen: it can be the name of a file as it is. Cheap to
/// clone.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ToolName(Arc<str>);

/// A text that cannot be the name of a tool.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` cannot be the name of a tool: letters, digits and . _ + - can, a dot or hyphen not in front")]
pub struct NotAName(String);

/// Whether a name can be a file's name as it is: letters, digits and `. _ + -`, not starting with a dot or a hyphen, and
/// of at most 100 bytes.
pub fn is_plain(name: &str) -> bool {
    let fits = |c: char| c.is_alphanumeric() || "._+-".contains(c);
    !name.is_empty() && name.len() <= 100 && !name.starts_with(['.', '-']) && name.chars().all(fits)
}

impl ToolName {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl FromStr for ToolName {
    type Err = NotAName;

    fn from_str(text: &str) -> Result<Self, NotAName> {
        if is_plain(text) { Ok(Self(text.into())) } else { Err(NotAName(text.to_owned())) }
    }
}

impl Deref for ToolName {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl Borrow<str> for ToolName {
    fn borrow(&self) -> &str {
        &self.0
    }
}

impl AsRef<str> for ToolName {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

impl AsRef<[u8]> for ToolName {
    fn as_ref(&self) -> &[u8] {
        self.0.as_bytes()
    }
}

impl AsRef<std::path::Path> for ToolName {
    fn as_ref(&self) -> &std::path::Path {
        self.0.as_ref().as_ref()
    }
}

impl PartialEq<str> for ToolName {
    fn eq(&self, other: &str) -> bool {
        &*self.0 == other
    }
}

impl PartialEq<&str> for ToolName {
    fn eq(&self, other: &&str) -> bool {
        &*self.0 == *other
    }
}

impl PartialEq<String> for ToolName {
    fn eq(&self, other: &String) -> bool {
        *self.0 == **other
    }
}

impl fmt::Display for ToolName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl fmt::Debug for ToolName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Debug::fmt(&*self.0, f)
    }
}

impl From<ToolName> for String {
    fn from(name: ToolName) -> Self {
        name.as_str().to_owned()
    }
}

impl Serialize for ToolName {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for ToolName {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

/// Who keeps a rung to itself: the owner, behind the owner of the household that it lives in itself. Nobody for the rungs
/// of the ladder's own. Written `owner/inner-owner`.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Household(Vec<ToolName>);

impl Household {
    /// The ladder's own.
    pub fn shared() -> Self {
        Self::default()
    }

    /// Whether it is the ladder's own.
    pub fn is_shared(&self) -> bool {
        self.0.is_empty()
    }

    /// The owners, outermost first.
    pub fn owners(&self) -> &[ToolName] {
        &self.0
    }

    /// The innermost owner.
    pub fn owner(&self) -> Option<&ToolName> {
        self.0.last()
    }

    /// The household that `owner`, who lives in this one, keeps.
    #[must_use]
    pub fn of(&self, owner: &ToolName) -> Self {
        Self(self.0.iter().chain([owner]).cloned().collect())
    }

    /// The household of its first `depth` owners.
    #[must_use]
    pub fn outer(&self, depth: usize) -> Self {
        Self(self.0.iter().take(depth).cloned().collect())
    }

    /// Itself and the households around it, nearest first; the ladder's own comes last.
    pub fn around(&self) -> impl Iterator<Item = Self> {
        (0..=self.0.len()).rev().map(|depth| self.outer(depth))
    }

    /// As one text that can be a folder's name: owners with a `~` between them, which no name holds.
    pub fn folder_name(&self) -> String {
        self.0.iter().map(ToolName::as_str).collect::<Vec<_>>().join("~")
    }
}

impl fmt::Display for Household {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&written(&self.0))
    }
}

fn written(names: &[ToolName]) -> String {
    names.iter().map(ToolName::as_str).collect::<Vec<_>>().join("/")
}

fn parsed(text: &str) -> Result<Vec<ToolName>, NotAName> {
    text.split('/').map(str::parse).collect()
}

impl Serialize for Household {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&written(&self.0))
    }
}

impl<'de> Deserialize<'de> for Household {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let owners = if text.is_empty() { Ok(Vec::new()) } else { parsed(&text) };
        owners.map(Self).map_err(serde::de::Error::custom)
    }
}

/// What tells a rung of a ladder from all others: its tool, and the household it lives in. Written `owner/tool`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RungKey {
    /// Where it lives.
    pub household: Household,
    /// The tool.
    pub tool: ToolName,
}

impl RungKey {
    /// A rung of the ladder's own.
    pub fn shared(tool: &ToolName) -> Self {
        Self { household: Household::shared(), tool: tool.clone() }
    }

    /// The household that it keeps itself.
    pub fn keeps(&self) -> Household {
        self.household.of(&self.tool)
    }

    /// As one text that can be a folder's name.
    pub fn folder_name(&self) -> String {
        self.keeps().folder_name()
    }
}

impl fmt::Display for RungKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&written(&self.keeps().0))
    }
}

impl Serialize for RungKey {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&written(&self.keeps().0))
    }
}

impl<'de> Deserialize<'de> for RungKey {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        let mut owners = parsed(&text).map_err(serde::de::Error::custom)?;
        // Splitting a text gives one part at least.
        let tool = owners.pop().ok_or_else(|| serde::de::Error::custom("a rung has a name"))?;
        Ok(Self { household: Household(owners), tool })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_can_be_a_file_and_nothing_else_is_a_name() {
        for good in ["skerroc", "c++", "7zip", "lib.so_1-2", "größe"] {
            assert_eq!(good.parse::<ToolName>().unwrap(), *good);
        }
        for bad in ["", ".hidden", "-x", "a/b", "a b", "a~b", "a\n", "a\0", "..", &"x".repeat(101)] {
            assert!(bad.parse::<ToolName>().is_err(), "{bad:?}");
        }
    }

    #[test]
    fn a_key_is_written_in_one_form_and_read_again() {
        let [a, b, c]: [ToolName; 3] = ["a", "b", "c"].map(|name| name.parse().unwrap());
        let key = RungKey { household: Household::shared().of(&a).of(&b), tool: c };
        assert_eq!((key.to_string().as_str(), key.folder_name().as_str()), ("a/b/c", "a~b~c"));
        let around: Vec<String> = key.household.around().map(|household| household.to_string()).collect();
        assert_eq!(around, ["a/b", "a", ""]);
        let text = toml::to_string(&std::collections::BTreeMap::from([("key", key.clone())])).unwrap();
        assert_eq!(toml::from_str::<std::collections::BTreeMap<String, RungKey>>(&text).unwrap()["key"], key);
    }
}
