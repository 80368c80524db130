//! What parts of a tool say: blocks, gates of releases and variants of artifacts. Random catalogs are held against a chooser
//! that tries everything, written from the documentation and knowing nothing of the real one.

use std::fmt::Write;
use std::sync::Arc;

use kladder_choose::catalog::{Catalogs, Definition, Here, Kind, Machine, Memory};
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_choose::names::ToolName;
use kladder_choose::pins::{Choosing, Limits, Moves, NoHost, Pin, Pins, PinsError};
use kladder_choose::version::Requirement;
use proptest::prelude::*;
use proptest::test_runner::RngSeed;

use crate::ladder;

const TOOLS: [&str; 3] = ["bollwick", "gannick", "marrambit"];
const MACHINES: &str = "[machines]\n\
    new = { platform = \"linux/x86_64\", where = { c-library = \"gnu 2.36\", feature = [\"avx2\"] } }\n\
    old = { platform = \"linux/x86_64\", where = { c-library = \"gnu 2.28\", feature = [\"sse2\"] } }\n\
    mac = \"macos/aarch64\"\n";

/// The machines as the naive chooser knows them: name, system, C library, whether it has the feature.
const NAIVE: [(&str, &str, Option<u32>, Option<bool>); 3] =
    [("new", "linux", Some(36), Some(true)), ("old", "linux", Some(28), Some(false)), ("mac", "macos", None, None)];

/// `any`, or a lower or upper end.
#[derive(Clone, Copy, Debug)]
enum Span {
    Any,
    From(usize),
    Below(usize),
}

#[derive(Clone, Debug)]
struct Need {
    tool: usize,
    span: Span,
    private: bool,
}

#[derive(Clone, Debug)]
enum Says {
    Library(u32),
    Feature,
    Need(Need),
}

#[derive(Clone, Debug)]
struct Block {
    versions: Span,
    on: Option<&'static str>,
    says: Says,
}

/// What it has artifacts for; the first variant wants a C library.
#[derive(Clone, Debug)]
struct Files {
    variant: Option<u32>,
    linux: bool,
    macos: bool,
}

#[derive(Clone, Debug)]
struct Tool {
    files: [Files; 2],
    needs: [Option<Need>; 2],
    blocks: Vec<Block>,
}

impl Span {
    fn holds(self, version: usize) -> bool {
        match self {
            Self::Any => true,
            Self::From(least) => version >= least,
            Self::Below(most) => version < most,
        }
    }

    fn text(self) -> String {
        match self {
            Self::Any => "any".to_owned(),
            Self::From(least) => format!(">={least}"),
            Self::Below(most) => format!("<{most}"),
        }
    }
}

fn span() -> impl Strategy<Value = Span> {
    prop::sample::select(vec![Span::Any, Span::From(2), Span::Below(2)])
}

fn need(of: usize) -> impl Strategy<Value = Need> {
    (1..3usize, span(), prop::bool::weighted(0.4)).prop_map(move |(step, span, private)| Need {
        tool: (of + step) % TOOLS.len(),
        span,
        private,
    })
}

fn block(of: usize) -> impl Strategy<Value = Block> {
    let says = prop_oneof![
        prop::sample::select(vec![28, 30, 40]).prop_map(Says::Library),
        Just(Says::Feature),
        need(of).prop_map(Says::Need),
    ];
    let on = prop::sample::select(vec![None, Some("linux"), Some("macos")]);
    let versions = prop::sample::select(vec![Span::From(2), Span::Below(2)]);
    (versions, on, says).prop_map(|(versions, on, says)| Block { versions, on, says })
}

fn files() -> impl Strategy<Value = Files> {
    let variant = prop::option::weighted(0.4, prop::sample::select(vec![28, 30, 40]));
    (variant, prop::bool::weighted(0.8), prop::bool::weighted(0.9)).prop_map(|(variant, linux, macos)| Files {
        variant,
        linux,
        macos,
    })
}

fn tool(of: usize) -> impl Strategy<Value = Tool> {
    let needs = (prop::option::weighted(0.4, need(of)), prop::option::weighted(0.4, need(of)));
    (files(), files(), needs, prop::collection::vec(block(of), 0..3)).prop_map(|(one, two, (a, b), blocks)| Tool {
        files: [one, two],
        needs: [a, b],
        blocks,
    })
}

