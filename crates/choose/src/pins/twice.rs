//! Commands, variables and lent files that two rungs would bring.

use std::collections::BTreeMap;

use super::{Choosing, HostCopy, Pin, Pins, PinsError};
use crate::catalog::{Brings, Here, Machine};
use crate::names::{Household, ToolName};
use crate::version::Requirement;

impl Choosing<'_> {
    /// Fails where two rungs of one household bring a command or a variable of the same name on some machine, and the
    /// ladder does not say which one answers.
    pub(super) fn check_brought(&self, pins: &Pins) -> Result<(), PinsError> {
        self.machines()
            .iter()
            .try_for_each(|machine| self.check_household(&pins.on(machine).rungs, machine, &Household::shared()))
    }

    /// Whether some rung is called so, or provides it.
    fn is_among(&self, rungs: &BTreeMap<ToolName, Pin>, name: &ToolName) -> Result<bool, PinsError> {
        if rungs.contains_key(name) {
            return Ok(true);
        }
        let providers = self.catalogs.providers(name)?;
        Ok(providers.iter().any(|provider| rungs.contains_key(provider)))
    }

    fn check_household(
        &self,
        rungs: &BTreeMap<ToolName, Pin>,
        machine: &Machine,
        household: &Household,
    ) -> Result<(), PinsError> {
        let mut brought: BTreeMap<Brings, &ToolName> = BTreeMap::new();
        for (tool, pin) in rungs.iter().filter(|(_, pin)| {
            !matches!(pin.host, Some(HostCopy::Itself(_) | HostCopy::Aside { .. } | HostCopy::Package { .. }))
        }) {
            self.check_household(&pin.private, machine, &household.of(tool))?;
            let Some(card) = self.catalogs.card(tool)? else { continue };
            let mut brings =
                if card.varies { self.brought_by(tool, rungs, machine, household)? } else { card.brings.clone() };
            brings.sort();
            brings.dedup();
            for what in brings {
                if let Brings::File { to, .. } = &what
                    && !self.is_among(rungs, to)?
                {
                    continue;
                }
                let left_out = self.ladder.answers.get(what.name()).is_some_and(|chosen| !card.answers_to(chosen));
                if household.is_shared() && left_out {
                    continue;
                }
                if let Some(one) = brought.insert(what.clone(), tool) {
                    return Err(PinsError::Twice { one: one.clone(), other: tool.clone(), what });
                }
            }
        }
        Ok(())
    }

    /// What a tool brings that does not bring the same everywhere.
    fn brought_by(
        &self,
        tool: &ToolName,
        rungs: &BTreeMap<ToolName, Pin>,
        machine: &Machine,
        household: &Household,
    ) -> Result<Vec<Brings>, PinsError> {
        let Some(definition) = self.catalogs.tool(tool)? else { return Ok(Vec::new()) };
        let pin = &rungs[tool];
        let stands = |name: &ToolName, range: &Requirement| {
            let meets = |(tool, pin): (&ToolName, &Pin)| {
                let card = self.catalogs.card(tool).ok().flatten();
                card.is_some_and(|card| card.meets(name, range, &pin.version))
            };
            rungs.iter().any(meets)
        };
        let here = Here {
            version: &pin.version,
            machine,
            pieces: &|piece| pin.pieces.contains_key(piece),
            is_private: !household.is_shared(),
            beside: &stands,
        };
        Ok(definition.at(&here).says.brings())
    }
}
