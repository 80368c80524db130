//! Talking to a program over an open protocol: messages of JSON behind a header, over standard input and output, as the Language
//! Server Protocol 3.17 and the Debug Adapter Protocol have them in common ("Base Protocol").
//!
//! Threat model: the program may say anything, at any length, or nothing. A message of more than [`LONGEST`] bytes, or a header that
//! is none, ends the talk; so does time.

mod debug;
mod language;
mod terminal;

pub(crate) use debug::debug;
pub(crate) use language::serve;
pub(crate) use terminal::sit;

use std::borrow::Cow;
use std::io::Write;
use std::path::Path;
use std::process::ChildStdin;
use std::thread;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::base::event::Finding;
use crate::host::process::Lasting;

/// Bytes of one message; lists of offers have a few million.
const LONGEST: usize = 64 << 20;
/// Bytes of a header.
const HEADER: usize = 4096;
/// How often it is looked whether something was said.
const GLANCE: Duration = Duration::from_millis(3);

/// What one part of a talk came to.
pub(crate) type Heard<T> = Result<T, Finding>;

/// One thing that a program was asked, and what came of it.
pub(crate) struct Said {
    /// What it shows.
    pub(crate) claim: Cow<'static, str>,
    /// Whether it did.
    pub(crate) heard: Heard<()>,
    /// How long it took.
    pub(crate) took: Duration,
}

impl Said {
    /// Asks, and looks at the clock.
    fn of<T>(claim: impl Into<Cow<'static, str>>, ask: impl FnOnce() -> Heard<T>) -> (Self, Option<T>) {
        let since = Instant::now();
        let (heard, answer) = match ask() {
            Ok(answer) => (Ok(()), Some(answer)),
            Err(finding) => (Err(finding), None),
        };
        (Self { claim: claim.into(), heard, took: since.elapsed() }, answer)
    }
}

/// A talk with a program.
pub(crate) struct Talk<'t> {
    process: &'t mut Lasting,
    input: ChildStdin,
    /// What was heard and not understood yet.
    heard: Vec<u8>,
    /// When it must be over, and how long that was.
    until: Instant,
    limit: u64,
    /// The number of the last request.
    last: i64,
}

impl<'t> Talk<'t> {
    /// Begins a talk of at most so many seconds.
    pub(crate) fn new(process: &'t mut Lasting, input: ChildStdin, limit: u64) -> Self {
        let until = Instant::now() + Duration::from_secs(limit);
        Self { process, input, heard: Vec::new(), until, limit, last: 0 }
    }

    /// Says something. Whoever listens no more is found out by what is heard.
    fn say(&mut self, message: &Value) {
        let text = message.to_string();
        let _ = write!(self.input, "Content-Length: {}\r\n\r\n{text}", text.len()).and_then(|()| self.input.flush());
    }

    /// The next message; `what` is waited for.
    fn hear(&mut self, what: &str) -> Heard<Value> {
        loop {
            match message(&self.heard) {
                Framed::Whole(value, length) => {
                    self.heard.drain(..length);
                    return Ok(value);
                }
                Framed::Wrong => {
                    let said = String::from_utf8_lossy(&self.heard[..self.heard.len().min(80)]).into_owned();
                    return Err(Finding::OutOfForm { said });
                }
                Framed::Part => {}
            }
            let more = self.process.take();
            if more.is_empty() {
                if let Some(status) = self.process.ended().ok().flatten() {
                    return Err(Finding::EndedEarly { status });
                }
                if Instant::now() > self.until {
                    return Err(Finding::Silent { to: what.to_owned(), limit: self.limit });
                }
                thread::sleep(GLANCE);
            }
            self.heard.extend(more);
        }
    }

    fn next_number(&mut self) -> i64 {
        self.last += 1;
        self.last
    }
}

/// What stands at the beginning of what was heard.
#[derive(Debug, PartialEq)]
enum Framed {
    /// A message, and how many bytes it takes.
    Whole(Value, usize),
    /// The beginning of one.
    Part,
    /// No message.
    Wrong,
}

fn message(heard: &[u8]) -> Framed {
    let Some(end) = heard.windows(4).take(HEADER).position(|four| four == b"\r\n\r\n") else {
        // A line that names no field is none of a header.
        let lines = heard.split_inclusive(|&byte| byte == b'\n').filter(|line| line.ends_with(b"\n"));
        let is_other = lines.into_iter().any(|line| !line.contains(&b':'));
        return if is_other || heard.len() > HEADER { Framed::Wrong } else { Framed::Part };
    };
    let header = String::from_utf8_lossy(&heard[..end]).to_lowercase();
    let length = header.lines().find_map(|line| line.strip_prefix("content-length:")?.trim().parse::<usize>().ok());
    let Some(length) = length.filter(|length| *length <= LONGEST) else { return Framed::Wrong };
    match heard.get(end + 4..end + 4 + length) {
        None => Framed::Part,
        Some(body) => {
            serde_json::from_slice(body).map_or(Framed::Wrong, |value| Framed::Whole(value, end + 4 + length))
        }
    }
}

/// A path as a resource's name (RFC 8089, RFC 3986).
fn uri(path: &Path) -> String {
    use std::fmt::Write as _;
    use std::os::unix::ffi::OsStrExt;
    let mut uri = String::from("file://");
    for &byte in path.as_os_str().as_bytes() {
        if byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte) {
            uri.push(char::from(byte));
        } else {
            let _ = write!(uri, "%{byte:02X}");
        }
    }
    uri
}

/// Options of a definition as JSON, with the project's folder filled in.
fn options(table: &toml::Table, folder: &Path) -> Value {
    fn filled(value: &mut Value, folder: &str) {
        match value {
            Value::String(text) => *text = text.replace("@folder@", folder),
            Value::Array(all) => all.iter_mut().for_each(|value| filled(value, folder)),
            Value::Object(all) => all.values_mut().for_each(|value| filled(value, folder)),
            _ => {}
        }
    }
    let mut value = serde_json::to_value(table).unwrap_or_else(|_| json!({}));
    filled(&mut value, &folder.to_string_lossy());
    value
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_message_is_whole_or_waited_for_and_nothing_else_is_one() {
        let whole = b"Content-Length: 7\r\nContent-Type: x\r\n\r\n{\"a\":1}more";
        assert_eq!(message(whole), Framed::Whole(json!({ "a": 1 }), whole.len() - 4));
        for cut in 0..whole.len() - 4 {
            assert_eq!(message(&whole[..cut]), Framed::Part, "{cut}");
        }
        let wrong: [&[u8]; 4] = [
            b"Content-Length: x\r\n\r\n{}",
            b"Content-Length: 99999999999\r\n\r\n{}",
            b"Content-Length: 2\r\n\r\n{]",
            b"Length: 2\r\n\r\n{}",
        ];
        for text in wrong {
            assert_eq!(message(text), Framed::Wrong, "{}", String::from_utf8_lossy(text));
        }
        assert_eq!(message(&[b'x'; HEADER + 8]), Framed::Wrong);
    }

    #[test]
    fn a_path_is_named_whatever_is_in_it() {
        assert_eq!(uri(Path::new("/a b/ö%?")), "file:///a%20b/%C3%B6%25%3F");
        let table: toml::Table = toml::from_str("a = [\"@folder@/x\", 1]").unwrap();
        assert_eq!(options(&table, Path::new("/p")), json!({ "a": ["/p/x", 1] }));
    }
}
