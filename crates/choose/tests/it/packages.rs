//! Packages of Node, chosen from registries that are made up: whatever is chosen, each finds what it wants where the runtime looks.

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;
use std::fmt::Write;
use std::sync::Arc;

use fastrand::Rng;
use kladder_choose::sets::{LibraryClash, ListedPackage, NotChosen, PackageWish, Packages, Registry, choose_packages};
use serde_json::{Value, json};

/// `NAME VERSION: OTHER RANGE; peer OTHER RANGE; maybe peer OTHER RANGE; maybe OTHER RANGE; runtime RANGE`, a line a release.
struct Made(BTreeMap<String, Arc<ListedPackage>>);

impl Made {
    fn from_lines(lines: &str) -> Self {
        let mut all: BTreeMap<String, BTreeMap<String, Value>> = BTreeMap::new();
        for line in lines.lines().map(str::trim).filter(|line| !line.is_empty()) {
            let (what, needs) = line.split_once(':').unwrap_or((line, ""));
            let (name, version) = what.trim().split_once(' ').unwrap();
            let file = format!("https://packages.example/{name}-{version}.tgz");
            let mut says = json!({ "dist": { "tarball": file, "integrity": "sha512-AAAA" } });
            for need in needs.split(';').map(str::trim).filter(|need| !need.is_empty()) {
                let (kind, need) = match need {
                    _ if need.starts_with("peer ") => ("peerDependencies", &need[5..]),
                    _ if need.starts_with("maybe peer ") => ("peerDependencies", &need[11..]),
                    _ if need.starts_with("maybe ") => ("optionalDependencies", &need[6..]),
                    _ if need.starts_with("runtime ") => ("engines", &need[3..]),
                    _ => ("dependencies", need),
                };
                let (other, range) = need.split_once(' ').unwrap();
                if kind == "engines" {
                    says["engines"]["node"] = json!(need.split_once(' ').unwrap().1);
                } else {
                    says[kind][other] = json!(range);
                }
                if needs.contains(&format!("maybe peer {other}")) {
                    says["peerDependenciesMeta"][other]["optional"] = json!(true);
                }
            }
            all.entry(name.to_owned()).or_default().insert(version.to_owned(), says);
        }
        let listed = |(name, versions): (String, BTreeMap<String, Value>)| {
            let text = json!({ "name": name, "versions": versions }).to_string();
            let listed = ListedPackage::parse(&name, &text, &|url| Some(url.to_owned())).unwrap();
            (name, Arc::new(listed))
        };
        Self(all.into_iter().map(listed).collect())
    }

    fn choose(&self, wished: &[(&str, &str)], old: Option<&str>, moving: &str) -> Result<String, LibraryClash> {
        let wish = |(name, range): &(&str, &str)| {
            let (name, written, versions) = ((*name).to_owned(), (*range).to_owned(), (*range).to_owned());
            PackageWish { name, written, versions }
        };
        let wished: Vec<PackageWish> = wished.iter().map(wish).collect();
        let old = old.map(|text| Packages::parse(text).unwrap());
        match choose_packages("made", (&wished, None), "22.4.0", old.as_ref(), &|name| name == moving, self) {
            Ok(text) => Ok(text),
            Err(NotChosen::Clash(clash)) => Err(*clash),
            Err(NotChosen::GaveUp | NotChosen::Asked(_)) => panic!("it always knows"),
        }
    }
}

impl Registry for Made {
    type Error = Infallible;

    fn package(&self, name: &str) -> Result<Arc<ListedPackage>, Infallible> {
        Ok(self.0.get(name).cloned().unwrap_or_default())
    }
}

/// The places of a lock file and their versions.
fn places(lock: &str) -> BTreeMap<String, String> {
    let file: Value = serde_json::from_str(lock).unwrap();
    let all = file["packages"].as_object().unwrap().iter().filter(|(at, _)| !at.is_empty());
    all.map(|(at, entry)| (at.replace("node_modules/", ""), entry["version"].as_str().unwrap().to_owned())).collect()
}

fn told(lock: &str) -> String {
    places(lock).iter().fold(String::new(), |mut out, (at, version)| {
        let _ = write!(out, "{at}={version} ");
        out
    })
}

