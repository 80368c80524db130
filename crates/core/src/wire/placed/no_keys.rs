//! Why a file has no place for a key, and what a value is where there are only texts.

use serde_json::Value;

/// Why a file cannot be changed key by key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoKeys {
    /// It is not what its form says.
    #[error("{0}")]
    Unreadable(String),
    /// Something on the way to the key is no table.
    #[error("`{0}` is there, and is not the table or list that the key leads into")]
    NotATable(String),
}

pub(super) fn unreadable(error: impl std::fmt::Display) -> NoKeys {
    NoKeys::Unreadable(error.to_string())
}

/// What is not a table, or no list, where one is wanted.
pub(super) fn no_table(name: &str) -> NoKeys {
    NoKeys::NotATable(name.to_owned())
}

/// A value as a file without types has it.
pub(super) fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}
