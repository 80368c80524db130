//! From wished libraries to one version of each, with its wheels for every machine.
//!
//! What libraries there are is asked through [`Catalogue`]; which versions fit is said by PEP 440, where something is wanted by
//! PEP 508, which file fits by PEP 425 and 600. The machines get the same version of a library where there is one that has a
//! wheel for each of them; only where that leads nowhere, each gets its own.

mod account;
mod answer;
mod offer;

use std::sync::Arc;

use kladder_solve::{Failure, Question, solve};
use pep508_rs::pep440_rs::{Version, VersionSpecifiers};

pub use account::{LibraryClash, NeedsThere, OnOffer, Wanting, WayOut};

use self::offer::Offer;
use super::lock::{Lock, Wheel};
use super::markers::Environment;
use super::metadata::Metadata;
use super::tags::{Interpreter, Tag};
use super::wished::Libraries;

/// Decisions that a choice may take: a few hundred libraries take some thousands.
const BUDGET: u64 = 2_000_000;

/// Where libraries are looked up.
pub trait Catalogue {
    /// Why one could not be.
    type Error;

    /// The releases of a library, by its normalised name; none where no index has it.
    ///
    /// # Errors
    /// Where an index cannot be asked, or it is not said which of several counts.
    fn releases(&self, library: &str) -> Result<Arc<Vec<LibraryRelease>>, Self::Error>;

    /// What a wheel says of itself; what is wrong with it, where it says that in no way that can be read.
    ///
    /// # Errors
    /// Where it cannot be had.
    fn metadata(&self, library: &str, wheel: &Offered) -> Result<Result<Arc<Metadata>, String>, Self::Error>;

    /// Some libraries that will be asked for next.
    fn soon(&self, libraries: &[&str]) {
        let _ = libraries;
    }

    /// Some wheels that will be asked for next, most likely.
    fn likely(&self, wheels: &[(&str, &Offered)]) {
        let _ = wheels;
    }

    /// Whether to go on.
    fn go_on(&self) -> bool {
        true
    }
}

/// One version of a library, as its index lists it.
#[derive(Clone, Debug)]
pub struct LibraryRelease {
    /// Its version.
    pub version: Version,
    /// Its maker has taken it back (PEP 592): it is taken only by whoever asks for exactly it.
    pub withdrawn: bool,
    /// It can be had as sources.
    pub has_sources: bool,
    /// Files that only need to be unpacked.
    pub wheels: Vec<Offered>,
}

/// A wheel that an index lists.
#[derive(Clone, Debug)]
pub struct Offered {
    /// The file.
    pub wheel: Wheel,
    /// What it is for.
    pub tag: Tag,
    /// The runtime's versions that it wants (PEP 440).
    pub requires_python: Option<String>,
    /// Which index lists it.
    pub index: String,
}

/// A runtime on a machine that libraries are chosen for.
pub(super) struct Spot {
    pub(super) interpreter: Interpreter,
    pub(super) environment: Environment,
    /// Spots with the same one cannot be told apart in a lock file.
    pub(super) marker: String,
}

/// Why libraries were not chosen.
#[derive(Debug)]
pub enum NotChosen<E> {
    /// The wishes lead nowhere.
    Clash(Box<LibraryClash>),
    /// It took too long.
    GaveUp,
    /// Something could not be looked up.
    Asked(E),
}

/// Chooses one version of each library that the wishes lead to. What a lock file has stays where it can; `moving` says which
/// libraries are let go.
///
/// # Errors
/// [`NotChosen`].
pub fn choose<C: Catalogue>(
    wanted: &Libraries,
    interpreters: Vec<Interpreter>,
    old: Option<&Lock>,
    moving: &dyn Fn(&str) -> bool,
    catalogue: &C,
) -> Result<Lock, NotChosen<C::Error>> {
    let spots: Vec<Spot> = interpreters.into_iter().filter_map(spot).collect();
    let names: Vec<&str> = wanted.wishes.iter().map(|wish| wish.name.as_str()).collect();
    catalogue.soon(&names);
    let mut clash = None;
    for together in [true, false] {
        let offer = Offer::new(&spots, catalogue, together);
        match chosen(&offer, wanted, old, moving) {
            Ok(lock) => return Ok(lock),
            Err(Failure::Impossible(found)) => clash = Some(account::of(&offer, wanted, &found)),
            Err(Failure::GaveUp { .. }) => return Err(NotChosen::GaveUp),
            Err(Failure::Provider(error)) => return Err(NotChosen::Asked(error)),
        }
    }
    let mut clash = clash.unwrap_or_default();
    clash.ways = ways_out(&clash, wanted, &spots, catalogue);
    Err(NotChosen::Clash(Box::new(clash)))
}

fn spot(interpreter: Interpreter) -> Option<Spot> {
    let environment = Environment::of(&interpreter)?;
    Some(Spot { marker: environment.marker(), interpreter, environment })
}

fn chosen<'o, C: Catalogue>(
    offer: &Offer<'o, C>,
    wanted: &Libraries,
    old: Option<&Lock>,
    moving: &dyn Fn(&str) -> bool,
) -> Result<Lock, Failure<Offer<'o, C>>> {
    let held = old.map(|old| offer.hold(old, moving)).unwrap_or_default();
    let wishes = offer.wishes(wanted);
    let choices = solve(offer, &Question { wishes: &wishes, held: &held, budget: BUDGET })?;
    answer::lock(offer, wanted, &choices).map_err(Failure::Provider)
}

/// Which wishes of a clash, taken back, would let the others be met.
fn ways_out<C: Catalogue>(clash: &LibraryClash, wanted: &Libraries, spots: &[Spot], catalogue: &C) -> Vec<WayOut> {
    let way = |wish: &Wanting| {
        let with = |wishes| Libraries { wishes, ..wanted.clone() };
        let chosen = |wanted: &Libraries| {
            [true, false]
                .into_iter()
                .find_map(|together| chosen(&Offer::new(spots, catalogue, together), wanted, None, &|_| false).ok())
        };
        let (library, piece) = (wish.library.clone(), wish.piece.clone());
        if let Some(piece) = piece {
            let mut without = wanted.wishes.clone();
            for one in without.iter_mut().filter(|one| one.name == library) {
                one.pieces.retain(|other| *other != piece);
            }
            let version = chosen(&with(without)).and_then(|lock| version_of(&lock, &library));
            return version.map(|version| WayOut { library, piece: Some(piece), version: Some(version) });
        }
        let mut eased = wanted.wishes.clone();
        for one in eased.iter_mut().filter(|one| one.name == wish.library) {
            one.versions = VersionSpecifiers::empty();
        }
        if let Some(lock) = chosen(&with(eased)) {
            return Some(WayOut { version: version_of(&lock, &library), library, piece: None });
        }
        let others = wanted.wishes.iter().filter(|one| one.name != wish.library).cloned().collect();
        chosen(&with(others)).map(|_| WayOut { library, piece: None, version: None })
    };
    clash.wishes.iter().filter_map(way).collect()
}

fn version_of(lock: &Lock, library: &str) -> Option<String> {
    lock.libraries.iter().find(|one| one.name == library)?.version.clone()
}
