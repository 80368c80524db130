//! Wishes that may be left out where they cannot be had.
//!
//! First all wishes are tried, which is the usual case. Where that fails for what there is (not for a slip of the pen), those
//! that must be met are solved alone, and the optional ones are added in their order, each staying where an answer is left.

use super::{Choosing, Pins, PinsError};
use crate::ladder::Ladder;
use crate::names::ToolName;

impl Choosing<'_> {
    /// Pins for all wishes that must be met, and for as many of the others as can be, the first ones first.
    pub(super) fn pins_for_some(&self) -> Result<Pins, PinsError> {
        let wishes = self.ladder.wishes.iter().filter(|wish| wish.optional);
        let optional: Vec<ToolName> = wishes.map(|wish| wish.tool.clone()).collect();
        let mut left_out = optional.clone();
        let mut pins = self.pins_without(&left_out, true)?;
        for tool in &optional {
            let fewer: Vec<ToolName> = left_out.iter().filter(|other| *other != tool).cloned().collect();
            if let Ok(more) = self.pins_without(&fewer, false) {
                (pins, left_out) = (more, fewer);
            }
        }
        pins.left_out = left_out;
        Ok(pins)
    }

    fn pins_without(&self, left_out: &[ToolName], with_ways_out: bool) -> Result<Pins, PinsError> {
        Choosing { ladder: &without(self.ladder, left_out), ..*self }.pins_for_all(with_ways_out)
    }

    /// Why a wish was left out of `pins`; `None` where it could be had by now.
    pub fn why_left_out(&self, pins: &Pins, tool: &ToolName) -> Option<PinsError> {
        let others: Vec<ToolName> = pins.left_out.iter().filter(|other| *other != tool).cloned().collect();
        self.pins_without(&others, true).err()
    }

    /// The ladder without the wishes that were left out of its pins, and the pins as those of such a ladder; `None` where
    /// none was.
    pub(super) fn reduced(&self) -> Option<(Ladder, Pins)> {
        let pins = self.old.filter(|pins| !pins.left_out.is_empty())?;
        Some((without(self.ladder, &pins.left_out), Pins { left_out: Vec::new(), ..pins.clone() }))
    }
}

/// A ladder without some of its optional wishes.
fn without(ladder: &Ladder, left_out: &[ToolName]) -> Ladder {
    let mut reduced = ladder.clone();
    reduced.wishes.retain(|wish| !(wish.optional && left_out.contains(&wish.tool)));
    reduced
}

impl PinsError {
    /// Whether it says that wishes cannot be met, and not that something is written wrongly.
    pub(super) fn is_about_what_there_is(&self) -> bool {
        matches!(
            self,
            Self::Clash(_)
                | Self::NoArtifact { .. }
                | Self::GateClosed { .. }
                | Self::NotOnHost { .. }
                | Self::NoSuchVersion { .. }
                | Self::Twice { .. }
        )
    }
}
