//! Which of several tools that provide the same is taken first.

use std::sync::Arc;

use super::PinsError;
use super::offer::Offer;
use crate::ladder::HostPolicy;
use crate::names::ToolName;

/// Why a tool comes before others that provide the same; the first comes first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Rank {
    /// The host has it, and a wish prefers that.
    OnHost,
    /// A wish for what it provides names it, at this place of its list.
    Preferred(usize),
    /// The ladder wishes for it by its own name.
    Wished,
    /// The catalog names it, at this place of its list.
    ByCatalog(usize),
    /// Nothing is said.
    Plain,
    /// Only the host could have it.
    HostOnly,
    /// It brings along what was asked for, and more.
    Bundle,
}

impl Offer<'_> {
    /// The tools that can meet a wish or need for `name`, the first to be tried first: the tool itself and bundles that bring
    /// it along; where no tool is called so, all that provide it.
    pub(super) fn tools_for(&self, name: &ToolName) -> Result<Arc<[ToolName]>, PinsError> {
        if let Some(known) = self.known_tools(name) {
            return Ok(known);
        }
        let catalogs = self.choosing.catalogs;
        let mut tools = Vec::new();
        if catalogs.has(name) {
            tools.extend_from_slice(catalogs.bundles(name));
            tools.push(name.clone());
        } else {
            tools.extend_from_slice(catalogs.providers(name)?);
        }
        if tools.len() > 1 {
            let mut ranked = Vec::new();
            for tool in tools {
                ranked.push((self.rank(name, &tool)?, tool));
            }
            ranked.sort_by_key(|(rank, _)| *rank);
            tools = ranked.into_iter().map(|(_, tool)| tool).collect();
        }
        Ok(self.remember_tools(name, tools))
    }

    /// Why a tool comes where it does among those that stand for `name`.
    pub(super) fn rank(&self, name: &ToolName, tool: &ToolName) -> Result<Rank, PinsError> {
        let card = self.card(tool)?;
        let place = |list: &[ToolName]| list.iter().position(|listed| listed == tool);
        let preferred = || self.preferred.get(name).and_then(|list| place(list));
        Ok(match self.policy(tool) {
            HostPolicy::Prefer | HostPolicy::Only if !self.on_host(&card)?.is_empty() => Rank::OnHost,
            _ => match preferred() {
                Some(at) => Rank::Preferred(at),
                None if self.wished.contains(tool) => Rank::Wished,
                None => match place(self.choosing.catalogs.preferred(name)) {
                    Some(at) => Rank::ByCatalog(at),
                    None if tool != name && self.choosing.catalogs.has(name) => Rank::Bundle,
                    None if card.releases.is_empty() => Rank::HostOnly,
                    None => Rank::Plain,
                },
            },
        })
    }
}