/// The version that is found under a name from a place on, as the runtime looks: inside first, then outwards.
fn found<'p>(places: &'p BTreeMap<String, Value>, from: &str, name: &str) -> Option<&'p str> {
    let mut at = from.to_owned();
    loop {
        let folder = if at.is_empty() { String::new() } else { format!("{at}/") };
        if let Some(entry) = places.get(&format!("{folder}node_modules/{name}")) {
            return entry["version"].as_str();
        }
        if at.is_empty() {
            return None;
        }
        at.truncate(at.rfind("node_modules").unwrap().saturating_sub(1));
    }
}

/// Everything that somebody in a lock file does not find, or finds at a version that will not do. Written from the runtime's and
/// the format's documentation alone, with ranges that are one number or an inequality.
fn unmet(lock: &str, made: &Made) -> Vec<String> {
    let file: Value = serde_json::from_str(lock).unwrap();
    let places: BTreeMap<String, Value> = serde_json::from_value(file["packages"].clone()).unwrap();
    let major = |version: &str| version.split('.').next().unwrap().parse::<u32>().unwrap();
    let fits = |range: &str, version: &str| match range {
        "*" => true,
        _ if range.starts_with(">=") => major(version) >= range[2..].parse::<u32>().unwrap(),
        _ => major(version) == range.parse::<u32>().unwrap(),
    };
    let mut wrong = Vec::new();
    for (at, entry) in &places {
        for kind in ["dependencies", "optionalDependencies", "peerDependencies"] {
            for (name, range) in entry[kind].as_object().into_iter().flatten() {
                let range = range.as_str().unwrap();
                let is_peer = kind == "peerDependencies";
                let outside = at.rfind("node_modules").map_or("", |end| at[..end].trim_end_matches('/'));
                let there = found(&places, if is_peer { outside } else { at }, name);
                let may_lack =
                    kind == "optionalDependencies" || entry["peerDependenciesMeta"][name]["optional"] == json!(true);
                // Who may lack what nobody has sees what others see.
                let has = made.0.get(name).is_some_and(|one| one.releases.iter().any(|one| fits(range, &one.written)));
                if kind == "optionalDependencies" && !has {
                    continue;
                }
                if there.map_or(!may_lack, |version| !fits(range, version)) {
                    wrong.push(format!("{at} wants {name} {range} and finds {there:?}"));
                }
            }
        }
    }
    wrong
}

#[test]
fn each_finds_the_newest_that_will_do_and_what_several_can_share_lies_once() {
    let made = Made::from_lines(
        "chart 2.0.0: nail 1; rope *
         chart 1.0.0: nail 1
         buoy 1.0.0: nail 2; rope 1
         nail 1.1.0
         nail 2.0.0: rope 2
         nail 2.1.0-rc.1
         rope 1.0.0
         rope 2.0.0
         rope 3.0.0: runtime >=24
         new 1.0.0: rope 3",
    );
    // What nobody named may be for another runtime, where there is no choice.
    assert_eq!(told(&made.choose(&[("new", "*")], None, "").unwrap()), "new=1.0.0 rope=3.0.0 ");
    assert!(made.choose(&[("rope", "3")], None, "").is_err());
    let lock = made.choose(&[("buoy", "*"), ("chart", "*")], None, "").unwrap();
    assert_eq!(told(&lock), "buoy=1.0.0 chart=2.0.0 chart/nail=1.1.0 nail=2.0.0 nail/rope=2.0.0 rope=1.0.0 ");
    assert_eq!(unmet(&lock, &made), Vec::<String>::new());
    assert!(Packages::parse(&lock).unwrap().is_whole);
    assert!(!Packages::parse(&lock.replace("2.0.0", "2.0.1")).unwrap().is_whole);

    // What is on file stays where it will do, and is let go by name.
    let before = made.choose(&[("chart", "1")], None, "").unwrap();
    assert_eq!(told(&before), "chart=1.0.0 nail=1.1.0 ");
    let after = made.choose(&[("chart", "*")], Some(&before), "").unwrap();
    assert_eq!(told(&after), "chart=1.0.0 nail=1.1.0 ");
    let moved = made.choose(&[("chart", "*")], Some(&before), "chart").unwrap();
    assert!(told(&moved).contains("chart=2.0.0"));
    assert!(Packages::parse(&moved).unwrap().libraries().iter().any(|one| one.name == "chart" && one.is_wished));
}

