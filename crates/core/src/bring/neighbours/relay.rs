//! Something that is asked of neighbours: found, and found anew where the one that gives it leaves.

use std::io::{self, Read};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::thread;
use std::time::{Duration, Instant};

use super::Inner;
use super::room::Who;
use crate::base::digest::Digest;
use crate::bring::fetch::read_from_near;

/// Neighbours that are asked one after the other, where the first ones know of nobody.
const ASKED: usize = 4;
/// How often one is sent on.
const HOPS: usize = 64;
/// Bytes of a name.
const LONGEST_NAME: u64 = 64;
/// Whoever is busy is asked again after this.
const PAUSE: Duration = Duration::from_millis(50);
/// How often somebody else is looked for, where one leaves.
const TRIES: usize = 8;
/// Somebody is looked for no longer than this: a yard may be slow, and is there.
const FINDING: Duration = Duration::from_secs(12);
/// A neighbour answers within this, holding included.
const PATIENCE: Duration = Duration::from_secs(8);

/// What is asked for.
pub(super) struct Asking {
    pub(super) inner: Arc<Inner>,
    pub(super) digest: Digest,
    pub(super) size: u64,
}

/// Bytes, and who sends them.
pub(super) struct Body {
    from: SocketAddr,
    bytes: Box<dyn Read + Send>,
}

/// How somebody is asked.
#[derive(Clone, Copy)]
struct Way {
    /// The first byte that is wanted.
    from: u64,
    /// The port that this machine is asked at.
    port: u16,
    /// Whether bytes that are about to arrive are waited for.
    wait: bool,
    /// Since when somebody is looked for.
    since: Instant,
}

/// What one neighbour said.
enum Said {
    Bytes(Body),
    Ask(SocketAddr),
    Later,
    Nothing,
}

impl Asking {
    /// Somebody who has it, or gets it; all are asked but one.
    pub(super) fn find(&self, from: u64, but: Option<SocketAddr>) -> Option<Body> {
        let room = self.inner.room().ok()?;
        for address in room.nameless() {
            if let Some(name) = self.name_of(address) {
                room.is_called(address, name);
            }
        }
        let mut not: Vec<SocketAddr> = but.into_iter().collect();
        // Only the first one is waited for: it waits for nobody, so that no two wait for each other.
        let (mut wait, since) = (true, Instant::now());
        for who in room.ranked(&self.digest).into_iter().take(ASKED) {
            let first = match who {
                Who::Other(address) => Some(address).filter(|address| !not.contains(address)),
                Who::Own => self.inner.lent.first(&self.digest, &not),
            };
            let way = Way { from, port: room.port(), wait, since };
            if let Some(body) = first.and_then(|first| self.follow(first, way, &mut not)) {
                return Some(body);
            }
            wait = false;
        }
        None
    }

    /// Whether one may be asked because another one says so: nobody is made to ask around in the wide world.
    fn is_of_the_room(&self, to: SocketAddr) -> bool {
        let is_near = match to.ip() {
            IpAddr::V4(ip) => ip.is_private() || ip.is_loopback() || ip.is_link_local(),
            IpAddr::V6(ip) => ip.is_loopback() || ip.is_unique_local() || ip.is_unicast_link_local(),
        };
        is_near || self.inner.room().is_ok_and(|room| room.found().others.contains(&to))
    }

    /// What one is called, by its own word.
    fn name_of(&self, address: SocketAddr) -> Option<String> {
        if self.inner.is_silent(address) {
            return None;
        }
        let answer = read_from_near(&self.inner.network, &format!("http://{address}/name"), 0, PATIENCE);
        let Ok(answer) = answer else {
            self.inner.was_silent(address);
            return None;
        };
        if answer.status() != 200 {
            self.inner.was_silent(address);
            return None;
        }
        let mut name = String::new();
        let body = answer.into_body().into_with_config().limit(LONGEST_NAME).reader();
        body.take(LONGEST_NAME).read_to_string(&mut name).ok()?;
        Some(name)
    }

    /// Asks one, and those that it sends on to. One that cannot be reached is told to the one before, which knows of others.
    fn follow(&self, first: SocketAddr, way: Way, not: &mut Vec<SocketAddr>) -> Option<Body> {
        let mut at = first;
        for _ in 0..HOPS {
            if way.since.elapsed() > FINDING {
                return None;
            }
            match self.ask(at, way, not) {
                Some(Said::Bytes(body)) => return Some(body),
                Some(Said::Ask(next)) if !not.contains(&next) => at = next,
                // Those that it gives to are about to be known, or to have something.
                Some(Said::Later) if at == first && way.wait => {
                    thread::sleep(PAUSE);
                    not.clear();
                }
                Some(Said::Nothing | Said::Later | Said::Ask(_)) if at == first => return None,
                _ => {
                    not.push(at);
                    if at == first {
                        return None;
                    }
                    at = first;
                }
            }
        }
        None
    }

    /// `None` where it does not answer.
    fn ask(&self, at: SocketAddr, way: Way, not: &[SocketAddr]) -> Option<Said> {
        let Way { from, port, wait, .. } = way;
        if self.inner.is_silent(at) {
            return None;
        }
        let but = not.iter().map(ToString::to_string).collect::<Vec<_>>().join(",");
        let url =
            format!("http://{at}/sha256/{}?for={port}&not={but}{}", self.digest.hex(), if wait { "&wait" } else { "" });
        let answer = read_from_near(&self.inner.network, &url, from, PATIENCE);
        let Ok(answer) = answer else {
            self.inner.was_silent(at);
            return None;
        };
        let header = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok());
        match answer.status().as_u16() {
            200 if from == 0 => {}
            206 if header("content-range").is_some_and(|text| text.starts_with(&format!("bytes {from}-"))) => {}
            302 => {
                let to = header("location").and_then(|to| to.strip_prefix("http://")?.split('/').next());
                let to = to.and_then(|to| to.parse().ok()).filter(|to| self.is_of_the_room(*to));
                return Some(to.map_or(Said::Nothing, Said::Ask));
            }
            503 => return Some(Said::Later),
            _ => return Some(Said::Nothing),
        }
        if header("content-length").and_then(|text| text.parse().ok()) != Some(self.size - from) {
            return Some(Said::Nothing);
        }
        let bytes = Box::new(answer.into_body().into_with_config().limit(u64::MAX).reader());
        Some(Said::Bytes(Body { from: at, bytes }))
    }
}

/// Bytes as neighbours send them.
pub(super) struct Relay {
    asking: Asking,
    body: Body,
    at: u64,
    tries: usize,
}

impl Relay {
    pub(super) fn new(asking: Asking, body: Body, from: u64) -> Self {
        Self { asking, body, at: from, tries: TRIES }
    }
}

impl Read for Relay {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        loop {
            let got = self.body.bytes.read(into);
            match got {
                Ok(got) if got > 0 || into.is_empty() || self.at >= self.asking.size => {
                    self.at += got as u64;
                    return Ok(got);
                }
                _ => {}
            }
            // It left, or lost whom it had it from.
            let other = (self.tries > 0).then(|| self.asking.find(self.at, Some(self.body.from))).flatten();
            match other {
                Some(body) => (self.body, self.tries) = (body, self.tries - 1),
                None => return got,
            }
        }
    }
}