/// The definition as somebody would write it.
fn text(at: usize, tool: &Tool) -> String {
    let mut text = format!("tool = \"{}\"\nsummary = \"\"\nfile = \"{{version}}.zip\"\n", TOOLS[at]);
    let needs = |need: &Need| {
        let (name, range) = (TOOLS[need.tool], need.span.text());
        format!("needs = {{ {name} = {{ version = \"{range}\", private = {} }} }}\n", need.private)
    };
    for block in &tool.blocks {
        let _ = write!(text, "[[also]]\nversion = \"{}\"\n", block.versions.text());
        text.extend(block.on.map(|on| format!("for = [\"{on}\"]\n")));
        let says = match &block.says {
            Says::Library(least) => format!("gates = [{{ c-library = \"gnu >=2.{least}\" }}]\n"),
            Says::Feature => "gates = [{ feature = \"avx2\" }]\n".to_owned(),
            Says::Need(need) => needs(need),
        };
        text.push_str(&says);
    }
    for (index, files) in tool.files.iter().enumerate() {
        let _ = write!(text, "[[releases]]\nversion = \"{}\"\n", index + 1);
        text.extend(tool.needs[index].as_ref().map(needs));
        text += "artifacts = [\n";
        let digest = |kind: u8| format!("{at:02x}{index:02x}{kind:02x}").repeat(11)[..64].to_owned();
        if let Some(least) = files.variant {
            let facts = format!("where = {{ c-library = \"gnu >=2.{least}\" }}");
            let _ = writeln!(text, "{{ for = [\"linux\"], {facts}, file = \"v.zip\", sha256 = \"{}\" }},", digest(1));
        }
        for (kind, system) in [(2, "linux"), (3, "macos")] {
            if (kind == 2 && files.linux) || (kind == 3 && files.macos) {
                let _ = writeln!(text, "{{ for = [\"{system}\"], sha256 = \"{}\" }},", digest(kind));
            }
        }
        text += "]\n";
    }
    text
}

/// Tries everything on one machine. A household is a version for each tool, 0 for none; those around it come with it, outermost
/// first, and whose they are.
struct Naive<'n> {
    tools: &'n [Tool; 3],
    machine: (&'n str, &'n str, Option<u32>, Option<bool>),
}

type Household = [usize; 3];

impl Naive<'_> {
    /// Which of the three files of a release is taken.
    fn file(&self, tool: usize, version: usize) -> Option<u8> {
        let (_, system, library, _) = self.machine;
        let files = &self.tools[tool].files[version - 1];
        let variant = files.variant.is_some_and(|least| library.is_some_and(|library| library >= least));
        match system {
            "linux" if variant => Some(1),
            "linux" => files.linux.then_some(2),
            _ => files.macos.then_some(3),
        }
    }

    fn blocks(&self, tool: usize, version: usize) -> impl Iterator<Item = &Says> {
        let (_, system, ..) = self.machine;
        let holds = move |block: &&Block| block.versions.holds(version) && block.on.is_none_or(|on| on == system);
        self.tools[tool].blocks.iter().filter(holds).map(|block| &block.says)
    }

    fn can_run(&self, tool: usize, version: usize) -> bool {
        let (_, _, library, feature) = self.machine;
        let open = |says: &Says| match says {
            Says::Library(least) => library.is_none_or(|library| library >= *least),
            Says::Feature => feature.unwrap_or(true),
            Says::Need(_) => true,
        };
        self.file(tool, version).is_some() && self.blocks(tool, version).all(open)
    }

    fn needs(&self, tool: usize, version: usize) -> Vec<&Need> {
        let of_blocks = self.blocks(tool, version).filter_map(|says| match says {
            Says::Need(need) => Some(need),
            _ => None,
        });
        self.tools[tool].needs[version - 1].iter().chain(of_blocks).collect()
    }

    fn is_possible(&self, must: &[&Need], around: &[Household], owners: &[usize]) -> bool {
        let each = || 0..=2usize;
        let mut all = each().flat_map(|a| each().flat_map(move |b| each().map(move |c| [a, b, c])));
        all.any(|household| {
            let met = |need: &&Need| household[need.tool] > 0 && need.span.holds(household[need.tool]);
            must.iter().all(met) && self.stands(household, around, owners)
        })
    }

    fn stands(&self, household: Household, around: &[Household], owners: &[usize]) -> bool {
        let chain: Vec<Household> = around.iter().copied().chain([household]).collect();
        (0..3).filter(|tool| household[*tool] > 0).all(|tool| {
            let mut kept = Vec::new();
            let own: Vec<usize> = owners.iter().copied().chain([tool]).collect();
            let fine = self.needs(tool, household[tool]).into_iter().all(|need| {
                let is_kept = need.private && !owners.contains(&tool);
                let whose = if is_kept { &own[..] } else { owners };
                match whose.iter().position(|owner| *owner == need.tool) {
                    Some(depth) => need.span.holds(chain[depth][need.tool]) && chain[depth][need.tool] > 0,
                    None if is_kept => {
                        kept.push(need);
                        true
                    }
                    None => household[need.tool] > 0 && need.span.holds(household[need.tool]),
                }
            });
            let inside = kept.is_empty() || self.is_possible(&kept, &chain, &own);
            fine && inside && self.can_run(tool, household[tool])
        })
    }

    /// Every pin of a household can run here, has the file that comes first, and finds what it needs nearest to it.
    fn check(&self, around: &[&std::collections::BTreeMap<ToolName, Pin>], machine: &Machine) {
        for (name, pin) in *around.last().unwrap() {
            let (tool, version) = (at(name), pin.version.as_str().parse().unwrap());
            assert!(self.can_run(tool, version), "{name} {version} on {}", machine.name);
            let file = format!("{:02x}{:02x}{:02x}", tool, version - 1, self.file(tool, version).unwrap());
            assert!(pin.artifact(machine).unwrap().sha256.hex().starts_with(&file), "{name} on {}", machine.name);
            let inside: Vec<_> = around.iter().copied().chain([&pin.private]).collect();
            for need in self.needs(tool, version) {
                let seen = if need.private { &inside[..] } else { around };
                let nearest = seen.iter().rev().find_map(|household| household.get(TOOLS[need.tool]));
                let met = nearest.is_some_and(|pin| need.span.holds(pin.version.as_str().parse().unwrap()));
                assert!(met, "{name} {version} needs {need:?} on {}", machine.name);
            }
            self.check(&inside, machine);
        }
    }
}

