//! A generated catalog as numbers.

use std::collections::HashMap;

use kladder_choose::version::{Requirement, Version};
use kladder_synth::{Made, Shape, Way};

/// Versions as bits, the oldest being bit 0.
pub type Mask = u32;

/// A package and the versions of it that will do.
pub type Alternative = (u32, Mask);

/// What a version asks.
#[derive(Clone, Debug, Default)]
pub struct Asks {
    /// Lists of alternatives, of each of which one must be there.
    pub needs: Vec<Vec<Alternative>>,
    pub excludes: Vec<Alternative>,
}

/// A resolving problem.
pub struct Instance {
    /// By package: what each version asks, the oldest first.
    pub packages: Vec<Vec<Asks>>,
    pub wishes: Vec<Vec<Alternative>>,
}

impl Instance {
    pub fn new(shape: &Shape, wishes: usize, old: usize) -> Self {
        let made = Made::generate(shape);
        let names: HashMap<&str, u32> = (0u32..).zip(&made.tools).map(|(at, tool)| (tool.name.as_str(), at)).collect();
        let mut providers: HashMap<&str, Vec<u32>> = HashMap::new();
        for (at, tool) in (0u32..).zip(&made.tools) {
            tool.provides.iter().for_each(|name| providers.entry(name).or_default().push(at));
        }
        // All tools have the same versions.
        let versions: Vec<Version> =
            made.tools[0].releases.iter().rev().map(|release| release.version.parse().expect("a version")).collect();
        let mut masks: HashMap<String, Mask> = HashMap::new();
        let mut mask = |range: &str| {
            *masks.entry(range.to_owned()).or_insert_with(|| {
                let requirement: Requirement = range.parse().expect("a requirement");
                (0u32..).zip(&versions).filter(|(_, v)| requirement.allows(v)).map(|(at, _)| 1 << at).sum()
            })
        };
        let mut alternatives = |way: &Way| -> Vec<Alternative> {
            let mask = mask(&way.range);
            let tools =
                names.get(way.name.as_str()).map_or_else(|| providers[way.name.as_str()].clone(), |&at| vec![at]);
            tools.into_iter().map(|tool| (tool, mask)).collect()
        };
        let packages = made.tools.iter().map(|tool| {
            let asks = tool.releases.iter().rev().map(|release| Asks {
                needs: release.needs.iter().map(|need| alternatives(&need.ways[0])).collect(),
                excludes: release.excludes.iter().flat_map(&mut alternatives).collect(),
            });
            asks.collect()
        });
        let packages: Vec<Vec<Asks>> = packages.collect();
        let all = (1 << versions.len()) - 1;
        let spread = packages.len() / wishes / 4;
        let mut asked: Vec<Vec<Alternative>> =
            (0u32..).step_by(spread.max(1)).take(wishes).map(|at| vec![(at, all)]).collect();
        let last = u32::try_from(packages.len()).expect("fewer than 2^32 packages");
        // The newest release of something, and the oldest of what everything stands on.
        asked.iter_mut().take(old).for_each(|wish| wish[0].1 = 1 << (versions.len() - 1));
        asked.extend((0..u32::try_from(old * 10).expect("a few")).map(|at| vec![(last - 1 - at, 1)]));
        Self { packages, wishes: asked }
    }

    /// Whether a choice of versions meets everything.
    pub fn is_met(&self, chosen: &HashMap<u32, u32>) -> bool {
        let has = |(package, mask): &Alternative| chosen.get(package).is_some_and(|version| mask >> version & 1 == 1);
        let met = |need: &Vec<Alternative>| need.iter().any(has);
        let asks = chosen.iter().map(|(&package, &version)| &self.packages[package as usize][version as usize]);
        self.wishes.iter().all(met) && asks.into_iter().all(|a| a.needs.iter().all(met) && !a.excludes.iter().any(has))
    }
}
