//! Pins over random small catalogs with everything that needs can say, held against a check of its own.

use std::collections::BTreeMap;

use kladder_choose::catalog::{
    Catalogs, Definition, Exclusion, Machine, Need as Wanted, Release as Known, Way as Path,
};
use kladder_choose::ladder::{Ladder, Wish};
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Choosing, Limits, Moves, NoHost, Pin, Pins, PinsError};
use kladder_choose::version::Version;
use kladder_synth::{Made, Need, Release, Tool, Way};
use proptest::prelude::*;
use proptest::test_runner::RngSeed;

use crate::{catalogs, ladder};

const TOOLS: [&str; 4] = ["bollwick", "gannick", "marrambit", "thwartle"];
/// What a release may bring along besides itself.
const BUNDLED: (&str, &str) = ("marrambit", "2");
const PLATFORMS: [&str; 2] = ["linux/x86_64", "macos/aarch64"];

fn way() -> impl Strategy<Value = Way> {
    let name = prop::sample::select([&TOOLS[..], &["formatter"]].concat());
    let range = prop::sample::select(vec!["any", ">=2", "<2", "<3", "=2"]);
    let pieces = prop::sample::select(vec![vec![], vec![], vec![], vec!["lens".to_owned()]]);
    (name, range, pieces).prop_map(|(name, range, pieces)| Way { name: name.into(), range: range.into(), pieces })
}

fn need() -> impl Strategy<Value = Need> {
    let on = prop::sample::select(vec![vec![], vec![], vec![], vec!["linux".to_owned()], vec!["macos".to_owned()]]);
    (way(), prop::bool::weighted(0.3), on).prop_map(|(way, private, on)| Need { ways: vec![way], private, on })
}

fn release(version: usize) -> impl Strategy<Value = Release> {
    let exclusions = prop::collection::vec(way(), 0..2);
    let excludes = exclusions.prop_map(|ways| ways.into_iter().map(|way| Way { pieces: Vec::new(), ..way }).collect());
    let platforms =
        prop::sample::select(vec![vec![], vec![], vec![PLATFORMS[0].to_owned()], vec![PLATFORMS[1].to_owned()]]);
    let pieces = prop::option::of(prop::collection::vec(need(), 0..2));
    let provided =
        prop::sample::select(vec![("formatter", "1"), ("formatter", "2"), ("formatter", "{version}"), BUNDLED]);
    let provides = prop::option::weighted(0.3, provided);
    (prop::collection::vec(need(), 0..3), excludes, platforms, pieces, provides).prop_map(
        move |(needs, excludes, platforms, piece, provides)| Release {
            provides: provides.map(|(name, version)| (name.to_owned(), version.to_owned())).into_iter().collect(),
            version: version.to_string(),
            needs,
            excludes,
            platforms,
            pieces: piece.map(|needs| ("lens".to_owned(), needs)).into_iter().collect(),
            ..Release::default()
        },
    )
}

fn made() -> impl Strategy<Value = Made> {
    let tool = |name: &'static str| {
        let provides = if name < "m" { vec!["formatter".to_owned()] } else { Vec::new() };
        (release(3), release(2), release(1)).prop_map(move |(new, middle, old)| Tool {
            name: name.to_owned(),
            provides: provides.clone(),
            releases: vec![new, middle, old],
            ..Tool::default()
        })
    };
    (tool(TOOLS[0]), tool(TOOLS[1]), tool(TOOLS[2]), tool(TOOLS[3]))
        .prop_map(|(a, b, c, d)| Made { tools: vec![a, b, c, d] })
}

/// The pins of one platform, held against the definitions.
struct Check<'c> {
    made: &'c Made,
    catalogs: &'c Catalogs,
    machine: Machine,
}

/// A household with those around it, itself last.
type Around<'p> = Vec<&'p BTreeMap<ToolName, Pin>>;

