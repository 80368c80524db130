//! Rehearsals: small projects that several rungs build and run together, and that can be taken as a first project.
//!
//! ```toml
//! rehearsal = "first-light"
//! summary = "A program is compiled, linked and run"
//! tools = ["skerroc", "tidlow"]
//! files = { "src/@name@.sk" = "say @greeting@" }
//! steps = [
//!     { name = "compiles", run = ["skerroc", "src/@name@.sk", "-o", "@name@"] },
//!     { name = "runs", run = ["tidlow", "@name@"], expect = { stdout = "light" } },
//! ]
//! [asks.name]                                        # filled in for @name@ in paths, files and steps
//! question = "What is the program called?"
//! default = "light"
//! pattern = '[a-z][a-z0-9]*'
//! rule = "lower-case letters and digits, a letter first"
//! [asks.greeting]
//! question = "What does it say?"
//! default = "light"
//! [parts.windows]                                    # what can be added, at once or later
//! summary = "A second window"
//! files = { "src/window.sk" = "say window" }
//! ```
//!
//! `@TOOL.folder@` and `@TOOL.version@` stand for a rung of the ladder.

mod laid;
mod step;
mod talk;
mod terminal;

pub use laid::{Content, Laid};
pub use step::Step;
pub use talk::{Completes, DebugAdapter, LanguageServer, Talk};
pub use terminal::{Deed, Key, Terminal};

use std::collections::BTreeMap;
use std::path::PathBuf;

use serde::Deserialize;

use super::{CatalogError, CommandName, HostPath, Pattern};
use crate::document::Source;
use crate::names::{ToolName, is_plain};
use crate::path::InnerPath;
use crate::template::Template;

/// A small project and what must come of it.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Rehearsal {
    /// Its name; the file is called after it, and in a ladder the table.
    #[serde(default)]
    pub rehearsal: String,
    /// One line on what it shows.
    pub summary: String,
    /// The tools that it proves to work together; it is run where all of them are on the ladder.
    pub tools: Vec<ToolName>,
    /// The project's files, by path.
    #[serde(default)]
    pub files: BTreeMap<InnerPath, Laid>,
    /// What is run in the project's folder, in order.
    pub steps: Vec<Step>,
    /// What it asks whoever takes it as a first project, by the name it is filled in for.
    #[serde(default)]
    pub asks: BTreeMap<String, Ask>,
    /// What can be added, by name.
    #[serde(default)]
    pub parts: BTreeMap<String, Part>,
    /// The source of the ladder's code that its steps build or run, in the place of files of its own; `verify` leaves it out, since
    /// the code is a person's.
    #[serde(default)]
    pub code: Option<String>,
    /// The device or service that it runs on, in words.
    #[serde(default, rename = "runs-on")]
    pub runs_on: Option<String>,
    /// Services of its tools that run for it alone, with corners of its own.
    #[serde(default)]
    pub services: Vec<String>,
    /// Commands of the host that its steps start: they find no others but those of the ladder.
    #[serde(default)]
    pub calls: Vec<CommandName>,
    /// Files and folders of the host, beside the system's own, that its steps read.
    #[serde(default)]
    pub reads: Vec<HostPath>,
    /// The folder that its file lies in.
    #[serde(skip)]
    pub base: PathBuf,
}

/// Something that a first project asks.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ask {
    /// The question.
    pub question: String,
    /// The answer where nobody is asked.
    pub default: String,
    /// What the whole answer must look like; anything of one line where it is left out.
    pub pattern: Option<Pattern>,
    /// The same in words.
    pub rule: Option<String>,
}

impl Ask {
    /// Whether an answer keeps to the rule.
    ///
    /// ```
    /// use kladder_choose::catalog::{Ask, Pattern};
    ///
    /// let pattern = Some(Pattern::try_from(String::from("[a-z]+"))?);
    /// let ask = Ask { question: String::new(), default: "light".into(), pattern, rule: None };
    /// assert!(ask.allows("tide") && !ask.allows("tide 2") && !ask.allows("tide\ntide"));
    /// # Ok::<(), String>(())
    /// ```
    pub fn allows(&self, answer: &str) -> bool {
        let is_line = !answer.contains(|char: char| char.is_control());
        let whole = |pattern: &Pattern| pattern.regex().find_iter(answer).any(|found| found.len() == answer.len());
        is_line && self.pattern.as_ref().is_none_or(whole)
    }
}

