//! How a climb went: what each rung waited for, and how long it took. From the journal's steps alone.

use std::collections::BTreeMap;
use std::time::Duration;

use kladder_choose::names::RungKey;
use serde::{Deserialize, Serialize};

use crate::keep::state::Step;

/// A climb, told by its rungs.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Timeline {
    /// The number of its run in the log.
    pub run: i64,
    /// Milliseconds that all of it took.
    pub took: u64,
    /// The rungs that something was done for, in the order in which they were climbed.
    pub rungs: Vec<TimelineRung>,
}

/// A rung of a climb.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct TimelineRung {
    /// Which one.
    pub rung: String,
    /// What was done for it, in its order.
    pub spans: Vec<Span>,
    /// It is of the chain of rungs, each needing the one before, that took longest together.
    pub longest: bool,
}

/// A stretch of time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
pub struct Span {
    /// What was done.
    pub what: Doing,
    /// Milliseconds after the climb began.
    pub from: u64,
    /// Likewise.
    pub until: u64,
}

/// What is done for a rung.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Doing {
    /// Its files come in; they are unpacked while they come.
    Download,
    /// It is there, and others are climbed first.
    Waiting,
    /// Its files are put in place.
    Unpack,
    /// Its commands run: it is set up, or fitted out.
    SetUp,
    /// Its checks run.
    Checks,
}

/// When what of a rung happened.
#[derive(Default)]
struct Moments {
    fetch: Option<(u64, u64)>,
    begun: Option<u64>,
    shelved: Option<u64>,
    over: Option<u64>,
    worked: Vec<(u64, u64)>,
    checked: Vec<(u64, u64)>,
}

impl Timeline {
    /// A run's timeline; `needs` says what each rung stands on.
    pub fn of(run: i64, took: Duration, steps: &[(Duration, Step)], needs: &BTreeMap<RungKey, Vec<RungKey>>) -> Self {
        let mut all: BTreeMap<RungKey, Moments> = BTreeMap::new();
        let (mut order, mut current): (Vec<RungKey>, Option<RungKey>) = (Vec::new(), None);
        for (at, step) in steps {
            let at = millis(*at);
            let before =
                |seconds: f64| at.saturating_sub(millis(Duration::try_from_secs_f64(seconds).unwrap_or_default()));
            match step {
                Step::Fetching { rung: Some(rung), .. } => {
                    all.entry(rung.clone()).or_default().fetch.get_or_insert((at, at));
                }
                Step::Fetched { rung: Some(rung), .. } => {
                    all.entry(rung.clone()).or_default().fetch.get_or_insert((at, at)).1 = at;
                }
                Step::Rung { rung, .. } => {
                    all.entry(rung.clone()).or_default().begun = Some(at);
                    order.push(rung.clone());
                    current = Some(rung.clone());
                }
                Step::Climbed { rung } | Step::Stopped { rung, .. } => {
                    all.entry(rung.clone()).or_default().over = Some(at);
                    current = None;
                }
                Step::Shelved { .. } => {
                    if let Some(rung) = &current {
                        all.entry(rung.clone()).or_default().shelved = Some(at);
                    }
                }
                Step::Worked { rung, seconds, .. } => {
                    all.entry(rung.clone()).or_default().worked.push((before(*seconds), at));
                }
                Step::Checked { seconds, .. } => {
                    if let Some(rung) = &current {
                        all.entry(rung.clone()).or_default().checked.push((before(*seconds), at));
                    }
                }
                _ => {}
            }
        }
        let longest = longest(&order, &all, needs);
        let rung = |key: &RungKey| {
            let spans = all.get(key).map(Moments::spans).unwrap_or_default();
            TimelineRung { rung: key.to_string(), spans, longest: longest.contains(key) }
        };
        let rungs = order.iter().map(rung).filter(|rung| !rung.spans.is_empty()).collect();
        Self { run, took: millis(took), rungs }
    }
}

fn millis(time: Duration) -> u64 {
    u64::try_from(time.as_millis()).unwrap_or(u64::MAX)
}

