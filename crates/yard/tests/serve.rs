//! The server as a client on a plain socket sees it.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use std::fs;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::sync::Mutex;

use kladder_yard::{Answered, Settings, Yard};

fn ask(yard: &Yard, request: &str) -> String {
    let mut stream = TcpStream::connect(yard.url().trim_start_matches("http://")).unwrap();
    stream.write_all(request.as_bytes()).unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    answer
}

#[test]
fn files_are_served_and_nothing_else() {
    let folder = std::env::temp_dir().join(format!("kladder-yard-{}", std::process::id()));
    fs::create_dir_all(folder.join("yard/sub")).unwrap();
    fs::write(folder.join("secret"), "outside").unwrap();
    fs::write(folder.join("yard/sub/a+b ~1%.txt"), "0123456789").unwrap();
    std::os::unix::fs::symlink("../secret", folder.join("yard/link")).unwrap();
    let yard = Yard::serve(&folder.join("yard"), ([127, 0, 0, 1], 0).into()).unwrap();

    let whole = ask(&yard, "GET /sub/a+b%20~1%25.txt HTTP/1.1\r\n\r\n");
    assert!(whole.starts_with("HTTP/1.1 200 ") && whole.ends_with("\r\n\r\n0123456789"), "{whole}");
    let head = ask(&yard, "HEAD /sub/a+b%20~1%25.txt HTTP/1.1\r\n\r\n");
    assert!(head.contains("Content-Length: 10\r\n") && head.ends_with("\r\n\r\n"), "{head}");
    let part = ask(&yard, "GET /sub/a+b%20~1%25.txt HTTP/1.1\r\nrange: bytes=4-6\r\n\r\n");
    assert!(part.contains("Content-Range: bytes 4-6/10\r\n") && part.ends_with("\r\n\r\n456"), "{part}");

    let statuses = [
        ("GET /sub HTTP/1.1\r\n\r\n", 404),
        ("GET /link HTTP/1.1\r\n\r\n", 404),
        ("GET /../secret HTTP/1.1\r\n\r\n", 404),
        ("GET /sub/%2e%2e/%2e%2e/secret HTTP/1.1\r\n\r\n", 404),
        ("PUT /sub/new HTTP/1.1\r\n\r\n", 405),
        ("nonsense\r\n\r\n", 400),
    ];
    for (request, status) in statuses {
        let answer = ask(&yard, request);
        assert!(answer.starts_with(&format!("HTTP/1.1 {status} ")), "{request:?}: {answer}");
    }
    fs::remove_dir_all(folder).unwrap();
}

/// Answers that were told of, of all tests of this program.
static TOLD: Mutex<Vec<Answered>> = Mutex::new(Vec::new());

#[test]
fn every_answer_is_told_and_the_address_is_one_that_works() {
    let folder = std::env::temp_dir().join(format!("kladder-yard-told-{}", std::process::id()));
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("told.txt"), "0123456789").unwrap();
    let tell: fn(&Answered) = |answered| TOLD.lock().unwrap().push(answered.clone());
    let settings = Settings { folder: folder.clone(), tell: Some(tell), ..Settings::default() };
    let yard = Yard::with(settings, ([0, 0, 0, 0], 0).into()).unwrap();
    assert!(!yard.url().contains("0.0.0.0"), "{}", yard.url());
    for request in ["GET /told.txt", "HEAD /told.txt", "GET /missing", "PUT /told.txt"] {
        ask(&yard, &format!("{request} HTTP/1.1\r\n\r\n"));
    }
    ask(&yard, "GET /told.txt HTTP/1.1\r\nrange: bytes=4-6\r\n\r\n");
    drop(yard);
    let told = TOLD.lock().unwrap();
    let rows: Vec<(&str, u16, u64)> = told.iter().map(|one| (one.path.as_str(), one.status, one.bytes)).collect();
    let wanted = [
        ("/told.txt", 200, 10),
        ("/told.txt", 200, 0),
        ("/missing", 404, 0),
        ("/told.txt", 405, 0),
        ("/told.txt", 206, 3),
    ];
    assert_eq!(rows, wanted);
    assert!(told.iter().all(|one| one.client.parse::<std::net::IpAddr>().is_ok()), "{told:?}");
    fs::remove_dir_all(folder).unwrap();
}
