//! A climb while it goes on: each rung in flight with its own progress, and what waits for what.

use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};

use kladder_choose::names::RungKey;
use kladder_core::base::event::Planned;
use kladder_tell::text::{both, bytes, clean};
use textwrap::core::display_width;

use super::ladder::State;
use super::text::{FAINT, STRONG, styled};

/// Lines that are drawn at most.
const MOST: usize = 7;

/// The rungs of a climb, as far as they are.
#[derive(Debug, Default)]
pub(super) struct Live {
    rungs: Vec<Rung>,
    places: HashMap<RungKey, usize>,
}

#[derive(Debug)]
struct Rung {
    planned: Planned,
    got: AtomicU64,
    at: At,
    /// Something of it is on its way.
    arrives: bool,
}

/// How far a rung is.
#[derive(Clone, Debug, PartialEq, Eq)]
enum At {
    Waits,
    Climbed,
    Failed,
    /// It is being climbed, and this is done just now.
    Doing(String),
}

impl Live {
    pub(super) fn of(planned: &[Planned]) -> Self {
        let places = planned.iter().enumerate().map(|(at, rung)| (rung.key.clone(), at)).collect();
        let rung = |planned: &Planned| {
            let at = if planned.stands { At::Climbed } else { At::Waits };
            Rung { planned: planned.clone(), got: AtomicU64::new(0), at, arrives: false }
        };
        Self { rungs: planned.iter().map(rung).collect(), places }
    }

    pub(super) fn is_empty(&self) -> bool {
        self.rungs.is_empty()
    }

    pub(super) fn received(&self, rung: &RungKey, bytes: u64) {
        if let Some(rung) = self.places.get(rung).map(|at| &self.rungs[*at]) {
            rung.got.fetch_add(bytes, Ordering::Relaxed);
        }
    }

    fn rung(&mut self, key: &RungKey) -> Option<&mut Rung> {
        self.places.get(key).map(|at| &mut self.rungs[*at])
    }

    /// Something of a rung arrives, or has; `had` are bytes of an earlier try.
    pub(super) fn arrives(&mut self, key: &RungKey, arrives: bool, had: u64) {
        if let Some(rung) = self.rung(key) {
            rung.arrives = arrives;
            rung.got.fetch_add(had, Ordering::Relaxed);
        }
    }

    pub(super) fn doing(&mut self, key: &RungKey, what: &str) {
        if let Some(rung) = self.rung(key) {
            rung.at = At::Doing(what.to_owned());
        }
    }

    pub(super) fn is_over(&mut self, key: &RungKey, climbed: bool) {
        if let Some(rung) = self.rung(key) {
            rung.at = if climbed { At::Climbed } else { At::Failed };
            rung.arrives = false;
        }
    }

    /// What is in flight, and what waits; no line is wider than `width`.
    pub(super) fn lines(&self, width: usize) -> Vec<String> {
        let in_flight = self.rungs.iter().filter(|rung| rung.arrives || matches!(rung.at, At::Doing(_)));
        let mut told: Vec<(&Rung, String)> = in_flight.map(|rung| (rung, rung.words(&self.waited(rung)))).collect();
        let waits = |rung: &&Rung| rung.at == At::Waits && !rung.arrives;
        let waiting: Vec<&Rung> = self.rungs.iter().filter(waits).collect();
        let shown = MOST.saturating_sub(told.len() + 1).min(2);
        told.extend(waiting.iter().take(shown).map(|rung| (*rung, rung.words(&self.waited(rung)))));
        told.truncate(MOST);
        let name = told.iter().map(|(rung, _)| display_width(&rung.name())).max().unwrap_or_default();
        let line = |(rung, words): (&Rung, String)| {
            let own = rung.name();
            let gap = " ".repeat(name - display_width(&own));
            let room = width.saturating_sub(name + 12);
            let words: String = if words.chars().count() > room { words.chars().take(room).collect() } else { words };
            format!("  {} {} {}{gap}   {words}", styled(FAINT, "┃"), State::ToClimb.mark(), styled(STRONG, own))
        };
        let mut lines: Vec<String> = told.into_iter().map(line).collect();
        let more = waiting.len().saturating_sub(shown);
        if more > 0 {
            lines.push(styled(FAINT, format!("  ┃ and {more} above")));
        }
        lines
    }

    /// The rungs below one that are not climbed yet.
    fn waited(&self, rung: &Rung) -> Vec<String> {
        let left = |need: &&RungKey| {
            self.places.get(need).is_some_and(|at| !matches!(self.rungs[*at].at, At::Climbed | At::Failed))
        };
        rung.planned.needs.iter().filter(left).map(|need| clean(need.tool.as_str())).collect()
    }
}

impl Rung {
    fn name(&self) -> String {
        clean(&format!("{} {}", self.planned.rung.tool, self.planned.rung.version))
    }

    fn words(&self, waited: &[String]) -> String {
        let waits = || if waited.is_empty() { "waits".to_owned() } else { format!("waits for {}", both(waited)) };
        let (got, of) = (self.got.load(Ordering::Relaxed), self.planned.fetch);
        match &self.at {
            _ if self.arrives && of > 0 => format!("{:>3} % of {}", (got.min(of) * 100) / of, bytes(of)),
            _ if self.arrives => "is being hashed".to_owned(),
            At::Doing(what) => clean(what),
            _ if of > 0 && got >= of => format!("is here, {}", waits()),
            _ => waits(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use kladder_core::base::event::RungName;

    fn planned(name: &str, needs: &[&str], fetch: u64) -> Planned {
        let key = |name: &str| RungKey::shared(&name.parse().unwrap());
        let rung = RungName { tool: name.parse().unwrap(), version: "1.0".parse().unwrap() };
        Planned { key: key(name), rung, needs: needs.iter().map(|need| key(need)).collect(), fetch, stands: false }
    }

    #[test]
    fn each_rung_in_flight_is_told_and_what_waits_says_for_what() {
        let all = [
            planned("oarweld", &[], 1000),
            planned("skerroc", &["oarweld"], 2000),
            planned("wrackle", &["skerroc"], 0),
        ];
        let mut live = Live::of(&all);
        let lines = |live: &Live| -> Vec<String> {
            live.lines(60).iter().map(|line| anstream::adapter::strip_str(line).to_string()).collect()
        };
        live.arrives(&all[0].key, true, 100);
        live.received(&all[0].key, 400);
        let told = lines(&live);
        assert!(told[0].contains("oarweld 1.0") && told[0].ends_with("50 % of 1.0 kB"), "{told:?}");
        assert!(told[1].ends_with("waits for oarweld") && told[2].ends_with("waits for skerroc"), "{told:?}");
        live.arrives(&all[0].key, false, 500);
        live.doing(&all[0].key, "unpacking");
        live.arrives(&all[1].key, true, 2000);
        live.arrives(&all[1].key, false, 0);
        let told = lines(&live);
        assert!(told[0].ends_with("unpacking") && told[1].ends_with("is here, waits for oarweld"), "{told:?}");
        live.is_over(&all[0].key, true);
        assert!(lines(&live)[0].ends_with("is here, waits"), "{:?}", lines(&live));
    }
}
