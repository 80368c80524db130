//! Neighbours: machines of a room that give each other what each has brought already, and what is just coming in.
//!
//! Nobody needs to trust them: what comes is held against its pinned digest as anywhere. Each machine serves HTTP on a port of its own:
//!
//! ```text
//! GET /sha256/DIGEST?for=PORT&not=HOST:PORT,…&wait      Range: bytes=FROM-
//!   200, 206   the bytes, as far as they are there, and the rest as it arrives
//!   302        another one has it, or has asked for it last
//!   503        it comes in here, and no byte after FROM has arrived yet; with `wait` that is told after three seconds
//!   404        nobody has asked for it here before
//! GET /name         what it is called, for those that it is named to by settings
//! ```
//!
//! Who is asked first follows from the digest and the machines that are known (rendezvous hashing, Thaler and Ravishankar 1998), so that all
//! ask the same one, which remembers who asked. Whoever is the first to ask goes to the yard or maker; each further one is sent to the one
//! before. While a file comes in it is passed on to one other machine, and to four once it is whole: so forty machines are a chain
//! that forwards at the full rate of its links, and each byte leaves the origin about once. Machines are found by DNS-SD
//! (RFC 6763) over multicast DNS (RFC 6762) as `_kladder._tcp.local`, or are named.

mod lent;
mod relay;
mod room;

pub use room::{Found, RoomError};

use std::net::SocketAddr;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::Artifact;
use kladder_choose::path::InnerPath;

use self::lent::Lent;
use self::relay::{Asking, Relay};
use self::room::Room;
use super::fetch::{Cache, Network, Offer, Yard, YardError};
use crate::base::event::{Cancelled, Event, Observer, check_cancelled};
use crate::settings::NeighbourSetting;

/// Machines that a file is given to at once, where all of it is there.
const WHOLE: usize = 4;
/// Whoever still takes something at the end of a climb is waited for as long as this.
const LINGER: Duration = Duration::from_mins(1);
/// One that did not answer is left alone for as long as this.
const SILENCE: Duration = Duration::from_secs(30);
/// How often it is looked whether they still do.
const GLANCE: Duration = Duration::from_millis(50);

/// The machines around, as one yard. Nothing is served or looked for before it is asked for the first time.
#[derive(Clone, Debug)]
pub struct Neighbours(Arc<Inner>);

#[derive(Debug)]
struct Inner {
    network: Network,
    lent: Arc<Lent>,
    setting: NeighbourSetting,
    room: OnceLock<Result<Room, Arc<RoomError>>>,
    /// Those that did not answer, and when.
    silent: Mutex<Vec<(SocketAddr, Instant)>>,
}

impl Neighbours {
    /// Those around, given and taken from as the settings say.
    pub fn new(setting: &NeighbourSetting, cache: Cache, network: &Network) -> Self {
        let inner = Inner {
            network: network.clone(),
            lent: Arc::new(Lent::new(cache)),
            setting: setting.clone(),
            room: OnceLock::new(),
            silent: Mutex::default(),
        };
        Self(Arc::new(inner))
    }

    /// Enters the room, where that has not been done; the others are known a moment later.
    ///
    /// # Errors
    /// [`RoomError`] where this machine cannot listen.
    pub fn enter(&self) -> Result<Found, Arc<RoomError>> {
        self.0.room().map(Room::found)
    }

    /// Waits for those who still take something from here, a minute at most.
    ///
    /// # Errors
    /// [`Cancelled`].
    pub fn leave(&self, observer: &dyn Observer) -> Result<(), Cancelled> {
        let (since, mut told) = (Instant::now(), false);
        while self.0.lent.gives() > 0 && since.elapsed() < LINGER {
            if !std::mem::replace(&mut told, true) {
                observer.event(&Event::Lingering { neighbours: self.0.lent.gives() });
            }
            check_cancelled(observer)?;
            thread::sleep(GLANCE);
        }
        Ok(())
    }

    /// Whether somebody takes something from here just now.
    pub fn gives(&self) -> bool {
        self.0.lent.gives() > 0
    }

    /// Bytes that were given to others so far.
    pub fn given(&self) -> u64 {
        self.0.lent.given()
    }
}

impl Inner {
    fn room(&self) -> Result<&Room, Arc<RoomError>> {
        let enter = || Room::enter(&self.setting, &self.lent).map_err(Arc::new);
        self.room.get_or_init(enter).as_ref().map_err(Arc::clone)
    }

    fn is_silent(&self, address: SocketAddr) -> bool {
        let silent = self.silent.lock().unwrap_or_else(PoisonError::into_inner);
        silent.iter().any(|(known, since)| *known == address && since.elapsed() < SILENCE)
    }

    fn was_silent(&self, address: SocketAddr) {
        let mut silent = self.silent.lock().unwrap_or_else(PoisonError::into_inner);
        silent.retain(|(known, since)| *known != address && since.elapsed() < SILENCE);
        silent.push((address, Instant::now()));
    }
}

impl Yard for Neighbours {
    fn shown(&self) -> String {
        "a neighbour".to_owned()
    }

    fn open(&self, artifact: &Artifact, from: u64) -> Result<Offer, YardError> {
        let unasked = |error: Arc<RoomError>| YardError::Unasked { source: std::io::Error::other(error) };
        let room = self.0.room().map_err(unasked)?;
        room.settle();
        self.0.lent.awaits(&artifact.sha256, artifact.size);
        let asking = Asking { inner: Arc::clone(&self.0), digest: artifact.sha256, size: artifact.size };
        let body = asking.find(from, None).ok_or(YardError::NotThere)?;
        Ok(Offer { from, body: Box::new(Relay::new(asking, body, from)) })
    }

    /// They know no files by name.
    fn size(&self, _: &InnerPath) -> Result<Option<u64>, YardError> {
        Err(YardError::NotThere)
    }

    fn is_by_chance(&self) -> bool {
        true
    }

    fn answers(&self, _: Duration) -> bool {
        false
    }
}
