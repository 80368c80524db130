//! How a rung came to stand for a capability, and what else was there: which rule decided.

use super::asker::Asker;
use super::offer::Offer;
use super::rank::Rank;
use super::{Choosing, Found, Pin, Pins, PinsError};
use crate::catalog::Card;
use crate::ladder::HostPolicy;
use crate::names::ToolName;
use crate::version::Version;

/// A capability that a rung stands for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Met {
    /// The capability.
    pub capability: ToolName,
    /// Other tools of the catalog that provide it, by name.
    pub others: Vec<ToolName>,
    /// Why this one.
    pub rule: Rule,
}

/// The rule that decided between the providers of a capability; docs/commands.md, "Choosing", has them in order.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rule {
    /// Nobody else provides it.
    Alone,
    /// It is asked for by its own name too.
    Chosen,
    /// The host has it, and the wish prefers that.
    HostPreferred,
    /// The wish names it before others.
    Preferred,
    /// The catalog names it before others.
    ByCatalog,
    /// It is the first that the catalog has releases of, by name.
    First,
    /// Those before it could not be had together with the rest.
    OthersOut,
}

/// What the host has, although something else was taken.
#[derive(Clone, Debug)]
pub struct Beside {
    /// Its version.
    pub version: Version,
    /// The wish or need that leaves it out; `None` where the catalog's release was taken since nothing prefers the host's.
    pub left_out: Option<Asker>,
}

impl Choosing<'_> {
    /// The capabilities through which `askers` are met by a tool, each with the rule that decided.
    pub(super) fn met(&self, pins: &Pins, card: &Card, askers: &[Asker]) -> Result<Vec<Met>, PinsError> {
        let names: Vec<&ToolName> = askers.iter().flat_map(Asker::names).filter(|name| card.answers_to(name)).collect();
        let mut capabilities: Vec<&ToolName> = names.iter().copied().filter(|name| **name != card.tool).collect();
        capabilities.sort();
        capabilities.dedup();
        let is_chosen = names.iter().any(|name| **name == card.tool);
        let offer = Offer::new(self, false)?;
        let met = |capability: &ToolName| {
            let providers = self.catalogs.providers(capability)?;
            let others: Vec<ToolName> = providers.iter().filter(|tool| **tool != card.tool).cloned().collect();
            let is_first = offer.tools_for(capability)?.first() == Some(&card.tool);
            let rule = match offer.rank(capability, &card.tool)? {
                _ if others.is_empty() => Rule::Alone,
                _ if is_chosen => Rule::Chosen,
                Rank::OnHost if pins.rungs[&card.tool].host.is_some() => Rule::HostPreferred,
                _ if !is_first => Rule::OthersOut,
                Rank::Preferred(_) => Rule::Preferred,
                Rank::Wished => Rule::Chosen,
                Rank::ByCatalog(_) => Rule::ByCatalog,
                Rank::OnHost | Rank::Plain | Rank::HostOnly | Rank::Bundle => Rule::First,
            };
            Ok(Met { capability: capability.clone(), others, rule })
        };
        capabilities.into_iter().map(met).collect()
    }

    /// The host's own of a tool whose release was taken.
    pub(super) fn beside(&self, card: &Card, pin: &Pin, askers: &[Asker]) -> Result<Option<Beside>, PinsError> {
        if pin.host.is_some() || !card.on_host || self.policy_for(card) == HostPolicy::Never {
            return Ok(None);
        }
        let definition = self.catalogs.tool(&card.tool)?;
        let found = definition.map(|definition| self.host.find(&definition)).unwrap_or_default();
        // The one that comes nearest to being taken: that nobody leaves out.
        let is_open = |found: &&Found| askers.iter().all(|asker| asker.allows(card, &found.version));
        let Some(found) = found.iter().find(is_open).or_else(|| found.first()).cloned() else { return Ok(None) };
        let leaves_out = |asker: &&Asker| !asker.allows(card, &found.version);
        let left_out = askers.iter().find(leaves_out).cloned();
        Ok(Some(Beside { version: found.version, left_out }))
    }

    /// What the wishes say of the host's own.
    fn policy_for(&self, card: &Card) -> HostPolicy {
        let mut wishes = self.ladder.wishes.iter().filter(|wish| card.answers_to(&wish.tool)).map(|wish| wish.host);
        wishes.find(|policy| *policy != HostPolicy::Allow).unwrap_or_default()
    }
}
