//! The steps of a rehearsal: commands, and what goes on around them.
//!
//! ```toml
//! [[steps]]
//! run = ["brinwright", "watch"]
//! stays = '^watching (?<port>\d+)'       # it runs on until the rehearsal ends, and is up once it says this
//! [[steps]]
//! write = { "src/main.sk" = "say dark" } # files that are there before it is run
//! run = ["tidlow", "ask"]
//! expect = { stdout = "dark" }
//! patience = 10                          # tried again for so many seconds until it holds
//! [[steps]]
//! run = ["tidlow", "old.image"]
//! must-not-hold = true                   # it proves that this does not go
//! network = true                         # it goes beyond this machine
//! watched = false                        # a program that notices that it is watched, and works otherwise then
//! reaches-nobody = true                  # it does not even try to reach another machine
//! ```

use std::collections::BTreeMap;

use serde::{Deserialize, Deserializer};

use super::laid::Laid;
use super::talk::{DebugAdapter, LanguageServer, Talk};
use super::terminal::Terminal;
use crate::catalog::table::table;
use crate::catalog::{Claim, Expect, Pattern, Trial, VariableName};
use crate::path::InnerPath;
use crate::template::Template;

/// A step of a rehearsal.
#[derive(Clone, Debug)]
pub struct Step {
    /// What is run, and what must come of it.
    pub trial: Trial,
    /// Files that are there before.
    pub write: BTreeMap<InnerPath, Laid>,
    /// It runs on while later steps do, and is up once one of its outputs holds this.
    pub stays: Option<Pattern>,
    /// For how many seconds it is tried again until it does.
    pub patience: u64,
    /// What is expected must not come of it.
    pub must_not_hold: bool,
    /// Whether what it starts is written down.
    pub watched: bool,
    /// Whether it is seen that it tries to reach no other machine.
    pub reaches_nobody: bool,
    /// What it is asked over an open protocol, in place of what is expected of others.
    pub talk: Option<Talk>,
    /// What is done in a terminal of its own, likewise.
    pub terminal: Option<Terminal>,
}

/// The keys of a trial, and those of a step. (Flattened they would be the same, but lose the places of mistakes.)
#[derive(Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[expect(clippy::struct_excessive_bools, reason = "each is a key of its own")]
struct StepForm {
    name: Option<String>,
    run: Vec<Template>,
    #[serde(default)]
    input: String,
    #[serde(default)]
    folder: InnerPath,
    #[serde(default)]
    variables: BTreeMap<VariableName, Template>,
    #[serde(default)]
    expect: Expect,
    #[serde(default)]
    network: bool,
    #[serde(default, deserialize_with = "crate::catalog::trial::memory")]
    memory: Option<u64>,
    processes: Option<usize>,
    limit: Option<u64>,
    #[serde(default, deserialize_with = "crate::catalog::trial::harmless")]
    harmless: Vec<(Pattern, String)>,
    #[serde(default)]
    claims: Vec<Claim>,
    #[serde(default)]
    write: BTreeMap<InnerPath, Laid>,
    stays: Option<Pattern>,
    #[serde(default)]
    patience: u64,
    #[serde(default)]
    must_not_hold: bool,
    #[serde(default = "watched")]
    watched: bool,
    language_server: Option<LanguageServer>,
    debug_adapter: Option<DebugAdapter>,
    terminal: Option<Terminal>,
    #[serde(default)]
    reaches_nobody: bool,
}

fn watched() -> bool {
    true
}

impl<'de> Deserialize<'de> for Step {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        table::<D, StepForm, Self>(deserializer)
    }
}

impl TryFrom<StepForm> for Step {
    type Error = &'static str;

    fn try_from(form: StepForm) -> Result<Self, &'static str> {
        if form.stays.is_some() && (form.must_not_hold || form.patience > 0 || !form.claims.is_empty()) {
            return Err("a step that `stays` is not judged as others are: ask it in a step of its own");
        }
        if form.reaches_nobody && (form.network || form.stays.is_some() || !form.watched) {
            return Err("that it `reaches-nobody` is seen of a watched step that ends, without `network`");
        }
        let terminal = form.terminal;
        terminal.as_ref().map(Terminal::check).transpose()?;
        let talk = match (form.language_server, form.debug_adapter) {
            (None, None) => None,
            (Some(server), None) if terminal.is_none() => Some(Talk::LanguageServer(server)),
            (None, Some(adapter)) if terminal.is_none() => Some(Talk::DebugAdapter(adapter)),
            _ => return Err("a program is a `language-server`, a `debug-adapter`, or in a `terminal`"),
        };
        let is_judged = form.stays.is_some() || form.must_not_hold || form.patience > 0 || !form.claims.is_empty();
        if (talk.is_some() || terminal.is_some()) && (is_judged || !form.input.is_empty()) {
            return Err("what is asked over a protocol, or in a terminal, is not judged as other steps are");
        }
        let StepForm { name, run, input, folder, variables, expect, limit, harmless, claims, .. } = form;
        let StepForm { write, stays, patience, must_not_hold, watched, network, memory, processes, .. } = form;
        let reaches_nobody = form.reaches_nobody;
        let mut trial = Trial::new(name, run, input, folder, limit);
        (trial.variables, trial.expect, trial.harmless, trial.claims) = (variables, expect, harmless, claims);
        (trial.network, trial.memory, trial.processes) = (network, memory, processes);
        Ok(Self { trial, write, stays, patience, must_not_hold, watched, reaches_nobody, talk, terminal })
    }
}

impl std::ops::Deref for Step {
    type Target = Trial;

    fn deref(&self) -> &Trial {
        &self.trial
    }
}
