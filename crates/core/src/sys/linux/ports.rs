//! Who listens where (proc(5), `/proc/net/tcp`): the socket's number leads to the process that has it open.

use std::fs;

/// The state of a socket that listens.
const LISTENS: &str = "0A";

/// The number and name of the process that listens on a TCP port; `None` where nobody does, or it is not told, as for
/// another account's.
pub(crate) fn holder(port: u16) -> Option<(u32, String)> {
    let sockets: Vec<String> = ["tcp", "tcp6"].iter().flat_map(|table| listening(table, port)).collect();
    let processes = fs::read_dir("/proc").ok()?.flatten();
    let numbers = processes.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    numbers.into_iter().find(|process| has_open(*process, &sockets)).map(|process| {
        let name = fs::read_to_string(format!("/proc/{process}/comm")).unwrap_or_default();
        (process, name.trim().to_owned())
    })
}

/// The numbers of the sockets that listen on a port, as links name them.
fn listening(table: &str, port: u16) -> Vec<String> {
    let text = fs::read_to_string(format!("/proc/net/{table}")).unwrap_or_default();
    let end = format!(":{port:04X}");
    let socket = |line: &str| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let is_it = fields.get(1)?.ends_with(&end) && *fields.get(3)? == LISTENS;
        is_it.then(|| format!("socket:[{}]", fields.get(9).copied().unwrap_or_default()))
    };
    text.lines().skip(1).filter_map(socket).collect()
}

fn has_open(process: u32, sockets: &[String]) -> bool {
    let files = fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten();
    let links = files.filter_map(|entry| fs::read_link(entry.path()).ok());
    links.into_iter().any(|link| link.to_str().is_some_and(|link| sockets.iter().any(|socket| socket == link)))
}
