//! Why there is no answer: the smallest set of wishes, and the needs that make them clash.

use crate::search::{Ended, attempt};
use crate::{Clash, Fact, NeedOf, Provider};

fn wishes_in<P: Provider>(facts: &[Fact<P>]) -> Vec<usize> {
    let mut found: Vec<usize> =
        facts.iter().filter_map(|fact| if let Fact::Wish(at) = fact { Some(*at) } else { None }).collect();
    found.sort_unstable();
    found
}

/// Shrinks a refutation by leaving out one wish after the other (deletion-based minimisation; see Marques-Silva,
/// "Minimal Unsatisfiability", 2010). A wish that cannot be decided within the budget stays in.
pub(crate) fn smallest<P: Provider>(
    provider: &P,
    wishes: &[NeedOf<P>],
    mut facts: Vec<Fact<P>>,
    budget: u64,
) -> Clash<P> {
    let mut core = wishes_in(&facts);
    let mut at = 0;
    while at < core.len() {
        let mut fewer = core.clone();
        fewer.remove(at);
        match attempt(provider, wishes, &fewer, budget) {
            Err(Ended::Refuted(found)) => {
                // The new refutation may rest on even fewer wishes; those before `at` are all in it.
                core = wishes_in(&found);
                facts = found;
            }
            _ => at += 1,
        }
    }
    Clash { wishes: core, facts }
}