fn at(name: &ToolName) -> usize {
    TOOLS.iter().position(|tool| *name == **tool).unwrap()
}

fn chosen(ladder: &Ladder, catalogs: &Catalogs, old: Option<&Pins>) -> Result<Pins, PinsError> {
    let here = Machine::of("linux/x86_64".parse().unwrap());
    let (moves, limits) = (Moves::default(), Limits::default());
    Choosing { ladder, catalogs, here: &here, host: &NoHost, old, moves: &moves, limits }.pins()
}

proptest! {
    #![proptest_config(ProptestConfig { rng_seed: RngSeed::Fixed(412), ..ProptestConfig::with_cases(1500) })]

    #[test]
    fn there_are_pins_where_trying_everything_finds_some_and_they_hold_on_every_machine(
        tools in (tool(0), tool(1), tool(2)), below in any::<bool>(), two in any::<bool>(),
    ) {
        let tools = [tools.0, tools.1, tools.2];
        let mut memory = Memory::new("made-up");
        for (at, tool) in tools.iter().enumerate() {
            memory.add(TOOLS[at], &text(at, tool));
        }
        let catalogs = Catalogs::new(vec![Box::new(memory)]).unwrap();
        let first = if below { Span::Below(2) } else { Span::Any };
        let second = if two { "gannick = \"any\"\n" } else { "" };
        let ladder = ladder(&format!("{MACHINES}[rungs]\nbollwick = \"{}\"\n{second}", first.text()));
        let wishes: Vec<Need> = [(0, first), (1, Span::Any)][..if two { 2 } else { 1 }]
            .iter().map(|(tool, span)| Need { tool: *tool, span: *span, private: false }).collect();
        let must: Vec<&Need> = wishes.iter().collect();
        let possible = |machine| Naive { tools: &tools, machine }.is_possible(&must, &[], &[]);
        match chosen(&ladder, &catalogs, None) {
            Ok(pins) => {
                for (machine, naive) in ladder.kinds(&ladder.machines[0]).iter().map(|kind| {
                    (kind, *NAIVE.iter().find(|(name, ..)| *name == kind.name).unwrap())
                }) {
                    let here = pins.on(machine);
                    for wish in &wishes {
                        prop_assert!(here.rungs.contains_key(TOOLS[wish.tool]));
                    }
                    Naive { tools: &tools, machine: naive }.check(&[&here.rungs], machine);
                }
                // As written and read again, and chosen once more, they are the same.
                let again = Pins::parse(&Source::new("pins", pins.to_toml())).unwrap();
                prop_assert_eq!(&again, &pins);
                prop_assert_eq!(&chosen(&ladder, &catalogs, Some(&pins)).unwrap(), &pins);
            }
            Err(PinsError::Clash(_) | PinsError::NoArtifact { .. } | PinsError::GateClosed { .. }) => {
                prop_assert!(!NAIVE.into_iter().all(possible), "there would have been pins");
            }
            Err(error) => prop_assert!(false, "{error}"),
        }
    }
}

