//! Libraries of made-up indexes, chosen, and held against a search through all there is.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use fastrand::Rng;
use kladder_choose::digest::Digest;
use kladder_choose::document::Source;
use kladder_choose::ladder::Ladder;
use kladder_choose::sets::{
    Catalogue, Interpreter, Libraries, LibraryRelease, Lock, Metadata, NotChosen, Offered, Tag, Wheel, choose,
};

const PLATFORMS: [(&str, &str); 2] = [("linux/x86_64", "linux"), ("macos/x86_64", "darwin")];

/// A need of a version: a library, its least and its first too high version, and the platform that it is for.
type Needed = (usize, u32, u32, Option<usize>);

/// The platforms that a version is there for, and what it needs.
type Made = (Vec<usize>, Vec<Needed>);

/// Libraries `l0`, `l1` … with versions from 1 on, each there for some platforms.
struct Universe {
    versions: Vec<BTreeMap<u32, Made>>,
}

impl Universe {
    fn new(rng: &mut Rng) -> Self {
        let libraries = rng.usize(2..6);
        let version = |rng: &mut Rng| {
            let there: Vec<usize> = (0..2).filter(|_| rng.u32(0..8) > 0).collect();
            let need = |rng: &mut Rng| {
                let least = rng.u32(1..4);
                let on = if rng.u32(0..4) == 0 { Some(rng.usize(0..2)) } else { None };
                (rng.usize(0..libraries), least, least + rng.u32(1..4), on)
            };
            (there, (0..rng.usize(0..3)).map(|_| need(rng)).collect())
        };
        let all = (0..libraries).map(|_| (1..rng.u32(2..6)).map(|number| (number, version(rng))).collect());
        Self { versions: all.collect() }
    }

    /// Whether some versions, one or none of each library, are all that is needed on a platform, with nothing amiss.
    fn is_right(&self, chosen: &[Option<u32>], wishes: &[(usize, u32)], platform: usize) -> bool {
        let fits = |library: usize, least: u32, below: u32| {
            library < chosen.len() && chosen[library].is_some_and(|version| (least..below).contains(&version))
        };
        let each = chosen.iter().enumerate().filter_map(|(library, version)| Some((library, (*version)?)));
        let mut each = each.map(|(library, version)| &self.versions[library][&version]);
        wishes.iter().all(|(library, least)| fits(*library, *least, u32::MAX))
            && each.all(|(there, needs)| {
                let here = |need: &&Needed| need.3.is_none_or(|on| on == platform);
                there.contains(&platform) && needs.iter().filter(here).all(|need| fits(need.0, need.1, need.2))
            })
    }

    /// Every choice of versions, none among them.
    fn all(&self) -> Vec<Vec<Option<u32>>> {
        self.versions.iter().fold(vec![Vec::new()], |all, versions| {
            let own: Vec<Option<u32>> = std::iter::once(None).chain(versions.keys().copied().map(Some)).collect();
            all.iter().flat_map(|front| own.iter().map(|one| [front.as_slice(), &[*one]].concat())).collect()
        })
    }
}

impl Catalogue for Universe {
    type Error = String;

    fn releases(&self, library: &str) -> Result<Arc<Vec<LibraryRelease>>, String> {
        let number: usize = library[1..].parse().map_err(|_| library.to_owned())?;
        let release = |(version, (there, _)): (&u32, &Made)| LibraryRelease {
            version: format!("{version}.0").parse().unwrap(),
            withdrawn: false,
            has_sources: false,
            wheels: there.iter().map(|platform| offered(number, *version, *platform)).collect(),
        };
        Ok(Arc::new(self.versions[number].iter().map(release).collect()))
    }

    fn metadata(&self, library: &str, wheel: &Offered) -> Result<Result<Arc<Metadata>, String>, String> {
        let number: usize = library[1..].parse().map_err(|_| library.to_owned())?;
        let version: u32 = wheel.wheel.file.split(['-', '.']).nth(1).unwrap().parse().unwrap();
        let needs: String = self.versions[number][&version]
            .1
            .iter()
            .map(|(other, least, below, on)| {
                let marker = on.map(|on| format!("; sys_platform == '{}'", PLATFORMS[on].1)).unwrap_or_default();
                format!("Requires-Dist: l{other} >={least},<{below}{marker}\n")
            })
            .collect();
        Ok(Metadata::parse(&format!("Name: {library}\nVersion: {version}.0\n{needs}")).map(Arc::new))
    }
}

fn offered(library: usize, version: u32, platform: usize) -> Offered {
    let tag = ["manylinux_2_17_x86_64", "macosx_10_9_x86_64"][platform];
    let file = format!("l{library}-{version}.0-cp311-cp311-{tag}.whl");
    let sha256 = Digest::of(file.as_bytes());
    Offered {
        tag: Tag::of(&file).unwrap(),
        wheel: Wheel { file, origin: None, size: None, sha256 },
        requires_python: None,
        index: "made-up".into(),
    }
}

