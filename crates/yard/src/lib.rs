//! A small HTTP/1.1 server for a folder of artifacts (RFC 9110, RFC 9112), and for tests one that misbehaves on demand.
//!
//! It answers GET and HEAD for plain files (and, where that is wanted, takes standings of machines by PUT), with a length and an entity tag, and single byte ranges. It lists no
//! folder by itself, follows no link out of the one it serves, and closes each connection after one answer: artifacts are few and
//! large, and what is not kept alive cannot be left hanging.

mod answer;
mod collect;
mod fault;
mod give;

pub use fault::{Fault, Rule};
pub use give::{Asked, Given, Giver};

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::thread::{self, JoinHandle};
use std::time::Duration;

/// How long a client may take to send its request, or to take more of the answer.
const PATIENCE: Duration = Duration::from_secs(30);
/// Connections served at once; more are closed unanswered.
const MOST_CLIENTS: usize = 256;

/// What a yard serves and how.
#[derive(Clone, Debug, Default)]
pub struct Settings {
    /// The folder whose files are served.
    pub folder: PathBuf,
    /// Misbehaviour, for tests; the first rule that fits a path applies.
    pub rules: Vec<Rule>,
    /// Who is told of each answer, once it is sent.
    pub tell: Option<fn(&Answered)>,
    /// Where standings that machines send are put; nothing is taken where there is none.
    pub collect: Option<PathBuf>,
    /// Who answers in the place of the folder.
    pub giver: Option<Arc<dyn Giver>>,
}

/// A request that was answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answered {
    /// The client's address.
    pub client: String,
    /// The path that was asked for, as the client sent it; empty for what is no request.
    pub path: String,
    /// The status (RFC 9110, section 15).
    pub status: u16,
    /// Bytes of the body.
    pub bytes: u64,
}

/// A running server; it stops when dropped.
#[derive(Debug)]
pub struct Yard {
    address: SocketAddr,
    stop: Arc<AtomicBool>,
    requests: Arc<AtomicUsize>,
    accepting: Option<JoinHandle<()>>,
}

impl Yard {
    /// Serves `folder` on `address`; port 0 takes a free one.
    ///
    /// # Errors
    /// When the folder cannot be read or the address cannot be listened on.
    pub fn serve(folder: &Path, address: SocketAddr) -> io::Result<Self> {
        Self::with(Settings { folder: folder.to_path_buf(), ..Settings::default() }, address)
    }

    /// Serves with rules of misbehaviour.
    ///
    /// # Errors
    /// As [`Yard::serve`].
    pub fn with(settings: Settings, address: SocketAddr) -> io::Result<Self> {
        let mut folder = settings.folder.clone();
        if settings.giver.is_none() {
            folder = folder.canonicalize()?;
            std::fs::read_dir(&folder)?;
        }
        let listener = TcpListener::bind(address)?;
        let address = listener.local_addr()?;
        let (stop, requests) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicUsize::new(0)));
        let clients = Clients {
            faults: Arc::new(answer::Faults::new(settings.rules.len())),
            settings: Arc::new(Settings { folder, ..settings }),
            stop: Arc::clone(&stop),
            requests: Arc::clone(&requests),
            now: Arc::new(AtomicUsize::new(0)),
        };
        let accepting = thread::Builder::new().name("yard".into()).spawn(move || clients.accept(&listener))?;
        Ok(Self { address, stop, requests, accepting: Some(accepting) })
    }

    /// The address that clients use, like `http://127.0.0.1:8080`. Where it listens on every address of the machine, that is
    /// the one by which others would see it, or its own loopback where there are no others.
    pub fn url(&self) -> String {
        let port = self.address.port();
        let host = if self.address.ip().is_unspecified() { seen_as(self.address.is_ipv6()) } else { self.address.ip() };
        format!("http://{}", SocketAddr::new(host, port))
    }

    /// The port that it listens on.
    pub fn port(&self) -> u16 {
        self.address.port()
    }

    /// Requests answered so far.
    pub fn requests(&self) -> usize {
        self.requests.load(Ordering::Relaxed)
    }

    /// Serves until the process ends.
    pub fn wait(mut self) {
        if let Some(accepting) = self.accepting.take() {
            // A panic in the accepting thread has been reported by that thread.
            let _ = accepting.join();
        }
    }
}

impl Drop for Yard {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        // Wakes the accepting thread; if it cannot be reached it is gone already.
        let _ = TcpStream::connect(self.address);
        if let Some(accepting) = self.accepting.take() {
            let _ = accepting.join();
        }
    }
}

/// The address of this machine's way out. Nothing is sent: connecting a datagram socket only chooses the way (the addresses
/// are those of RFC 5737 and RFC 3849, which belong to nobody).
fn seen_as(six: bool) -> IpAddr {
    let (own, there, loopback): (IpAddr, IpAddr, IpAddr) = if six {
        (
            Ipv6Addr::UNSPECIFIED.into(),
            Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1).into(),
            Ipv6Addr::LOCALHOST.into(),
        )
    } else {
        (Ipv4Addr::UNSPECIFIED.into(), Ipv4Addr::new(192, 0, 2, 1).into(), Ipv4Addr::LOCALHOST.into())
    };
    let way =
        UdpSocket::bind((own, 0)).and_then(|socket| socket.connect((there, 9)).and_then(|()| socket.local_addr()));
    way.map_or(loopback, |address| address.ip())
}

struct Clients {
    settings: Arc<Settings>,
    faults: Arc<answer::Faults>,
    stop: Arc<AtomicBool>,
    requests: Arc<AtomicUsize>,
    now: Arc<AtomicUsize>,
}

impl Clients {
    fn accept(&self, listener: &TcpListener) {
        for stream in listener.incoming() {
            if self.stop.load(Ordering::Relaxed) {
                return;
            }
            match stream {
                Ok(stream) => self.hand_over(stream),
                // Out of descriptors, most likely: give the others time to finish.
                Err(_) => thread::sleep(Duration::from_millis(20)),
            }
        }
    }

    fn hand_over(&self, stream: TcpStream) {
        if self.now.fetch_add(1, Ordering::AcqRel) >= MOST_CLIENTS {
            self.now.fetch_sub(1, Ordering::AcqRel);
            return;
        }
        let (settings, faults) = (Arc::clone(&self.settings), Arc::clone(&self.faults));
        let (now, requests) = (Arc::clone(&self.now), Arc::clone(&self.requests));
        thread::spawn(move || {
            let patient = stream.set_read_timeout(Some(PATIENCE)).and(stream.set_write_timeout(Some(PATIENCE)));
            // A client that goes away in the middle is its own affair.
            let _ = patient.and_then(|()| answer::answer(&stream, &settings, &faults));
            requests.fetch_add(1, Ordering::Relaxed);
            now.fetch_sub(1, Ordering::AcqRel);
        });
    }
}
