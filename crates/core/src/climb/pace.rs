//! How fast this network is, found out in a moment before anybody is asked to go on: the beginnings of real artifacts are fetched,
//! and kept as the beginnings of their downloads.

use std::collections::BTreeSet;
use std::sync::atomic::{AtomicU64, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Artifact;
use kladder_choose::names::RungKey;

use super::Site;
use super::route::Route;
use crate::base::event::{Event, Observer};
use crate::bring::fetch::{Cache, Sources, fetch, makers};
use crate::keep::rates::Pace;
use crate::tasks::Rung;

/// All of it takes no longer than this.
const MOMENT: Duration = Duration::from_millis(900);
/// As many makers are asked.
const MAKERS: usize = 3;
/// Less than this says nothing.
const ENOUGH: u64 = 64 * 1024;
/// What is smaller than this is fetched sooner than measured.
pub(super) const WORTH_IT: u64 = 8 << 20;

/// Looks on for a moment, and then ends what goes on.
struct Glance<'g> {
    until: Instant,
    got: &'g AtomicU64,
    behind: &'g dyn Observer,
}

impl Observer for Glance<'_> {
    fn event(&self, _: &Event) {}

    fn cancelled(&self) -> bool {
        Instant::now() >= self.until || self.behind.cancelled()
    }

    fn received(&self, _: Option<&RungKey>, bytes: u64) {
        self.got.fetch_add(bytes, Ordering::Relaxed);
    }
}

impl Site<'_> {
    /// What came in a moment; `None` where that was too little to go by.
    pub(super) fn pace(&self, route: &Route, observer: &dyn Observer) -> Option<Pace> {
        let cache = Cache::new(&self.home.artifacts);
        let sources = Sources { yards: self.yards, cache: &cache, network: self.network };
        let (began, got) = (Instant::now(), AtomicU64::new(0));
        thread::scope(|scope| {
            for artifact in self.samples(route) {
                let glance = Glance { until: began + MOMENT, got: &got, behind: observer };
                // What goes wrong here is told when it is fetched in earnest.
                scope.spawn(move || drop(fetch(&artifact, sources, &mut (), &glance)));
            }
        });
        let got = got.into_inner();
        let mut pace = Pace::default();
        pace.add(got, began.elapsed());
        (got >= ENOUGH).then_some(pace)
    }

    /// The largest artifact of each of some makers.
    fn samples(&self, route: &Route) -> Vec<Artifact> {
        let to_fetch = route.rungs.iter().filter(|rung| rung.to_fetch).filter_map(Rung::shelved);
        let mut all: Vec<&Artifact> = to_fetch.flat_map(|shelved| &shelved.artifacts).collect();
        all.sort_by_key(|artifact| std::cmp::Reverse(artifact.size));
        let mut seen = BTreeSet::new();
        let is_new = |artifact: &&Artifact| {
            let maker =
                if self.yards.is_empty() { makers(std::iter::once(*artifact), self.network) } else { Vec::new() };
            seen.insert(maker)
        };
        all.into_iter().filter(is_new).take(MAKERS).cloned().collect()
    }
}
