//! What went wrong.

use schemars::JsonSchema;
use serde::Serialize;

use super::path;
use crate::problem::{Problem as Told, Where};

/// What went wrong, where, why, and what to do next. Goes to standard error.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Problem {
    /// `kladder.problem/1`
    pub format: &'static str,
    /// The exit code.
    pub code: u8,
    /// What happened, in a sentence.
    pub what: String,
    /// Where.
    #[serde(rename = "where")]
    pub places: Vec<Place>,
    /// Why, a sentence each.
    pub why: Vec<String>,
    /// What to do next, a step each.
    pub next: Vec<String>,
    /// Commands among these steps, ready to be run.
    pub commands: Vec<Vec<String>>,
}

/// A file, or a place in it.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Place {
    /// The file or folder.
    pub file: String,
    /// From 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub line: Option<usize>,
    /// In characters, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub column: Option<usize>,
}

impl Problem {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.problem/1";

    /// The shape of a problem.
    pub fn of(problem: &Told) -> Self {
        let places = match &problem.place {
            Where::Nowhere => Vec::new(),
            Where::File(file) => vec![Place { file: path(file), line: None, column: None }],
            Where::Places(places) => places
                .iter()
                .map(|at| Place { file: path(&at.path), line: Some(at.line), column: Some(at.column) })
                .collect(),
        };
        Self {
            format: Self::FORMAT,
            code: problem.code as u8,
            what: problem.what.clone(),
            places,
            why: problem.why.clone(),
            next: problem.next.clone(),
            commands: problem.next.iter().flat_map(|next| commands(next)).collect(),
        }
    }
}

/// The commands of ours that a step names, without those that leave something to fill in.
fn commands(next: &str) -> Vec<Vec<String>> {
    let quoted = next.split('`').skip(1).step_by(2).filter(|text| text.starts_with("kladder "));
    let words = quoted.map(|text| text.split_whitespace().map(str::to_owned).collect::<Vec<String>>());
    let is_whole = |words: &Vec<String>| {
        !words.iter().any(|word| word.len() > 1 && word.chars().all(|c| c.is_ascii_uppercase() || "-[]=|".contains(c)))
    };
    words.filter(is_whole).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn commands_are_taken_out_of_advice_where_nothing_is_left_to_fill_in() {
        let split = |text: &str| text.split(' ').map(str::to_owned).collect::<Vec<_>>();
        assert_eq!(
            commands("`kladder add x =1.4`, then `kladder climb`"),
            [split("kladder add x =1.4"), split("kladder climb")]
        );
        assert!(commands("give it more time: `kladder pin --within SECONDS`").is_empty());
        assert!(commands("did you mean `skerroc`?").is_empty());
    }
}
