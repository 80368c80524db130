//! Our resolver over an instance.

use kladder_solve::{Alternative, Failure, Need, NeedOf, Provider, Question, Rule, RuleOf};

use crate::instance::{Instance, Mask};

struct Numbers<'i>(&'i Instance);

impl Provider for Numbers<'_> {
    type Package = u32;
    type Version = u32;
    type Range = Mask;
    type Error = ();

    fn versions(&self, package: &u32) -> Result<Vec<u32>, ()> {
        Ok((0..u32::try_from(self.0.packages[*package as usize].len()).map_err(drop)?).rev().collect())
    }
    fn rules(&self, package: &u32, version: &u32) -> Result<Vec<RuleOf<Self>>, ()> {
        let asks = &self.0.packages[*package as usize][*version as usize];
        let needs = asks.needs.iter().map(|list| Rule::Needs(need(list)));
        let excludes = asks.excludes.iter().map(|&(package, range)| Rule::Excludes(Alternative { package, range }));
        Ok(needs.chain(excludes).collect())
    }
    fn allows(&self, range: &Mask, _: &u32, version: &u32) -> bool {
        range >> version & 1 == 1
    }
}

fn need(list: &[(u32, Mask)]) -> Need<u32, Mask> {
    Need { alternatives: list.iter().map(|&(package, range)| Alternative { package, range }).collect() }
}

/// How many packages the answer has; `None` where there is none.
pub fn solve(instance: &Instance) -> Option<usize> {
    let wishes: Vec<NeedOf<Numbers<'_>>> = instance.wishes.iter().map(|list| need(list)).collect();
    match kladder_solve::solve(&Numbers(instance), &Question { wishes: &wishes, held: &[], budget: u64::MAX }) {
        Ok(choices) => {
            assert!(instance.is_met(&choices.iter().copied().collect()));
            Some(choices.len())
        }
        Err(Failure::Impossible(_)) => None,
        Err(Failure::GaveUp { .. } | Failure::Provider(())) => panic!("neither can happen"),
    }
}
