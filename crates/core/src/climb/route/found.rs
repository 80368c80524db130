//! Pinned tools with their definitions, and which needs which.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use kladder_choose::catalog::{Definition, Here, Need, Piece, Release, Way};
use kladder_choose::names::{Household, RungKey, ToolName};
use kladder_choose::pins::Pin;
use kladder_choose::platform::Platform;
use kladder_choose::version::Requirement;
use petgraph::algo::tarjan_scc;
use petgraph::graphmap::DiGraphMap;

use super::{Ground, RouteError};

/// A pinned tool.
pub(super) struct Found<'p> {
    pub(super) key: RungKey,
    pub(super) pin: &'p Pin,
    pub(super) definition: Arc<Definition>,
    /// The release; `None` for what the host has.
    pub(super) release: Option<Release>,
}

/// All pinned tools by their keys.
pub(super) type All<'p> = BTreeMap<RungKey, Found<'p>>;

/// By key: the keys of what it needs.
pub(super) type Needs = BTreeMap<RungKey, BTreeSet<RungKey>>;

/// Looks all pins of a household up, those of the households in it included.
pub(super) fn look_up<'p>(
    ground: &Ground<'_>,
    pins: &'p BTreeMap<ToolName, Pin>,
    household: &Household,
    all: &mut All<'p>,
) -> Result<(), RouteError> {
    for (tool, pin) in pins {
        let found = Found::look_up(ground, RungKey { household: household.clone(), tool: tool.clone() }, pin, pins)?;
        all.insert(found.key.clone(), found);
        look_up(ground, &pin.private, &household.of(tool), all)?;
    }
    Ok(())
}

impl<'p> Found<'p> {
    fn look_up(
        ground: &Ground<'_>,
        key: RungKey,
        pin: &'p Pin,
        beside: &BTreeMap<ToolName, Pin>,
    ) -> Result<Self, RouteError> {
        let catalogs = ground.catalogs;
        let gone = || RouteError::Gone { tool: key.tool.clone(), version: pin.version.clone() };
        let definition = catalogs.tool(&key.tool)?.ok_or_else(gone)?;
        let release = definition.release(&pin.version).cloned();
        if release.is_none() && pin.host.is_none() {
            return Err(gone());
        }
        let release = release.filter(|_| pin.host.is_none());
        let stands = |name: &ToolName, range: &Requirement| {
            let meets = |(tool, pin): (&ToolName, &Pin)| {
                let known = catalogs.tool(tool).ok().flatten();
                known.is_some_and(|known| known.meets(name, range, &pin.version))
            };
            beside.iter().any(meets)
        };
        let definition = definition.at(&Here {
            version: &pin.version,
            machine: ground.machine,
            pieces: &|piece| pin.pieces.contains_key(piece),
            is_private: !key.household.is_shared(),
            beside: &stands,
        });
        Ok(Self { key, pin, definition, release })
    }

    /// The pieces that are pinned.
    fn pieces(&self) -> impl Iterator<Item = &Piece> {
        let pieces = self.release.iter().flat_map(|release| &release.pieces);
        pieces.filter(|(name, _)| self.pin.pieces.contains_key(*name)).map(|(_, piece)| piece)
    }

    /// What the release and its pinned pieces need, on a platform.
    pub(super) fn needs<'f>(&'f self, platform: &'f Platform) -> impl Iterator<Item = &'f Need> {
        let own = self.release.iter().flat_map(|release| &release.says.needs);
        own.chain(self.pieces().flat_map(|piece| &piece.says.needs)).filter(|need| need.holds_on(platform))
    }

    fn meets(&self, way: &Way) -> bool {
        self.definition.meets(&way.name, &way.version, &self.pin.version)
    }
}

/// The keys of what meets a need of `one`: in the nearest household that has something.
pub(super) fn met_by(all: &All<'_>, one: &Found<'_>, need: &Need) -> Vec<RungKey> {
    let nearest = if need.private { one.key.keeps() } else { one.key.household.clone() };
    let meets = |found: &&Found<'_>| need.ways.iter().any(|way| found.meets(way));
    let meeting: Vec<&RungKey> =
        all.values().filter(meets).map(|found| &found.key).filter(|key| **key != one.key).collect();
    let in_household = |household: &Household| -> Vec<RungKey> {
        meeting.iter().filter(|key| key.household == *household).map(|key| (*key).clone()).collect()
    };
    nearest.around().map(|household| in_household(&household)).find(|keys| !keys.is_empty()).unwrap_or_default()
}

