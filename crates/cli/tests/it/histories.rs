//! Random histories of a desk, held against a model that knows nothing but numbers and wishes: whatever came before, the
//! current landing is the one that was reached last, all of it is there, and nothing that a landing has is ever cleared.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

use fastrand::Rng;
use kladder_pack::Entry;

use crate::sandbox::Sandbox;

/// A rung and its version.
type Rungs = BTreeSet<(&'static str, &'static str)>;

struct History {
    sandbox: Sandbox,
    dice: Rng,
    landings: BTreeMap<u32, Rungs>,
    current: u32,
    /// What was done so far, for whoever reads a failure.
    told: Vec<String>,
}

impl History {
    fn begin(seed: u64) -> Self {
        let sandbox = Sandbox::new();
        let plank = [Entry::program("plank", "#!/bin/sh\necho plank 1.0\n")];
        sandbox.plank("plank.zip", &plank, "commands = { plank = \"plank\" }");
        Self { sandbox, dice: Rng::with_seed(seed), landings: BTreeMap::new(), current: 0, told: Vec::new() }
    }

    fn kladder(&mut self, arguments: &[&str]) -> (i32, String) {
        self.told.push(arguments.join(" "));
        let ran = self.sandbox.run(arguments);
        (ran.code, ran.stdout + &ran.stderr)
    }

    fn wish(&mut self) {
        let tombolet = *self.dice.choice(&[None, Some(("tombolet", "1.0.3")), Some(("tombolet", "1.1.0"))]).unwrap();
        let plank = Some(("plank", "1.0")).filter(|_| tombolet.is_none() || self.dice.bool());
        let rungs: Rungs = tombolet.into_iter().chain(plank).collect();
        let wishes: Vec<String> = rungs.iter().map(|(tool, version)| format!("{tool} = \"={version}\"")).collect();
        self.sandbox.wish(&wishes.join("\n"));
        self.told.push(format!("wish {wishes:?}"));
        let is_there = self.landings.get(&self.current) == Some(&rungs);
        let (code, said) = self.kladder(&["climb"]);
        assert_eq!((code, said.contains("All rungs stand")), (0, is_there), "{:#?}\n{said}", self.told);
        if !is_there {
            self.current = self.landings.keys().max().unwrap_or(&0) + 1;
            self.landings.insert(self.current, rungs);
        }
    }

    /// A wish that nobody can fulfil changes nothing.
    fn wish_in_vain(&mut self) {
        let before = self.sandbox.read("desk/ladder.toml");
        self.sandbox.wish("plank = \"=1.0\"\nskerroc = \"1.4\"");
        let (code, said) = self.kladder(&["climb", "--offline"]);
        assert_eq!(code, 20, "{:#?}\n{said}", self.told);
        self.sandbox.write("desk/ladder.toml", &before);
        let _ = self.kladder(&["pin"]);
    }

    fn back(&mut self) {
        let number = self.dice.u32(1..=self.landings.keys().max().unwrap_or(&0) + 1);
        let (code, said) = self.kladder(&["back", &number.to_string(), "--with-ladder"]);
        let expected = if self.landings.contains_key(&number) { 0 } else { 2 };
        assert_eq!(code, expected, "{:#?}\n{said}", self.told);
        if code == 0 {
            self.current = number;
        }
    }

    fn clear(&mut self) {
        let keep = self.dice.usize(1..4);
        let (code, said) = self.kladder(&["clear", "--keep", &keep.to_string(), "--yes"]);
        assert_eq!(code, 0, "{:#?}\n{said}", self.told);
        let too_many = self.landings.len().saturating_sub(keep);
        let old: Vec<u32> = self.landings.keys().copied().take(too_many).collect();
        self.landings.retain(|number, _| !old.contains(number) || *number == self.current);
    }

    fn compare(&mut self) {
        let told = self.told.clone();
        let list = self.sandbox.run(&["landings", "--json"]).json();
        let listed: Vec<(u64, bool)> = list["landings"]
            .as_array()
            .unwrap()
            .iter()
            .rev()
            .map(|landing| (landing["number"].as_u64().unwrap(), landing["current"] == true))
            .collect();
        let modelled: Vec<(u64, bool)> =
            self.landings.keys().map(|number| (u64::from(*number), *number == self.current)).collect();
        assert_eq!(listed, modelled, "{told:#?}");
        let rungs = &self.landings[&self.current];
        for (tool, arguments) in [("tombolet", &["--version"][..]), ("plank", &[])] {
            let ran = self.sandbox.run(&[&["run", "--", tool], arguments].concat());
            let version = rungs.iter().find(|rung| rung.0 == tool).map(|rung| rung.1);
            let answers = version.map_or(ran.code == 127, |version| ran.code == 0 && ran.stdout.contains(version));
            assert!(answers, "{tool} {version:?}: {} {}\n{told:#?}", ran.stdout, ran.stderr);
        }
        let shelf = self.shelf();
        assert!(self.landings.values().flatten().all(|rung| shelf.contains(rung)), "{shelf:?}\n{told:#?}");
        let (code, said) = self.kladder(&["climb"]);
        assert!(code == 0 && said.contains("All rungs stand"), "{said}\n{told:#?}");
        self.told = told;
    }

    /// What is on the shelf.
    fn shelf(&self) -> Rungs {
        let of = |(tool, version): (&'static str, &'static str)| {
            let folder = fs::read_dir(self.sandbox.path("home/data/shelf").join(tool)).into_iter().flatten();
            let mut names = folder.map(|entry| entry.unwrap().file_name().into_string().unwrap());
            names.any(|name| name.starts_with(version)).then_some((tool, version))
        };
        [("tombolet", "1.0.3"), ("tombolet", "1.1.0"), ("plank", "1.0")].into_iter().filter_map(of).collect()
    }
}

#[test]
fn whatever_came_before_the_landing_reached_last_is_whole_and_nothing_in_use_is_cleared() {
    for seed in 0..4 {
        let mut history = History::begin(seed);
        history.wish();
        for _ in 0..14 {
            match history.dice.u8(0..10) {
                0..4 => history.wish(),
                4 => history.wish_in_vain(),
                5..8 => history.back(),
                _ => history.clear(),
            }
            history.compare();
        }
        // What only removed landings had goes at the next clearing, at the latest.
        let _ = history.kladder(&["clear", "--keep", "1", "--yes"]);
        let _ = history.kladder(&["clear", "--keep", "1", "--yes"]);
        let newest = *history.landings.keys().max().unwrap();
        let used: Rungs =
            [newest, history.current].iter().flat_map(|number| history.landings[number].clone()).collect();
        assert_eq!(history.shelf(), used, "{:#?}", history.told);
    }
}