fn wanted(wishes: &[(usize, u32)]) -> Libraries {
    let lines: String = wishes.iter().map(|(library, least)| format!("l{library} = \">={least}\"\n")).collect();
    let text = format!("[sets.tides]\nof = \"plank\"\n[sets.tides.libraries]\n{lines}");
    Ladder::parse(&Source::new("ladder.toml", text)).unwrap().sets.remove(0).libraries.unwrap()
}

/// The version of each library on a platform, as a lock file has it.
fn on(lock: &Lock, universe: &Universe, platform: usize) -> Vec<Option<u32>> {
    let name = PLATFORMS[platform].1;
    let mut chosen = vec![None; universe.versions.len()];
    for library in &lock.libraries {
        if library.marker.as_ref().is_none_or(|marker| marker.contains(name)) {
            let version = library.version.as_ref().unwrap().split('.').next().unwrap().parse().unwrap();
            let at: usize = library.name[1..].parse().unwrap();
            assert_eq!(chosen[at].replace(version), None, "{lock:?}");
        }
    }
    chosen
}

#[test]
fn what_is_chosen_is_right_and_what_is_refused_has_no_answer() {
    let (mut solved, mut apart, mut refused) = (0, 0, 0);
    for seed in 0..1_500 {
        let mut rng = Rng::with_seed(seed);
        let universe = Universe::new(&mut rng);
        let mut wished = BTreeMap::new();
        for _ in 0..rng.usize(1..4) {
            wished.insert(rng.usize(0..universe.versions.len()), rng.u32(1..3));
        }
        let wishes: Vec<(usize, u32)> = wished.into_iter().collect();
        let spots = PLATFORMS.map(|(platform, _)| Interpreter {
            minor: (3, 11),
            patch: None,
            platform: platform.parse().unwrap(),
            has: None,
        });
        let all = universe.all();
        let answers: Vec<BTreeSet<&Vec<Option<u32>>>> = (0..2)
            .map(|platform| all.iter().filter(|chosen| universe.is_right(chosen, &wishes, platform)).collect())
            .collect();
        match choose(&wanted(&wishes), spots.to_vec(), None, &|_| false, &universe) {
            Ok(lock) => {
                let chosen = [on(&lock, &universe, 0), on(&lock, &universe, 1)];
                for platform in 0..2 {
                    assert!(answers[platform].contains(&chosen[platform]), "{seed}: {chosen:?} {wishes:?}");
                }
                solved += 1;
                let agree = |one: &[Option<u32>], other: &[Option<u32>]| {
                    one.iter().zip(other).all(|(one, other)| one.is_none() || other.is_none() || one == other)
                };
                if !agree(&chosen[0], &chosen[1]) {
                    apart += 1;
                    let together = answers[0].iter().any(|one| answers[1].iter().any(|other| agree(one, other)));
                    assert!(!together, "{seed}: there is one version of each for both");
                }
                // Read back and chosen once more, nothing moves.
                let again = Lock::parse(&Source::new("pylock.toml", lock.to_toml())).unwrap();
                let again = choose(&wanted(&wishes), spots.to_vec(), Some(&again), &|_| false, &universe).unwrap();
                assert_eq!(again.to_toml(), lock.to_toml(), "{seed}");
            }
            Err(NotChosen::Clash(clash)) => {
                refused += 1;
                assert!(answers.iter().any(BTreeSet::is_empty), "{seed}: {answers:?}");
                let clashing: Vec<(usize, u32)> = wishes
                    .iter()
                    .filter(|(library, _)| clash.wishes.iter().any(|one| one.library == format!("l{library}")))
                    .copied()
                    .collect();
                // There is a platform where these cannot be had together, and any smaller part of them can.
                let possible = |wishes: &[(usize, u32)], platform: usize| {
                    all.iter().any(|chosen| universe.is_right(chosen, wishes, platform))
                };
                let without = |left_out: usize| {
                    let others = clashing.iter().enumerate().filter(|(at, _)| *at != left_out);
                    others.map(|(_, wish)| *wish).collect::<Vec<_>>()
                };
                let is_smallest = |platform: usize| {
                    !possible(&clashing, platform)
                        && (0..clashing.len()).all(|left_out| possible(&without(left_out), platform))
                };
                assert!((0..2).any(is_smallest), "{seed}: {clash:?}");
            }
            Err(other) => panic!("{seed}: {other:?}"),
        }
    }
    assert!(solved > 300 && apart > 5 && refused > 300, "{solved} {apart} {refused}");
}