/// Which pinned tool needs which, on a platform. Fails for the first need that nothing meets: such pins were not made by
/// choosing.
pub(super) fn needs_between(all: &All<'_>, platform: &Platform) -> Result<Needs, RouteError> {
    let mut needs = Needs::new();
    for (key, one) in all {
        let mut met = BTreeSet::new();
        for need in one.needs(platform) {
            let by = met_by(all, one, need);
            let itself = need.ways.iter().any(|way| one.meets(way));
            if by.is_empty() && !itself {
                return Err(RouteError::Unmet { tool: key.tool.clone(), need: need.clone() });
            }
            met.extend(by);
        }
        needs.insert(key.clone(), met);
    }
    Ok(needs)
}

/// Each tool above those who lend it files, and above what it needs, but for what it lends files to itself; tools that need each
/// other in a circle stand
/// together, by name. (Strongly connected components come out bottom up: Tarjan, "Depth-first search and linear graph
/// algorithms", 1972.)
pub(super) fn bottom_up<'n>(needs: &'n Needs, lenders: &'n Needs) -> Vec<&'n RungKey> {
    let mut graph = DiGraphMap::<&RungKey, ()>::new();
    let borrows = |from: &RungKey, other: &RungKey| lenders.get(other).is_some_and(|lenders| lenders.contains(from));
    for (key, below) in needs {
        graph.add_node(key);
        for other in below.iter().filter(|other| !borrows(key, other)) {
            graph.add_edge(key, other, ());
        }
    }
    for (key, below) in lenders {
        for lender in below {
            graph.add_edge(key, lender, ());
        }
    }
    let mut groups = tarjan_scc(&graph);
    for group in &mut groups {
        group.sort_unstable();
    }
    groups.concat()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_tool_stands_above_what_it_needs_and_circles_stand_together() {
        let key = |name: &str| RungKey::shared(&name.parse().unwrap());
        let needs: Needs = [
            ("brinwright", vec!["skerroc", "oarweld"]),
            ("skerroc", vec!["tombolet"]),
            ("oarweld", vec!["tombolet"]),
            ("tombolet", vec![]),
            ("above", vec!["left"]),
            ("left", vec!["right", "tombolet"]),
            ("right", vec!["left"]),
        ]
        .into_iter()
        .map(|(tool, needs)| (key(tool), needs.into_iter().map(key).collect()))
        .collect();
        // An extension needs its editor, which has to see its files; in whichever order their names are.
        let mut needs = needs;
        needs.insert(key("whimbrow"), BTreeSet::new());
        needs.insert(key("a-word"), BTreeSet::from([key("whimbrow")]));
        needs.insert(key("zeal"), BTreeSet::from([key("whimbrow"), key("tombolet")]));
        let lenders = Needs::from([
            (key("tombolet"), BTreeSet::from([key("lender")])),
            (key("whimbrow"), BTreeSet::from([key("a-word"), key("zeal")])),
        ]);
        let order = bottom_up(&needs, &lenders);
        let at = |tool: &RungKey| order.iter().position(|other| *other == tool).unwrap();
        let is_below = |one: &RungKey, other: &RungKey| at(one) < at(other);
        for (tool, below) in &needs {
            let comes_first = |need: &RungKey| lenders.get(need).is_some_and(|lenders| lenders.contains(tool));
            let circle = |need: &RungKey| needs[need].contains(tool);
            assert!(below.iter().all(|need| circle(need) || is_below(need, tool) != comes_first(need)), "{order:?}");
        }
        for (tool, below) in &lenders {
            assert!(below.iter().all(|lender| is_below(lender, tool)), "{tool} in {order:?}");
        }
        assert_eq!((order.len(), at(&key("right"))), (needs.len() + 1, at(&key("left")) + 1));
    }
}