impl Check<'_> {
    fn definition(&self, tool: &ToolName) -> std::sync::Arc<Definition> {
        self.catalogs.tool(tool).unwrap().unwrap()
    }

    fn meets(&self, tool: &ToolName, pin: &Pin, way: &Path) -> bool {
        let pieces = way.pieces.iter().all(|piece| pin.pieces.contains_key(piece));
        let version = if *tool == way.name { Some(pin.version.clone()) } else { self.provided(tool, pin, &way.name) };
        version.is_some_and(|version| way.version.allows(&version)) && pieces
    }

    /// The version of `name` that the tool provides: as its release says, else as it says itself.
    fn provided(&self, tool: &ToolName, pin: &Pin, name: &ToolName) -> Option<Version> {
        let made = self.made.tools.iter().find(|made| made.name == tool.as_str()).unwrap();
        let release = made.releases.iter().find(|release| release.version == pin.version.to_string()).unwrap();
        let by_release = release.provides.iter().find(|(provided, _)| provided == name.as_str());
        match by_release {
            Some((_, version)) if version == "{version}" => Some(pin.version.clone()),
            Some((_, version)) => Some(version.parse().unwrap()),
            None => made.provides.iter().any(|provided| provided == name.as_str()).then(|| pin.version.clone()),
        }
    }

    fn wish(&self, wish: &Wish, pins: &Pins) {
        let way = Path {
            name: wish.tool.clone(),
            version: wish.range.requirement.clone(),
            pieces: wish.range.pieces.clone(),
        };
        assert!(pins.rungs.iter().any(|(tool, pin)| self.meets(tool, pin, &way)), "nothing meets {way}");
    }

    fn household(&self, around: &Around<'_>) {
        for (tool, pin) in *around.last().unwrap() {
            let release: Known = self.definition(tool).release(&pin.version).unwrap().clone();
            assert!(release.artifact(&self.machine).is_some() && pin.artifact(&self.machine).is_some(), "{tool}");
            let inside: Around<'_> = around.iter().copied().chain([&pin.private]).collect();
            let pieces = release.pieces.iter().filter(|(name, _)| pin.pieces.contains_key(*name));
            for need in release.says.needs.iter().chain(pieces.flat_map(|(_, piece)| &piece.says.needs)) {
                let seen = if need.private { &inside } else { around };
                assert!(
                    !need.holds_on(&self.machine.platform) || self.met(need, seen),
                    "{tool} {} needs {need}",
                    pin.version
                );
            }
            let beside: ToolName = BUNDLED.0.parse().unwrap();
            if *tool != beside && self.provided(tool, pin, &beside).is_some() {
                let others = around.last().unwrap().iter().filter(|(other, _)| *other != tool);
                let mut bundles =
                    others.filter(|(other, pin)| **other == beside || self.provided(other, pin, &beside).is_some());
                assert!(bundles.next().is_none(), "{tool} brings {beside}");
            }
            let excludes = release.says.excludes.iter().chain(
                release
                    .pieces
                    .iter()
                    .filter(|(name, _)| pin.pieces.contains_key(*name))
                    .flat_map(|(_, piece)| &piece.says.excludes),
            );
            for Exclusion { way, .. } in excludes.filter(|one| one.holds_on(&self.machine.platform)) {
                let mut others = around.last().unwrap().iter().filter(|(other, _)| *other != tool);
                assert!(!others.any(|(other, pin)| self.meets(other, pin, way)), "{tool} excludes {way}");
            }
            self.household(&inside);
        }
    }

    fn met(&self, need: &Wanted, around: &Around<'_>) -> bool {
        let mut all = around.iter().flat_map(|household| household.iter());
        all.any(|(tool, pin)| need.ways.iter().any(|way| self.meets(tool, pin, way)))
    }
}