#[test]
fn a_release_that_a_machine_cannot_run_gives_way_to_an_older_one_there_and_its_pins_say_so() {
    let release = |version: &str, kind: &str| {
        let digest = kind.repeat(64);
        format!("[[releases]]\nversion = \"{version}\"\nartifacts = [{{ file = \"a\", sha256 = \"{digest}\" }}]\n")
    };
    let gate = "[[also]]\nversion = \">=2\"\ngates = [{ c-library = \"gnu >=2.31\", advice = \"newer\" }]\n";
    let mut memory = Memory::new("made-up");
    let text = format!("tool = \"bollwick\"\nsummary = \"\"\n{gate}{}{}", release("2", "a"), release("1", "b"));
    memory.add("bollwick", &text);
    let catalogs = Catalogs::new(vec![Box::new(memory)]).unwrap();
    let pins = chosen(&ladder(&format!("{MACHINES}[rungs]\nbollwick = \"any\"\n")), &catalogs, None).unwrap();
    // One version that all of them can run, before one for each.
    assert_eq!(pins.rungs["bollwick"].version.as_str(), "1");
    let wanted = |machine: &str, platform: &str| {
        let ladder = ladder(&format!("[machines]\n{machine} = {platform}\n[rungs]\nbollwick = \">=2\"\n"));
        chosen(&ladder, &catalogs, None)
    };
    let old = "{ platform = \"linux/x86_64\", where = { c-library = \"gnu 2.28\" } }";
    let Err(PinsError::GateClosed { machine, demand, .. }) = wanted("old", old) else { panic!("it cannot run there") };
    let place = Kind::try_from("linux/x86_64".to_owned()).unwrap();
    assert_eq!((machine, demand.to_string()), (place, "gnu >=2.31".to_owned()));
    assert_eq!(wanted("mac", "\"macos/aarch64\"").unwrap().rungs["bollwick"].version.as_str(), "2");
}

/// What is said where a tool stands, in words that are short.
fn said(text: &str, version: &str, facts: &str, private: bool, pieces: &[&str], beside: &str) -> String {
    let whole = format!("tool = \"skerroc\"\nsummary = \"\"\n{text}");
    let definition = Arc::new(Definition::parse(&Source::new("skerroc.toml", whole), "skerroc").unwrap());
    let ladder = ladder(&format!("[machines]\nm = {{ platform = \"linux/x86_64\", where = {{ {facts} }} }}\n"));
    let version = version.parse().unwrap();
    let here = definition.at(&Here {
        version: &version,
        machine: &ladder.machines[0],
        pieces: &|piece| pieces.contains(&piece),
        is_private: private,
        beside: &|tool: &ToolName, range: &Requirement| {
            *tool == *"tombolet" && !beside.is_empty() && range.allows(&beside.parse().unwrap())
        },
    });
    let commands = here.says.commands.iter().map(|(name, command)| format!("{name}={}", command.file.as_written()));
    let licences = here.says.licences.iter().cloned();
    commands.chain(licences).collect::<Vec<_>>().join(" ")
}

#[test]
fn a_block_counts_where_all_that_it_names_holds_and_what_is_narrower_counts_more() {
    let parts = "licence = \"one\"\ncommands.s = \"bin/s\"\n\
        [[also]]\nversion = \">=2\"\nlicence = [\"two\", \"one\"]\n\
        [[also]]\nfor = [\"macos\"]\ncommands.mac = \"m\"\n\
        [[also]]\nwhere = { c-library = \"gnu <2.30\" }\ncommands.old = \"o\"\n\
        [[also]]\nprivate = true\ncommands.kept = \"k\"\n\
        [[also]]\nwith = { tombolet = \">=3\" }\ncommands.with = \"w\"\n\
        [[also]]\npiece = \"lens\"\ncommands.lens = \"l\"\n\
        [[also]]\nseries = \"stable\"\ncommands.s = \"stable/s\"\n\
        [[releases]]\nversion = \"2\"\nseries = [\"stable\"]\ncommands.two = \"t\"\n\
        pieces.lens = { summary = \"\", commands = { zoom = \"z\" }, licence = \"glass\" }\n\
        [[releases]]\nversion = \"1\"\ncommands.s = \"one/s\"\n";
    let at = |version: &str, facts: &str, private: bool, pieces: &[&str], beside: &str| {
        said(parts, version, facts, private, pieces, beside)
    };
    assert_eq!(at("1", "", false, &[], ""), "s=one/s one");
    assert_eq!(at("2", "", false, &[], ""), "s=stable/s two=t one two");
    assert_eq!(at("1", "c-library = \"gnu 2.28\"", true, &[], ""), "kept=k old=o s=one/s one");
    assert_eq!(at("1", "c-library = \"gnu 2.36\"", false, &[], "3.1"), "s=one/s with=w one");
    assert_eq!(at("2", "", false, &["lens"], "2"), "lens=l s=stable/s two=t zoom=z one two glass");
}
