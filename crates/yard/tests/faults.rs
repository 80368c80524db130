//! Misbehaviour on demand, as a client on a plain socket sees it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use kladder_yard::{Fault, Rule, Settings, Yard};

/// Asks for `name` from a yard with this fault; the answer, and how long it took.
fn ask(name: &str, fault: Fault) -> (Vec<u8>, Duration) {
    ask_with(name, fault, "")
}

/// The same, with a further line in the request.
fn ask_with(name: &str, fault: Fault, header: &str) -> (Vec<u8>, Duration) {
    let folder = std::env::temp_dir().join(format!("kladder-faults-{}-{name}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join(name), vec![b'x'; 1000]).unwrap();
    let rules = vec![Rule::new(name, fault)];
    let yard =
        Yard::with(Settings { folder: folder.clone(), rules, ..Settings::default() }, ([127, 0, 0, 1], 0).into())
            .unwrap();
    let started = Instant::now();
    let mut stream = TcpStream::connect(yard.url().trim_start_matches("http://")).unwrap();
    stream.write_all(format!("GET /{name} HTTP/1.1\r\n{header}\r\n").as_bytes()).unwrap();
    let mut answer = Vec::new();
    // A reset ends the answer too.
    let _ = stream.read_to_end(&mut answer);
    fs::remove_dir_all(folder).unwrap();
    (answer, started.elapsed())
}

fn body(answer: &[u8]) -> &[u8] {
    let end = answer.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
    &answer[end + 4..]
}

#[test]
fn a_cut_answer_promises_all_and_sends_less() {
    let (answer, _) = ask("cut", Fault::Cut(300));
    assert!(answer.starts_with(b"HTTP/1.1 200 ") && String::from_utf8_lossy(&answer).contains("Content-Length: 1000"));
    assert_eq!(body(&answer).len(), 300);
}

#[test]
fn a_corrupt_answer_differs_in_one_byte() {
    let (answer, _) = ask("corrupt", Fault::Corrupt(42));
    let wrong: Vec<usize> =
        body(&answer).iter().enumerate().filter(|(_, byte)| **byte != b'x').map(|(at, _)| at).collect();
    assert_eq!((body(&answer).len(), wrong), (1000, vec![42]));
}

#[test]
fn a_status_replaces_the_file_and_a_stall_delays_it() {
    let (answer, _) = ask("status", Fault::Status(503));
    assert!(answer.starts_with(b"HTTP/1.1 503 Service Unavailable\r\n") && body(&answer).is_empty());
    let (answer, took) = ask("stall", Fault::Stall(Duration::from_millis(300)));
    assert!(took >= Duration::from_millis(300) && body(&answer).len() == 1000);
}

#[test]
fn headers_lie_where_they_are_told_to() {
    let (answer, _) = ask("length", Fault::Length(7));
    assert!(String::from_utf8_lossy(&answer).contains("Content-Length: 7\r\n") && body(&answer).len() == 1000);
    let range = "Range: bytes=100-\r\n";
    let (answer, _) = ask_with("part", Fault::OtherPart(50), range);
    assert!(String::from_utf8_lossy(&answer).contains("bytes 150-999/1000") && body(&answer).len() == 850);
    let (answer, _) = ask_with("whole", Fault::NoParts, range);
    assert!(answer.starts_with(b"HTTP/1.1 200 ") && body(&answer).len() == 1000);
    let (answer, _) = ask("busy", Fault::Busy(3));
    assert!(String::from_utf8_lossy(&answer).starts_with("HTTP/1.1 503 Service Unavailable\r\nRetry-After: 3\r\n"));
    let (answer, _) = ask("circle", Fault::Circle);
    assert!(String::from_utf8_lossy(&answer).contains("302 Found\r\nLocation: /circle\r\n"));
}

#[test]
fn a_reset_a_hang_and_a_trickle_send_their_part() {
    let (answer, _) = ask("reset", Fault::Reset(300));
    assert!(answer.len() < 1000, "{}", answer.len());
    let (answer, took) = ask("hang", Fault::Hang(Duration::from_millis(200)));
    assert!(body(&answer).len() == 1000 && took >= Duration::from_millis(200));
    let (answer, took) = ask_with("trickle", Fault::Trickle(Duration::from_millis(20)), "Range: bytes=990-\r\n");
    assert!(body(&answer).len() == 10 && took >= Duration::from_millis(190));
}
