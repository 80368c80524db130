//! How a rung came to stand for a capability, and what else was there: which rule decided.

use super::asker::Asker;
use super::{Choosing, Pin, Pins, PinsError};
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
        let met = |capability: &ToolName| {
            let providers = self.catalogs.providers(capability)?;
            let others: Vec<ToolName> = providers.iter().filter(|tool| **tool != card.tool).cloned().collect();
            let rule = if others.is_empty() {
                Rule::Alone
            } else if is_chosen {
                Rule::Chosen
            } else if self.policy_for(card) == HostPolicy::Prefer && pins.rungs[&card.tool].host.is_some() {
                Rule::HostPreferred
            } else if self.first_with_releases(providers)?.as_ref() == Some(&card.tool) {
                Rule::First
            } else {
                Rule::OthersOut
            };
            Ok(Met { capability: capability.clone(), others, rule })
        };
        capabilities.into_iter().map(met).collect()
    }

    fn first_with_releases(&self, providers: &[ToolName]) -> Result<Option<ToolName>, PinsError> {
        for tool in providers {
            if !self.card_of(tool)?.releases.is_empty() {
                return Ok(Some(tool.clone()));
            }
        }
        Ok(None)
    }

    /// The host's own of a tool whose release was taken.
    pub(super) fn beside(&self, card: &Card, pin: &Pin, askers: &[Asker]) -> Result<Option<Beside>, PinsError> {
        if pin.host.is_some() || !card.on_host || self.policy_for(card) == HostPolicy::Never {
            return Ok(None);
        }
        let definition = self.catalogs.tool(&card.tool)?;
        let Some(found) = definition.and_then(|definition| self.host.find(&definition)) else { return Ok(None) };
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
