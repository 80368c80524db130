//! Commands, variables and lent files that two rungs would bring.

use std::collections::BTreeMap;

use super::{Choosing, Pin, Pins, PinsError};
use crate::catalog::Brings;
use crate::names::ToolName;

impl Choosing<'_> {
    /// Fails where two rungs of one household bring a command or a variable of the same name on some platform, and the
    /// ladder does not say which one answers.
    pub(super) fn check_brought(&self, pins: &Pins) -> Result<(), PinsError> {
        self.platforms().iter().try_for_each(|platform| self.check_household(&pins.on(platform).rungs, true))
    }

    /// Whether some rung is called so, or provides it.
    fn is_among(&self, rungs: &BTreeMap<ToolName, Pin>, name: &ToolName) -> Result<bool, PinsError> {
        if rungs.contains_key(name) {
            return Ok(true);
        }
        let providers = self.catalogs.providers(name)?;
        Ok(providers.iter().any(|provider| rungs.contains_key(provider)))
    }

    fn check_household(&self, rungs: &BTreeMap<ToolName, Pin>, shared: bool) -> Result<(), PinsError> {
        let mut brought: BTreeMap<Brings, &ToolName> = BTreeMap::new();
        for (tool, pin) in rungs.iter().filter(|(_, pin)| pin.host.is_none()) {
            self.check_household(&pin.private, false)?;
            let Some(card) = self.catalogs.card(tool)? else { continue };
            let mut brings = card.brings.clone();
            if !pin.pieces.is_empty()
                && let Some(release) = card.release(&pin.version)
            {
                let pieces = release.details().pieces.into_iter();
                brings.extend(
                    pieces.filter(|(name, _)| pin.pieces.contains_key(name)).flat_map(|(_, piece)| piece.brings),
                );
            }
            brings.sort();
            brings.dedup();
            for what in brings {
                if let Brings::File { to, .. } = &what
                    && !self.is_among(rungs, to)?
                {
                    continue;
                }
                let left_out = self.ladder.answers.get(what.name()).is_some_and(|chosen| !card.answers_to(chosen));
                if shared && left_out {
                    continue;
                }
                if let Some(one) = brought.insert(what.clone(), tool) {
                    return Err(PinsError::Twice { one: one.clone(), other: tool.clone(), what });
                }
            }
        }
        Ok(())
    }
}
