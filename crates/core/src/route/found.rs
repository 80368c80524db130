//! Pinned tools with their definitions, and which needs which.

use std::collections::{BTreeMap, BTreeSet};
use std::rc::Rc;

use petgraph::algo::tarjan_scc;
use petgraph::graphmap::DiGraphMap;

use super::RouteError;
use crate::catalog::{Catalog, Command, Definition, Need, Release, Way};
use crate::pins::Pin;

/// A pinned tool. Its key is its name, behind the names of the tools that keep it to themselves: `owner/tool`.
pub(super) struct Found<'p> {
    pub(super) tool: &'p str,
    /// The tools that keep it to themselves, outermost first.
    pub(super) household: Vec<String>,
    pub(super) pin: &'p Pin,
    pub(super) definition: Rc<Definition>,
    /// The release; `None` for what the host has.
    pub(super) release: Option<Release>,
}

/// All pinned tools by their keys.
pub(super) type All<'p> = BTreeMap<String, Found<'p>>;

/// By key: the keys of what it needs.
pub(super) type Needs = BTreeMap<String, BTreeSet<String>>;

/// Looks all pins of a household up, those of the households in it included.
pub(super) fn look_up<'p>(
    catalog: &Catalog,
    pins: &'p BTreeMap<String, Pin>,
    household: &[String],
    all: &mut All<'p>,
) -> Result<(), RouteError> {
    for (tool, pin) in pins {
        let found = Found::look_up(catalog, tool, pin, household)?;
        all.insert(found.key(), found);
        look_up(catalog, &pin.private, &[household, std::slice::from_ref(tool)].concat(), all)?;
    }
    Ok(())
}

impl<'p> Found<'p> {
    fn look_up(catalog: &Catalog, tool: &'p str, pin: &'p Pin, household: &[String]) -> Result<Self, RouteError> {
        let gone = || RouteError::Gone { tool: tool.to_owned(), version: pin.version.clone() };
        let definition = catalog.tool(tool)?.ok_or_else(gone)?;
        let release = definition.release(&pin.version).cloned();
        if release.is_none() && pin.host.is_none() {
            return Err(gone());
        }
        let release = release.filter(|_| pin.host.is_none());
        Ok(Self { tool, household: household.to_vec(), pin, definition, release })
    }

    pub(super) fn key(&self) -> String {
        key(&self.household, self.tool)
    }

    /// The commands of the tool and of the pieces that are pinned.
    pub(super) fn commands(&self) -> BTreeMap<String, Command> {
        let pieces = self.release.iter().flat_map(|release| &release.pieces);
        let taken = pieces.filter(|(name, _)| self.pin.pieces.contains_key(*name));
        let of_pieces = taken.flat_map(|(_, piece)| piece.commands.clone());
        self.definition.commands.clone().into_iter().chain(of_pieces).collect()
    }

    /// What the release and its pinned pieces need.
    pub(super) fn needs(&self) -> impl Iterator<Item = &Need> {
        let pieces = self.release.iter().flat_map(|release| &release.pieces);
        let taken = pieces.filter(|(name, _)| self.pin.pieces.contains_key(*name));
        self.release.iter().flat_map(|release| &release.needs).chain(taken.flat_map(|(_, piece)| &piece.needs))
    }

    /// Whether it is called so, or provides it.
    pub(super) fn is_called(&self, name: &str) -> bool {
        self.tool == name || self.definition.provides.iter().any(|capability| capability == name)
    }

    fn meets(&self, way: &Way) -> bool {
        self.is_called(&way.name) && way.version.allows_by(self.definition.scheme, &self.pin.version)
    }
}

fn key(household: &[String], tool: &str) -> String {
    household.iter().map(String::as_str).chain([tool]).collect::<Vec<_>>().join("/")
}

/// The keys of what meets a need of `one`: in the nearest household that has something.
pub(super) fn met_by(all: &All<'_>, one: &Found<'_>, need: &Need) -> Vec<String> {
    let inner = [&one.household[..], &[one.tool.to_owned()]].concat();
    let nearest = if need.private { &inner } else { &one.household };
    let meets = |found: &&Found<'_>| need.ways.iter().any(|way| found.meets(way));
    let is_itself = |found: &Found<'_>| found.tool == one.tool && found.household == one.household;
    let meeting: Vec<&Found<'_>> = all.values().filter(meets).filter(|found| !is_itself(found)).collect();
    let at = |depth: usize| meeting.iter().filter(move |found| found.household[..] == nearest[..depth]);
    let deepest = (0..=nearest.len()).rev().find(|&depth| at(depth).next().is_some());
    deepest.into_iter().flat_map(at).map(|found| found.key()).collect()
}

/// Which pinned tool needs which.
pub(super) fn needs_between(all: &All<'_>) -> Needs {
    let of = |one: &Found<'_>| one.needs().flat_map(|need| met_by(all, one, need)).collect();
    all.iter().map(|(key, one)| (key.clone(), of(one))).collect()
}

/// Each tool above what it needs; tools that need each other in a circle stand together, by name. (Strongly connected
/// components come out bottom up: Tarjan, "Depth-first search and linear graph algorithms", 1972.)
pub(super) fn bottom_up(needs: &Needs) -> Vec<&str> {
    let mut graph = DiGraphMap::<&str, ()>::new();
    for (tool, needed) in needs {
        graph.add_node(tool);
        for need in needed {
            graph.add_edge(tool, need, ());
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
        .map(|(tool, needs)| (tool.to_owned(), needs.into_iter().map(str::to_owned).collect()))
        .collect();
        let order = bottom_up(&needs);
        let at = |tool: &str| order.iter().position(|other| *other == tool).unwrap();
        for (tool, below) in &needs {
            let circle = |need: &&String| needs[*need].contains(tool);
            assert!(below.iter().filter(|need| !circle(need)).all(|need| at(need) < at(tool)), "{tool} in {order:?}");
        }
        assert_eq!((order.len(), at("right")), (needs.len(), at("left") + 1));
    }
}
