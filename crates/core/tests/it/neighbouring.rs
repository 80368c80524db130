//! Neighbours on loopback: what one brings in the others have from it, and nobody needs to trust them.

use std::fs;
use std::net::{SocketAddr, TcpListener};
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use kladder_choose::catalog::Artifact;
use kladder_core::base::digest::Digest;
use kladder_core::base::event::Silent;
use kladder_core::bring::fetch::{Cache, FetchError, Fetched, Network, Sources, Yard, fetch};
use kladder_core::bring::neighbours::Neighbours;
use kladder_core::settings::{Manners, NeighbourSetting};
use kladder_yard::{Asked, Fault, Given, Giver, Rule, Settings};

use crate::{artifact, yard};

/// A machine of the room.
struct Machine {
    cache: Cache,
    network: Network,
    neighbours: Neighbours,
    yards: Vec<Arc<dyn Yard>>,
}

impl Machine {
    fn fetch(&self, artifact: &Artifact) -> Result<Fetched, FetchError> {
        let sources = Sources { yards: &self.yards, cache: &self.cache, network: &self.network };
        fetch(artifact, sources, &mut (), &Silent)
    }
}

/// A room of machines that know each other, and an origin.
struct Room {
    folder: tempfile::TempDir,
    artifact: Artifact,
    bytes: Vec<u8>,
}

impl Room {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let bytes: Vec<u8> = (0..500_000_u32).flat_map(u32::to_le_bytes).collect();
        fs::create_dir(folder.path().join("yard")).unwrap();
        fs::write(folder.path().join("yard/plank.dat"), &bytes).unwrap();
        let artifact = artifact("plank.dat", bytes.len() as u64, Digest::of(&bytes));
        Self { folder, artifact, bytes }
    }

    fn origin(&self, rules: Vec<Rule>) -> kladder_yard::Yard {
        let settings = Settings { folder: self.folder.path().join("yard"), rules, ..Settings::default() };
        kladder_yard::Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap()
    }

    /// So many machines, and others that are known to all of them.
    fn machines(&self, count: usize, also: &[SocketAddr], origin: Option<&kladder_yard::Yard>) -> Vec<Machine> {
        let free = || TcpListener::bind("127.0.0.1:0").unwrap();
        let held: Vec<TcpListener> = (0..count).map(|_| free()).collect();
        let all: Vec<SocketAddr> = held.iter().map(|held| held.local_addr().unwrap()).collect();
        drop(held);
        let machine = |at: usize, own: &SocketAddr| {
            let network = Network::new(&Manners { retries: 1, patience: 5, ..Manners::default() }).unwrap();
            let named = all.iter().filter(|one| *one != own).chain(also).copied().collect();
            let setting = NeighbourSetting { find: false, named, port: Some(own.port()) };
            let cache = Cache::new(&self.folder.path().join(format!("{count}-{at}")));
            let neighbours = Neighbours::new(&setting, cache.clone(), &network);
            neighbours.enter().unwrap();
            let far = origin.map(|origin| yard(&origin.url(), &network));
            let yards = std::iter::once(Arc::new(neighbours.clone()) as Arc<dyn Yard>).chain(far).collect();
            Machine { cache, network, neighbours, yards }
        };
        all.iter().enumerate().map(|(at, own)| machine(at, own)).collect()
    }

    fn fetched_by(&self, machines: &[Machine]) {
        thread::scope(|scope| {
            for machine in machines {
                scope.spawn(|| {
                    let fetched = machine.fetch(&self.artifact).unwrap();
                    assert_eq!(fs::read(fetched.path).unwrap(), self.bytes);
                });
            }
        });
    }
}

#[test]
fn what_comes_in_at_one_is_passed_on_while_it_comes_and_leaves_its_origin_once() {
    let room = Room::new();
    // Half of it, a pause, the other half: whoever waited for all of it would be as late.
    let origin = room.origin(vec![Rule::new(".dat", Fault::Hang(Duration::from_millis(800)))]);
    let machines = room.machines(8, &[], Some(&origin));
    room.fetched_by(&machines);
    assert_eq!(origin.requests(), 1, "the others have it from each other");
    let given: u64 = machines.iter().map(|machine| machine.neighbours.given()).sum();
    assert_eq!(given, 7 * room.bytes.len() as u64);
    // Another one comes later, and the origin is gone.
    drop(origin);
    let late = room.machines(1, &machines.iter().map(address).collect::<Vec<_>>(), None);
    room.fetched_by(&late);
    // None has it from nobody.
    drop(machines);
    let alone = room.machines(2, &[], None);
    assert!(matches!(alone[0].fetch(&room.artifact), Err(FetchError::AllFailed { .. })));
}

fn address(machine: &Machine) -> SocketAddr {
    SocketAddr::new([127, 0, 0, 1].into(), machine.neighbours.enter().unwrap().port)
}

/// One that gives other bytes, less than it says, sends on in circles, or puts off for ever.
#[derive(Debug)]
struct Liar(u8);

impl Giver for Liar {
    fn give(&self, asked: &Asked<'_>) -> Given {
        let size = 2_000_000;
        let port = asked.query.split('&').find_map(|pair| pair.strip_prefix("for=")).unwrap_or("1");
        match self.0 {
            0 => Given::Bytes { size, body: Box::new(std::io::repeat(b'?')) },
            1 => Given::Bytes { size, body: Box::new(std::io::empty()) },
            2 => Given::Bytes { size: 3, body: Box::new(std::io::repeat(b'?')) },
            3 => Given::Elsewhere(format!("http://{}:{port}/sha256/x", asked.client)),
            4 => Given::Elsewhere("http://no address/".to_owned()),
            _ => Given::Later(1),
        }
    }
}

#[test]
fn liars_cost_time_and_nothing_else() {
    for kind in 0..6 {
        let room = Room::new();
        let origin = room.origin(Vec::new());
        let settings = Settings { giver: Some(Arc::new(Liar(kind))), ..Settings::default() };
        let liar = kladder_yard::Yard::with(settings, ([127, 0, 0, 1], 0).into()).unwrap();
        let known = [SocketAddr::new([127, 0, 0, 1].into(), liar.port())];
        let machines = room.machines(1, &known, Some(&origin));
        room.fetched_by(&machines);
        assert_eq!(origin.requests(), 1, "kind {kind}");
    }
}

#[test]
fn nothing_but_digests_is_given() {
    let room = Room::new();
    let machines = room.machines(1, &[], None);
    fs::create_dir_all(machines[0].cache.folder().join("secret")).unwrap();
    fs::write(machines[0].cache.folder().join("secret/key"), "gannet").unwrap();
    let network = Network::new(&Manners { retries: 0, ..Manners::default() }).unwrap();
    let served = yard(&format!("http://{}", address(&machines[0])), &network);
    for path in ["secret/key", "sha256/secret", "sha256", "artifacts/secret/key"] {
        let artifact = artifact(path, 6, Digest::of(b"gannet"));
        assert!(served.open(&artifact, 0).is_err(), "{path}");
    }
}
