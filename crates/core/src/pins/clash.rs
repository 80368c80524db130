//! A clash of wishes in terms that a person can act on.

use kladder_solve::{Clash, Fact, NeedOf};

use super::offer::Offer;
use crate::document::Place;
use crate::ladder::{Ladder, Range};
use crate::version::Version;

/// Why the wishes cannot be met together.
#[derive(Debug)]
pub struct ClashReport {
    /// The wishes that clash; with any one of them gone, the others can be met.
    pub wishes: Vec<ClashingWish>,
    /// The needs between them.
    pub needs: Vec<ClashingNeed>,
    /// Changes that were tried and do solve it.
    pub ways_out: Vec<WayOut>,
}

/// A wish in a clash.
#[derive(Clone, Debug)]
pub struct ClashingWish {
    /// The tool or capability.
    pub tool: String,
    /// Which versions the wish allows.
    pub range: Range,
    /// Where it stands.
    pub place: Place,
}

/// What releases of one tool need, in a clash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClashingNeed {
    /// The tool.
    pub tool: String,
    /// The releases that need it, oldest first.
    pub versions: Vec<Version>,
    /// What they need: any one of these.
    pub needs: Vec<(String, Range)>,
}

/// A change that solves a clash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct WayOut {
    /// The wish to ease to `any`.
    pub tool: String,
    /// The tool and version that would be taken for it.
    pub taken: (String, Version),
}

impl ClashReport {
    pub(super) fn new(
        ladder: &Ladder,
        clash: &Clash<Offer<'_>>,
        solves: impl Fn(usize) -> Option<(String, Version)>,
    ) -> Self {
        let wish = |&at: &usize| {
            let wish = &ladder.wishes[at];
            ClashingWish { tool: wish.tool.clone(), range: wish.range.clone(), place: wish.range_place.clone() }
        };
        let way_out = |&at: &usize| Some(WayOut { tool: ladder.wishes[at].tool.clone(), taken: solves(at)? });
        Self {
            wishes: clash.wishes.iter().map(wish).collect(),
            needs: gather(&clash.facts),
            ways_out: clash.wishes.iter().filter_map(way_out).collect(),
        }
    }
}

/// Joins the needs that several releases of one tool have in common.
fn gather(facts: &[Fact<Offer<'_>>]) -> Vec<ClashingNeed> {
    let mut gathered: Vec<ClashingNeed> = Vec::new();
    for fact in facts {
        let Fact::Need { package, version, need } = fact else { continue };
        let needs = ranges(need);
        match gathered.iter_mut().find(|known| known.tool == *package && known.needs == needs) {
            Some(known) => known.versions.push(version.version.clone()),
            None => {
                gathered.push(ClashingNeed { tool: package.clone(), versions: vec![version.version.clone()], needs });
            }
        }
    }
    for need in &mut gathered {
        need.versions.sort();
    }
    gathered.sort_by(|a, b| (&a.tool, &a.versions).cmp(&(&b.tool, &b.versions)));
    gathered
}

fn ranges(need: &NeedOf<Offer<'_>>) -> Vec<(String, Range)> {
    need.alternatives.iter().map(|a| (a.package.clone(), a.range.clone())).collect()
}
