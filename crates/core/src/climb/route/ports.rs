//! Where services listen: what the ladder wants, what their tools say, or a free port that follows from the ladder and the
//! service's name, so that it is the same each time and in every landing.

use std::collections::BTreeSet;
use std::path::Path;

use kladder_choose::catalog::{FREE, Port};
use kladder_choose::ladder::Ladder;

use crate::base::digest::Digest;
use crate::tasks::Rung;

/// Gives every service that listens its port.
pub(super) fn assign(rungs: &mut [Rung], folder: &Path, ladder: &Ladder) {
    let wished = |name: &str| Some(ladder.services.get(name)?.port?.get());
    let mut taken = BTreeSet::new();
    for rung in rungs.iter() {
        for service in &rung.definition.says.services {
            taken.extend(wished(&service.name));
            if let Some(Port::Fixed(port)) = service.port {
                taken.insert(port);
            }
        }
    }
    for rung in rungs {
        for service in &rung.definition.says.services {
            let port = match (wished(&service.name), service.port) {
                (_, None) => continue,
                (Some(port), _) | (None, Some(Port::Fixed(port))) => port,
                (None, Some(Port::Free)) => free(folder, &service.name, &mut taken),
            };
            rung.ports.push((service.name.clone(), port));
        }
    }
}

/// The port that a name leads to; the next one where another service of the ladder has that.
fn free(folder: &Path, name: &str, taken: &mut BTreeSet<u16>) -> u16 {
    let digest = Digest::of(&[folder.as_os_str().as_encoded_bytes(), b"/", name.as_bytes()].concat());
    let first = u16::from_le_bytes([digest.bytes()[0], digest.bytes()[1]]) % (FREE.end - FREE.start);
    let all = (0..FREE.end - FREE.start).map(|step| FREE.start + (first + step) % (FREE.end - FREE.start));
    // With more services than ports some share one, which is told when they are started.
    let port = all.clone().find(|port| !taken.contains(port)).unwrap_or(FREE.start + first);
    taken.insert(port);
    port
}
