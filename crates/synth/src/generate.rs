//! A catalog of any size from a seed.
//!
//! Tools are numbered, and nearly all needs point upwards: most to tools close by, some to a few popular ones that
//! everybody needs. A tool's releases need the same tools; which versions they need moves along with their age, so that
//! releases of one age fit each other, and releases of different ages often do not. How tightly is the seed's shape:
//! wide ranges (`>=2.3.0`), one major version (`>=2.3.0, <3`), or one minor (`2.3`).

use fastrand::Rng;

use crate::{Made, Need, Release, Tool, Way};

/// What a generated catalog is like.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// How many tools.
    pub tools: usize,
    /// How many releases each of them has.
    pub versions: usize,
    /// Percentage of needs that are bound above.
    pub tight: u8,
    /// Percentage of needs that name a capability with three providers.
    pub capabilities: u8,
    /// Percentage of releases that exclude a range of another tool.
    pub exclusions: u8,
    /// Whether there is an answer by design: each tool has one release whose needs leave a certain release of each needed
    /// tool. Tight catalogs without it have none that anybody finds.
    pub planted: bool,
    /// The same seed gives the same catalog.
    pub seed: u64,
}

impl Default for Shape {
    fn default() -> Self {
        Self { tools: 10_000, versions: 20, tight: 30, capabilities: 0, exclusions: 0, planted: false, seed: 1 }
    }
}

/// Minor versions in a major one.
const MINORS: usize = 5;
/// Tools that everybody needs.
const POPULAR: usize = 40;
/// Providers of a capability.
const PROVIDERS: usize = 3;

impl Made {
    /// Grows a catalog; its tools are `tool-0`, `tool-1`, …
    pub fn generate(shape: &Shape) -> Self {
        let mut random = Rng::with_seed(shape.seed);
        Self { tools: (0..shape.tools).map(|at| tool(shape, at, &mut random)).collect() }
    }
}

/// The version of age `age`, the oldest being 0.
pub(crate) fn version(age: usize) -> (usize, usize) {
    (age / MINORS + 1, age % MINORS)
}

fn tool(shape: &Shape, at: usize, random: &mut Rng) -> Tool {
    let needed = needed(shape, at, random);
    let mut releases: Vec<Release> = (0..shape.versions).map(|age| release(shape, at, age, &needed, random)).collect();
    releases.reverse();
    let provides = if shape.capabilities > 0 { vec![format!("cap-{}", at / PROVIDERS)] } else { Vec::new() };
    Tool { name: format!("tool-{at}"), provides, releases, ..Tool::default() }
}

/// The tools that a tool needs.
fn needed(shape: &Shape, at: usize, random: &mut Rng) -> Vec<usize> {
    let popular = shape.tools.saturating_sub(POPULAR);
    let mut needed = Vec::new();
    for _ in 0..random.usize(0..=4) {
        let other = if random.u8(0..100) < 40 { random.usize(popular..shape.tools) } else { at + random.usize(1..200) };
        if other > at && other < shape.tools && !needed.contains(&other) {
            needed.push(other);
        }
    }
    needed
}

fn release(shape: &Shape, at: usize, age: usize, needed: &[usize], random: &mut Rng) -> Release {
    let (major, minor) = version(age);
    let needs = needed.iter().map(|&other| need(shape, at, other, age, random)).collect();
    let excludes = if random.u8(0..100) < shape.exclusions && at + 1 < shape.tools {
        let other = at + random.usize(1..(shape.tools - at).min(200));
        vec![Way { name: format!("tool-{other}"), range: format!("<{major}"), pieces: Vec::new() }]
    } else {
        Vec::new()
    };
    Release {
        version: format!("{major}.{minor}.0"),
        date: Some(format!("20{:02}-{:02}-01", 10 + age / 12, age % 12 + 1)),
        series: if minor == MINORS - 1 { vec!["long-term".to_owned()] } else { vec!["stable".to_owned()] },
        needs,
        excludes,
        ..Release::default()
    }
}

/// The age of a tool's release in the planted answer: old enough that it is not what everybody tries first.
fn planted(shape: &Shape, at: usize) -> usize {
    let mut random = Rng::with_seed(shape.seed ^ (at as u64).wrapping_mul(0x9E37_79B9_7F4A_7C15));
    shape.versions / 2 + random.usize(0..shape.versions.div_ceil(2))
}

/// What a release of some age needs of a tool: something about as old as itself, or a little older.
fn need(shape: &Shape, at: usize, other: usize, age: usize, random: &mut Rng) -> Need {
    let back = random.usize(0..3);
    let is_planted = shape.planted && age == planted(shape, at);
    let (major, minor) = version(if is_planted { planted(shape, other) } else { age.saturating_sub(back) });
    let range = match random.u8(0..100) {
        share if share < shape.tight / 4 => format!("{major}.{minor}"),
        share if share < shape.tight => format!(">={major}.{minor}.0, <{}", major + 1),
        _ => format!(">={major}.{minor}.0"),
    };
    let is_capability = random.u8(0..100) < shape.capabilities;
    let name = if is_capability { format!("cap-{}", other / PROVIDERS) } else { format!("tool-{other}") };
    Need { ways: vec![Way { name, range, pieces: Vec::new() }], ..Need::default() }
}