/// What can be added to a project.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// One line on what it adds.
    pub summary: String,
    /// Its files, by path.
    #[serde(default)]
    pub files: BTreeMap<InnerPath, Laid>,
    /// What is run after the project's own steps.
    #[serde(default)]
    pub steps: Vec<Step>,
}

/// A rehearsal with everything filled in.
#[derive(Clone, Debug)]
pub struct Filled {
    /// Its files by path.
    pub files: BTreeMap<InnerPath, Laid>,
    /// What is run, in order.
    pub steps: Vec<Step>,
}

/// Why a rehearsal cannot be filled in.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotFilled {
    /// An answer breaks its rule.
    #[error("`{answer}` cannot be the {name}{}", rule.as_ref().map(|rule| format!(": {rule}")).unwrap_or_default())]
    Answer {
        /// What it is for.
        name: String,
        /// The answer.
        answer: String,
        /// The rule in words.
        rule: Option<String>,
    },
    /// Nothing of this name is asked.
    #[error("it does not ask for `{name}`")]
    NotAsked {
        /// The name.
        name: String,
        /// What it does ask.
        asked: Vec<String>,
    },
    /// There is no such part.
    #[error("it has no part `{name}`")]
    NoPart {
        /// The name.
        name: String,
        /// The parts that there are.
        parts: Vec<String>,
    },
    /// With the answers in it, something is no path or no command any more.
    #[error("`{text}` cannot be used: {why}")]
    Text {
        /// The path or the word of a command.
        text: String,
        /// Why not.
        why: String,
    },
}

/// What `@TOOL.folder@` and `@TOOL.version@` stand for: by tool and word; `None` for what nobody knows.
pub type OfRung<'o> = &'o dyn Fn(&str, &str) -> Option<String>;

impl Rehearsal {
    /// Reads and checks one; `name` is what its file is called.
    ///
    /// # Errors
    /// [`CatalogError`] with the place of what is wrong.
    pub fn parse(source: &Source, name: &str) -> Result<Self, CatalogError> {
        let mut rehearsal: Self = source.parse()?;
        rehearsal.base = source.path.parent().map(Into::into).unwrap_or_default();
        let checked = rehearsal.check(name);
        checked.map_err(|message| CatalogError::Wrong { path: source.path.clone(), message })?;
        Ok(rehearsal)
    }

    /// What no single value shows to be wrong.
    pub(crate) fn check(&self, name: &str) -> Result<(), String> {
        let (wrong, rehearsal) = (|message: String| message, self);
        if rehearsal.rehearsal != name {
            return Err(wrong(format!("it holds the rehearsal `{}`; file and name must agree", rehearsal.rehearsal)));
        }
        if rehearsal.all_steps().any(|step| step.run.is_empty()) {
            return Err(wrong("a step has nothing to run: `run` is an empty list".to_owned()));
        }
        let own_files = || rehearsal.parts.values().map(|part| &part.files).chain([&rehearsal.files]);
        if rehearsal.code.is_some() && own_files().any(|files| !files.is_empty()) {
            return Err(wrong("what builds the ladder's code has no files of its own".to_owned()));
        }
        if let Some(name) = rehearsal.asks.keys().chain(rehearsal.parts.keys()).find(|name| !is_plain(name)) {
            return Err(wrong(format!("`{name}` cannot be the name of a question or part")));
        }
        let parts: Vec<String> = rehearsal.parts.keys().cloned().collect();
        let filled = rehearsal.filled(&BTreeMap::new(), &parts, &|_, _| Some("x".to_owned()));
        filled.map_err(|error| wrong(format!("with its defaults filled in, {error}")))?;
        Ok(())
    }

    fn all_steps(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().chain(self.parts.values().flat_map(|part| &part.steps))
    }

