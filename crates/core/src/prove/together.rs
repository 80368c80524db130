//! Who worked with whom: from what was started in rehearsals to which rungs were seen together, and which needs that proves.
//!
//! What a process started is known where the kernel lets us watch it; else, from the launchers alone, which say by whom they were
//! called. A need between two rungs is proved where the one was seen to start or load the other, or both were at work in one
//! rehearsal that passed. A rung that has no programs is at work where the rehearsal names it: nothing of it could be seen.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use kladder_choose::names::RungKey;

use crate::sys::Start;
use crate::tasks::Rung;

/// How two rungs were seen.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Met {
    /// Both were at work in one rehearsal that passed.
    Beside,
    /// The one started the other, or loaded a file of it.
    Called,
}

/// What became of a need between two rungs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Proof {
    /// The two were seen together.
    Proved,
    /// No rehearsal that was run has both at work.
    NotProved,
    /// A rehearsal that has both failed.
    Failing,
}

/// A rung that needs another one, and whether that was seen to work.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Needed {
    /// Who needs.
    pub by: RungKey,
    /// Whom.
    pub of: RungKey,
    /// Whether it is proved.
    pub proof: Proof,
}

/// Who was seen with whom.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Together {
    /// By whom, and who it was; of those that were beside each other both ways.
    pub met: BTreeMap<(RungKey, RungKey), Met>,
    /// Pairs that a rehearsal names which failed.
    failing: BTreeSet<(RungKey, RungKey)>,
    /// Whether every start was seen, or those through launchers alone; `None` where nothing was started.
    pub is_watched: Option<bool>,
}

/// What was seen of one rehearsal.
#[derive(Debug, Default)]
pub(crate) struct Seen {
    /// What each of its steps started.
    pub(crate) starts: Vec<Vec<Start>>,
    /// Commands that were started through launchers: by which command, where there was one, and which.
    pub(crate) launched: Vec<(Option<String>, String)>,
    /// Whether a step was not watched although it should have been.
    pub(crate) unwatched: bool,
}

impl Seen {
    /// Adds what one step or service started.
    pub(crate) fn started(&mut self, starts: Option<Vec<Start>>, is_to_be_watched: bool) {
        self.unwatched |= is_to_be_watched && starts.is_none();
        self.starts.extend(starts);
    }
}

/// Whose files are whose.
pub(crate) struct Owners<'o> {
    folders: Vec<(PathBuf, &'o Rung)>,
}

impl<'o> Owners<'o> {
    /// Those of rungs.
    pub(crate) fn of(rungs: &'o [Rung]) -> Self {
        let mut folders = Vec::new();
        for rung in rungs {
            folders.extend(rung.own_places().into_iter().map(|place| (place, rung)));
        }
        Self { folders }
    }

    /// Whose a file is.
    pub(crate) fn owner(&self, file: &Path) -> Option<&'o RungKey> {
        self.folders.iter().find(|(folder, _)| file.starts_with(folder)).map(|(_, rung)| &rung.key)
    }
}

impl Together {
    /// Adds what was seen of a rehearsal that names `named`.
    pub(crate) fn add(&mut self, seen: &Seen, named: &[&Rung], owners: &Owners<'_>, rungs: &[Rung], passed: bool) {
        if !passed {
            let pairs = named.iter().flat_map(|one| named.iter().map(|other| (one.key.clone(), other.key.clone())));
            self.failing.extend(pairs.filter(|(one, other)| one != other));
            return;
        }
        let mut at_work: BTreeSet<RungKey> = BTreeSet::new();
        for starts in &seen.starts {
            self.started(starts, owners, &mut at_work);
        }
        for (by, command) in &seen.launched {
            let of_command = |name: &String| {
                let has = |rung: &&Rung| rung.key.household.is_shared() && rung.commands.contains_key(name.as_str());
                rungs.iter().find(has).map(|rung| rung.key.clone())
            };
            let Some(of) = of_command(command) else { continue };
            at_work.insert(of.clone());
            if let Some(by) = by.as_ref().and_then(of_command) {
                self.called(&by, &of);
            }
        }
        if !seen.starts.is_empty() || !seen.launched.is_empty() {
            self.is_watched = Some(self.is_watched.unwrap_or(true) && !seen.unwatched);
        }
        at_work.extend(named.iter().filter(|rung| rung.commands.is_empty()).map(|rung| rung.key.clone()));
        for one in &at_work {
            for other in at_work.iter().filter(|other| *other != one) {
                self.met.entry((one.clone(), other.clone())).or_insert(Met::Beside);
            }
        }
    }

    fn started(&mut self, starts: &[Start], owners: &Owners<'_>, at_work: &mut BTreeSet<RungKey>) {
        // Who a start is: the rung of its program, and of a script that the program was given.
        let who: Vec<Vec<&RungKey>> = starts
            .iter()
            .map(|start| {
                let mut keys: Vec<&RungKey> = start.files.iter().filter_map(|file| owners.owner(file)).collect();
                keys.dedup();
                keys
            })
            .collect();
        for (at, start) in starts.iter().enumerate() {
            at_work.extend(who[at].iter().map(|key| (*key).clone()));
            let loaded = start.mapped.iter().filter_map(|file| owners.owner(file));
            let (program, given) = match who[at].split_first() {
                Some((program, given)) => (Some(*program), given),
                None => (None, &[][..]),
            };
            // A script has its interpreter started, not the other way round.
            for script in given {
                if let Some(program) = program {
                    self.called(script, program);
                }
            }
            for loaded in loaded {
                at_work.insert(loaded.clone());
                given.iter().chain(&program).for_each(|by| self.called(by, loaded));
            }
            let mut above = start.by;
            while let Some(caller) = above.filter(|caller| *caller < at) {
                if !who[caller].is_empty() {
                    let by = who[caller].last().into_iter();
                    by.for_each(|by| who[at].iter().for_each(|of| self.called(by, of)));
                    break;
                }
                above = starts[caller].by;
            }
        }
    }

    fn called(&mut self, by: &RungKey, of: &RungKey) {
        if by != of {
            self.met.insert((by.clone(), of.clone()), Met::Called);
        }
    }

    /// What became of every need between two rungs.
    pub fn needs(&self, rungs: &[Rung]) -> Vec<Needed> {
        let of = |by: &Rung, of: &RungKey| {
            let pair = (by.key.clone(), of.clone());
            let proof = if self.met.contains_key(&pair) {
                Proof::Proved
            } else if self.failing.contains(&pair) {
                Proof::Failing
            } else {
                Proof::NotProved
            };
            Needed { by: pair.0, of: pair.1, proof }
        };
        rungs.iter().flat_map(|rung| rung.needs.iter().map(move |need| of(rung, need))).collect()
    }
}

/// What launchers wrote down, a line a start: by which command, nothing where there was none, and which.
pub(crate) fn launched(text: &str) -> Vec<(Option<String>, String)> {
    let split = |line: &str| {
        let (by, command) = line.split_once('\t')?;
        Some(((!by.is_empty()).then(|| by.to_owned()), command.to_owned()))
    };
    text.lines().filter_map(split).collect()
}
