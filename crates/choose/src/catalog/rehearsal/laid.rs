//! The files of a project.
//!
//! ```toml
//! files = { "src/main.sk" = "say light" }
//! files."pictures/gauge.png" = { from = "pictures/gauge.png" }     # a file beside the rehearsal's own, as it is
//! files."watch" = { text = "#!/bin/sh\n", executable = true }
//! ```

use std::path::{Path, PathBuf};

use serde::{Deserialize, Deserializer};

use crate::path::InnerPath;

/// A file of a project.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Laid {
    /// What is in it.
    pub content: Content,
    /// Whether it may be run.
    pub executable: bool,
}

/// What is in a file of a project.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Content {
    /// This text.
    Text(String),
    /// What is in this file: beside the rehearsal's own, or, once it is filled in, wherever that is.
    From(PathBuf),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct LaidTable {
    text: Option<String>,
    from: Option<InnerPath>,
    #[serde(default)]
    executable: bool,
}

impl<'de> Deserialize<'de> for Laid {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Visitor;
        impl<'de> serde::de::Visitor<'de> for Visitor {
            type Value = Laid;
            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str("a text, or a table with `text` or `from`, and `executable`")
            }
            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<Laid, E> {
                Ok(Laid { content: Content::Text(text.to_owned()), executable: false })
            }
            fn visit_map<A: serde::de::MapAccess<'de>>(self, map: A) -> Result<Laid, A::Error> {
                let table = LaidTable::deserialize(serde::de::value::MapAccessDeserializer::new(map))?;
                let content = match (table.text, table.from) {
                    (Some(text), None) => Content::Text(text),
                    (None, Some(from)) if !from.is_empty() => Content::From(from.as_str().into()),
                    _ => return Err(serde::de::Error::custom("a file has either `text` or `from`")),
                };
                Ok(Laid { content, executable: table.executable })
            }
        }
        deserializer.deserialize_any(Visitor)
    }
}

impl Laid {
    /// The same with words of its text filled in, and a file named from the folder that it lies in.
    pub(super) fn filled(&self, base: &Path, fill: impl Fn(&str) -> String) -> Self {
        let content = match &self.content {
            Content::Text(text) => Content::Text(fill(text)),
            Content::From(path) => Content::From(base.join(path)),
        };
        Self { content, executable: self.executable }
    }
}