    /// The project with some parts: the answers filled in, and the defaults where there is none.
    ///
    /// # Errors
    /// [`NotFilled`] for an answer that breaks its rule, for a name that means nothing, and where a path is none any more.
    pub fn filled(
        &self,
        answers: &BTreeMap<String, String>,
        parts: &[String],
        of_rung: OfRung<'_>,
    ) -> Result<Filled, NotFilled> {
        if let Some(name) = answers.keys().find(|name| !self.asks.contains_key(*name)) {
            return Err(NotFilled::NotAsked { name: name.clone(), asked: self.asks.keys().cloned().collect() });
        }
        for (name, ask) in &self.asks {
            let answer = answers.get(name).unwrap_or(&ask.default);
            if !ask.allows(answer) {
                return Err(NotFilled::Answer { name: name.clone(), answer: answer.clone(), rule: ask.rule.clone() });
            }
        }
        let known = |word: &str| {
            let asked = || Some(answers.get(word).unwrap_or(&self.asks.get(word)?.default).clone());
            let of_rung = || {
                let (tool, what) = word.rsplit_once('.')?;
                self.tools.iter().any(|known| *known == *tool).then(|| of_rung(tool, what))?
            };
            asked().or_else(of_rung)
        };
        let mut filled = Filled { files: BTreeMap::new(), steps: Vec::new() };
        filled.add(self, &self.files, &self.steps, &known)?;
        for name in parts {
            let no_part = || NotFilled::NoPart { name: name.clone(), parts: self.parts.keys().cloned().collect() };
            let part = self.parts.get(name).ok_or_else(no_part)?;
            filled.add(self, &part.files, &part.steps, &known)?;
        }
        Ok(filled)
    }
}

impl Filled {
    fn add(
        &mut self,
        of: &Rehearsal,
        files: &BTreeMap<InnerPath, Laid>,
        steps: &[Step],
        known: &dyn Fn(&str) -> Option<String>,
    ) -> Result<(), NotFilled> {
        let all = |files: &BTreeMap<InnerPath, Laid>| {
            let one = |(path, file): (&InnerPath, &Laid)| {
                let path = fill_words(path.as_str(), known);
                let inner = InnerPath::new(&path).map_err(|error| error.to_string());
                let inner =
                    inner.and_then(|inner| if inner.is_empty() { Err("it is empty".to_owned()) } else { Ok(inner) });
                let inner = inner.map_err(|why| NotFilled::Text { text: path, why })?;
                Ok((inner, file.filled(&of.base, |text| fill_words(text, known))))
            };
            files.iter().map(one).collect::<Result<BTreeMap<_, _>, NotFilled>>()
        };
        self.files.extend(all(files)?);
        for step in steps {
            let word = |word: &Template| {
                let text = fill_words(&word.as_written(), known);
                Template::new(&text).map_err(|error| NotFilled::Text { text, why: error.to_string() })
            };
            let run = step.run.iter().map(word).collect::<Result<Vec<_>, _>>()?;
            let filled = step.variables.iter().map(|(name, value)| Ok((name.clone(), word(value)?)));
            let variables = filled.collect::<Result<_, NotFilled>>()?;
            let mut trial = step.with(run, fill_words(&step.input, known));
            trial.variables = variables;
            let talk = step.talk.as_ref().map(|talk| talk.filled(&|text| fill_words(text, known)));
            let terminal = step.terminal.as_ref().map(|terminal| terminal.filled(&|text| fill_words(text, known)));
            self.steps.push(Step { trial, write: all(&step.write)?, talk, terminal, ..step.clone() });
        }
        Ok(())
    }
}

/// A text with what stands between two `@` replaced, where that is a word that is known; every other `@` stays.
pub fn fill_words(text: &str, known: &dyn Fn(&str) -> Option<String>) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some(at) = rest.find('@') {
        out.push_str(&rest[..at]);
        let after = &rest[at + 1..];
        if let Some((value, end)) = after.find('@').and_then(|end| Some((known(&after[..end])?, end))) {
            out.push_str(&value);
            rest = &after[end + 1..];
        } else {
            out.push('@');
            rest = after;
        }
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_words_that_are_known_are_fill_words() {
        let known = |word: &str| (word == "name").then(|| "tide".to_owned());
        assert_eq!(
            fill_words("a@b.example @name@@name@ @@name@ @nam@e@ @", &known),
            "a@b.example tidetide @tide @nam@e@ @"
        );
    }
}