impl Moments {
    fn spans(&self) -> Vec<Span> {
        let mut spans = Vec::new();
        let mut put = |what, from: u64, until: u64| {
            if until > from {
                spans.push(Span { what, from, until });
            }
        };
        if let Some((from, until)) = self.fetch {
            put(Doing::Download, from, until);
            put(Doing::Waiting, until, self.begun.unwrap_or(until));
        }
        let there = self.begun.unwrap_or_default().max(self.fetch.map_or(0, |(_, until)| until));
        if let Some(shelved) = self.shelved {
            put(Doing::Unpack, there, shelved);
        }
        for (what, all) in [(Doing::SetUp, &self.worked), (Doing::Checks, &self.checked)] {
            if let (Some(from), Some(until)) = (all.iter().map(|one| one.0).min(), all.iter().map(|one| one.1).max()) {
                put(what, from, until);
            }
        }
        spans
    }

    /// Milliseconds of its own.
    fn own(&self) -> u64 {
        let fetch = self.fetch.map_or(0, |(from, until)| until - from);
        let begun = self.begun.unwrap_or_default().max(self.fetch.map_or(0, |(_, until)| until));
        fetch + self.over.unwrap_or(begun).saturating_sub(begun)
    }
}

/// The chain of needs whose rungs took longest together (longest path in a graph without circles, in its order).
fn longest(
    order: &[RungKey],
    all: &BTreeMap<RungKey, Moments>,
    needs: &BTreeMap<RungKey, Vec<RungKey>>,
) -> Vec<RungKey> {
    let mut best: BTreeMap<&RungKey, (u64, Option<&RungKey>)> = BTreeMap::new();
    for key in order {
        let below = needs.get(key).into_iter().flatten().filter_map(|need| Some((best.get(need)?.0, need)));
        let below = below.max_by_key(|(took, _)| *took);
        let own = all.get(key).map_or(0, Moments::own);
        best.insert(key, (own + below.map_or(0, |(took, _)| took), below.map(|(_, need)| need)));
    }
    let top = best.iter().max_by_key(|(_, (took, _))| *took).map(|(key, _)| *key);
    std::iter::successors(top, |key| best.get(key).and_then(|(_, below)| *below)).cloned().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(name: &str) -> RungKey {
        RungKey::shared(&name.parse().unwrap())
    }

    #[test]
    fn what_came_early_waited_and_the_longest_chain_is_of_needs() {
        let at = Duration::from_millis;
        let fetching = |name: &str| Step::Fetching { file: String::new(), rung: Some(key(name)) };
        let fetched = |name: &str| Step::Fetched {
            file: String::new(),
            size: 1,
            cached: false,
            from: None,
            rung: Some(key(name)),
        };
        let rung = |name: &str| Step::Rung { rung: key(name), version: "1".parse().unwrap() };
        let climbed = |name: &str| Step::Climbed { rung: key(name) };
        let steps = [
            (at(0), fetching("oarweld")),
            (at(1), fetching("tidlow")),
            (at(2), rung("oarweld")),
            (at(11), fetched("tidlow")),
            (at(100), fetched("oarweld")),
            (at(120), climbed("oarweld")),
            (at(120), rung("tidlow")),
            (at(130), climbed("tidlow")),
            (at(130), rung("skerroc")),
            (at(150), climbed("skerroc")),
        ];
        let needs = [(key("skerroc"), vec![key("oarweld"), key("tidlow")])].into_iter().collect();
        let told = Timeline::of(7, at(150), &steps, &needs);
        let spans = |name: &str| &told.rungs.iter().find(|rung| rung.rung == name).unwrap().spans;
        assert_eq!(spans("oarweld"), &[Span { what: Doing::Download, from: 0, until: 100 }]);
        let waited = [(Doing::Download, 1, 11), (Doing::Waiting, 11, 120)];
        assert_eq!(spans("tidlow"), &waited.map(|(what, from, until)| Span { what, from, until }));
        assert_eq!(
            told.rungs.iter().filter(|rung| rung.longest).map(|rung| rung.rung.as_str()).collect::<Vec<_>>(),
            ["oarweld"]
        );
        assert_eq!((told.run, told.took), (7, 150));
    }
}