proptest! {
    #![proptest_config(ProptestConfig { rng_seed: RngSeed::Fixed(412), ..ProptestConfig::with_cases(500) })]

    #[test]
    fn every_need_of_every_pin_is_met_on_every_platform(made in made(), two in any::<bool>()) {
        let platforms = &PLATFORMS[..if two { 2 } else { 1 }];
        let machines: String = platforms.iter().map(|platform| format!("on-{} = \"{platform}\"\n", &platform[..3])).collect();
        let ladder = ladder(&format!("[machines]\n{machines}\n[rungs]\nbollwick = \"any\"\nthwartle = \"<3\"\n"));
        let (catalogs, moves, limits) = (catalogs(&made), Moves::default(), Limits::default());
        let here = Machine::of(PLATFORMS[0].parse().unwrap());
        let choosing = Choosing {
            ladder: &ladder, catalogs: &catalogs, here: &here, host: &NoHost, old: None, moves: &moves, limits,
        };
        match choosing.pins() {
            Ok(pins) => {
                for platform in platforms {
                    let check = Check { made: &made, catalogs: &catalogs, machine: Machine::of(platform.parse().unwrap()) };
                    let here = pins.on(&check.machine);
                    ladder.wishes.iter().for_each(|wish| check.wish(wish, &here));
                    check.household(&vec![&here.rungs]);
                }
                let again = Choosing { old: Some(&pins), ..choosing }.pins().unwrap();
                prop_assert_eq!(again, pins, "a second time moves nothing");
            }
            Err(PinsError::Clash(report)) => {
                for way in &report.ways_out {
                    let eased = way.change.applied(&ladder);
                    let eased = Choosing { ladder: &eased, ..choosing };
                    prop_assert!(eased.pins().is_ok(), "{:?} does not solve it", way.change);
                }
            }
            Err(PinsError::NoArtifact { .. }) => {}
            Err(error) => prop_assert!(false, "{error}"),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { rng_seed: RngSeed::Fixed(413), ..ProptestConfig::with_cases(150) })]

    /// As many optional wishes are met as can be, the first ones first, and those that must be always are.
    #[test]
    fn only_what_cannot_be_had_is_left_out(made in made(), order in any::<bool>()) {
        let optional = if order { ["bollwick", "marrambit"] } else { ["marrambit", "bollwick"] };
        let with = |flags: [Option<bool>; 2]| {
            let lines = optional.iter().zip(flags).filter_map(|(tool, flag)| {
                Some(format!("{tool} = {{ version = \"<3\", optional = {} }}\n", flag?))
            });
            let [machine, rest] = PLATFORMS;
            let machines = format!("[machines]\none = \"{machine}\"\ntwo = \"{rest}\"\n");
            ladder(&format!("{machines}[rungs]\nthwartle = \"any\"\n{}", lines.collect::<String>()))
        };
        let (catalogs, moves, limits) = (catalogs(&made), Moves::default(), Limits::default());
        let here = Machine::of(PLATFORMS[0].parse().unwrap());
        let pins = |ladder: &Ladder| {
            Choosing { ladder, catalogs: &catalogs, here: &here, host: &NoHost, old: None, moves: &moves, limits }.pins()
        };
        let whole = with([Some(true), Some(true)]);
        let Ok(chosen) = pins(&whole) else {
            prop_assert!(pins(&with([None, None])).is_err(), "the wish that must be met can be");
            return Ok(());
        };
        // What a ladder gets that says so of each by hand: the first one if it can be had, then the second.
        let first = pins(&with([Some(false), None])).is_ok().then_some(false);
        let second = pins(&with([first, Some(false)])).is_ok().then_some(false);
        let left_out: Vec<&str> =
            optional.into_iter().zip([first, second]).filter(|(_, met)| met.is_none()).map(|(tool, _)| tool).collect();
        prop_assert_eq!(chosen.left_out.iter().map(ToolName::as_str).collect::<Vec<_>>(), left_out);
        prop_assert_eq!(&chosen.rungs, &pins(&with([first, second])).unwrap().rungs);
        let choosing =
            Choosing { ladder: &whole, catalogs: &catalogs, here: &here, host: &NoHost, old: Some(&chosen), moves: &moves, limits };
        prop_assert_eq!(choosing.pins().unwrap(), chosen.clone(), "a second time moves nothing");
        for tool in &chosen.left_out {
            prop_assert!(choosing.why_left_out(&chosen, tool).is_some(), "{} could be had", tool);
            prop_assert!(choosing.why(tool).is_ok());
        }
        for tool in chosen.rungs.keys().take(1) {
            prop_assert!(choosing.why(tool).unwrap().is_some() && choosing.news(tool).unwrap().is_some());
        }
    }
}