#[test]
fn what_must_be_beside_a_package_is_chosen_with_it_and_a_clash_says_who_wants_what() {
    let made = Made::from_lines(
        "frame 1.0.0
         frame 2.0.0
         sail 1.0.0: peer frame 1
         sail 2.0.0: peer frame 2
         mast 1.0.0: peer frame 1
         flag 1.0.0: maybe peer frame 1
         deck 1.0.0: mast 1; frame 1
         tide 1.0.0: maybe lamp 9; maybe shell 1
         shell 1.0.0",
    );
    let choose = |wished: &[(&str, &str)]| made.choose(wished, None, "");
    assert_eq!(told(&choose(&[("mast", "*")]).unwrap()), "frame=1.0.0 mast=1.0.0 ");
    assert_eq!(told(&choose(&[("mast", "*"), ("sail", "*")]).unwrap()), "frame=1.0.0 mast=1.0.0 sail=1.0.0 ");
    assert_eq!(told(&choose(&[("flag", "*")]).unwrap()), "flag=1.0.0 ");
    assert_eq!(told(&choose(&[("flag", "*"), ("frame", "*")]).unwrap()), "flag=1.0.0 frame=1.0.0 ");
    // Of its own where the project has another one.
    let lock = choose(&[("deck", "*"), ("frame", "2")]).unwrap();
    assert_eq!(told(&lock), "deck=1.0.0 deck/frame=1.0.0 deck/mast=1.0.0 frame=2.0.0 ");
    // What may be missing is left out where nobody has it.
    let lock = choose(&[("tide", "*")]).unwrap();
    assert_eq!(told(&lock), "shell=1.0.0 tide=1.0.0 ");
    assert_eq!(serde_json::from_str::<Value>(&lock).unwrap()["packages"]["node_modules/shell"]["optional"], true);

    let clash = choose(&[("frame", "2"), ("mast", "1"), ("shell", "*")]).unwrap_err();
    let wished: Vec<&str> = clash.wishes.iter().map(|wish| wish.library.as_str()).collect();
    assert_eq!(wished, ["frame", "mast"]);
    assert_eq!((clash.needs[0].library.as_str(), clash.needs[0].needs.as_deref()), ("mast", Some("frame 1 beside it")));
    let ways: Vec<_> = clash.ways.iter().map(|way| (way.library.as_str(), way.version.as_deref())).collect();
    assert_eq!(ways, [("frame", Some("1.0.0")), ("mast", None)]);
    let clash = choose(&[("nowhere", "*")]).unwrap_err();
    assert_eq!((clash.offers[0].library.as_str(), clash.offers[0].listed), ("nowhere", 0));
}

#[test]
fn whatever_a_registry_has_each_finds_what_it_wants() {
    let (mut chosen, mut nested) = (0, 0);
    for seed in 0..1500 {
        let mut rng = Rng::with_seed(seed);
        let names: Vec<String> = (0..rng.usize(3..9)).map(|at| format!("p{at}")).collect();
        let mut lines = String::new();
        for name in &names {
            for major in 1..=rng.u32(1..5) {
                let mut needs = BTreeSet::new();
                for _ in 0..rng.usize(0..4) {
                    let other = rng.choice(&names).unwrap();
                    let range = match rng.u32(0..4) {
                        0 => "*".to_owned(),
                        1 => format!(">={}", rng.u32(1..4)),
                        _ => rng.u32(1..4).to_string(),
                    };
                    let kind = rng.choice(["", "", "", "peer ", "maybe peer ", "maybe "]).unwrap();
                    if other != name && !needs.iter().any(|need: &String| need.contains(other.as_str())) {
                        needs.insert(format!("{kind}{other} {range}"));
                    }
                }
                let needs: Vec<String> = needs.into_iter().collect();
                let _ = writeln!(lines, "{name} {major}.0.0: {}", needs.join("; "));
            }
        }
        let made = Made::from_lines(&lines);
        let wished: BTreeMap<&str, &str> =
            (0..rng.usize(1..4)).map(|_| (rng.choice(&names).unwrap().as_str(), "*")).collect();
        let wished: Vec<(&str, &str)> = wished.into_iter().collect();
        if let Ok(lock) = made.choose(&wished, None, "") {
            assert_eq!(unmet(&lock, &made), Vec::<String>::new(), "seed {seed}: {wished:?}\n{lines}\n{}", told(&lock));
            chosen += 1;
            nested += usize::from(places(&lock).keys().any(|at| at.contains('/')));
            assert_eq!(lock, made.choose(&wished, None, "").unwrap());
        }
    }
    assert!(chosen > 700 && nested > 150, "{chosen} {nested}");
}
