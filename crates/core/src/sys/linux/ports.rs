//! Who listens where (proc(5), `/proc/net/tcp`): the socket's number leads to the process that has it open.

use std::fs;

use crate::sys::Network;

/// The state of a socket that listens.
const LISTENS: &str = "0A";

/// The number and name of the process that listens on a TCP port; `None` where nobody does, or it is not told, as for
/// another account's.
pub(crate) fn holder(port: u16) -> Option<(u32, String)> {
    let sockets = listening("net", port);
    let processes = fs::read_dir("/proc").ok()?.flatten();
    let numbers = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    numbers.into_iter().find(|process| has_open(*process, &sockets)).map(|process| {
        let name = fs::read_to_string(format!("/proc/{process}/comm")).unwrap_or_default();
        (process, name.trim().to_owned())
    })
}

/// Whether somebody listens on a TCP port at an address that is not the loopback's.
pub(crate) fn is_open(port: u16) -> bool {
    let is_elsewhere = |(address, _): &(String, String)| !is_loopback(address);
    ["tcp", "tcp6"]
        .iter()
        .flat_map(|table| listening_in(&format!("/proc/net/{table}"), port))
        .any(|one| is_elsewhere(&one))
}

/// An address as these tables have it: words of four bytes, each in the machine's order, here the usual one.
fn is_loopback(address: &str) -> bool {
    match address.len() {
        8 => address.ends_with("7F"),
        _ => matches!(address, "00000000000000000000000001000000") || address.ends_with("FFFF00000100007F"),
    }
}

/// Whether somebody listens on a TCP port of a network.
pub(crate) fn listens_in(network: Network, port: u16) -> bool {
    let tables = match network {
        Network::Room(process) => format!("{process}/net"),
        Network::All | Network::None => "net".to_owned(),
    };
    !listening(&tables, port).is_empty()
}

/// The numbers of the sockets that listen on a port, as links name them.
fn listening(tables: &str, port: u16) -> Vec<String> {
    let all = ["tcp", "tcp6"].iter().flat_map(|table| listening_in(&format!("/proc/{tables}/{table}"), port));
    all.map(|(_, socket)| socket).collect()
}

/// The address and the socket of each that listens.
fn listening_in(table: &str, port: u16) -> Vec<(String, String)> {
    let text = fs::read_to_string(table).unwrap_or_default();
    let end = format!(":{port:04X}");
    let socket = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let address = fields.get(1)?.strip_suffix(&end).filter(|_| fields.get(3) == Some(&LISTENS))?;
        Some((address.to_owned(), format!("socket:[{}]", fields.get(9).copied().unwrap_or_default())))
    };
    text.lines().skip(1).filter_map(socket).collect()
}

fn has_open(process: u32, sockets: &[String]) -> bool {
    let files = fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten();
    let links = files.filter_map(|entry| fs::read_link(entry.path()).ok());
    links.into_iter().any(|link| link.to_str().is_some_and(|link| sockets.iter().any(|socket| socket == link)))
}
