//! Where services listen: what the ladder wants, what their tools say, or a free port that follows from the ladder and the
//! service's name, so that it is the same each time and in every landing.

use std::collections::BTreeSet;
use std::path::Path;
use std::sync::Arc;

use kladder_choose::catalog::{FREE, Gate, Port};
use kladder_choose::ladder::Ladder;

use crate::base::digest::Digest;
use crate::tasks::{Listening, Rung};

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
        let mut hosts = Vec::new();
        for service in &rung.definition.says.services {
            hosts.extend(ladder.services.get(&service.name).and_then(|wish| wish.host.as_ref()));
            let port = match (wished(&service.name), service.port) {
                (_, None) => continue,
                (Some(port), _) | (None, Some(Port::Fixed(port))) => port,
                (None, Some(Port::Free)) => free(folder, &service.name, &mut taken),
            };
            let reachable = ladder.services.get(&service.name).is_some_and(|wish| wish.reachable);
            rung.ports.push((service.name.clone(), Listening { port, reachable }));
        }
        // A name that is to lead here is a chore of whoever may change the system.
        let gates: Vec<Gate> = hosts.into_iter().filter_map(|host| Gate::of_host_name(host.as_str())).collect();
        if !gates.is_empty() {
            Arc::make_mut(&mut rung.definition).says.gates.extend(gates);
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
