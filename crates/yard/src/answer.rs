//! One request, one answer.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::net::TcpStream;
use std::ops::Range;
use std::path::{Component, Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, UNIX_EPOCH};

use crate::give::{self, Asked, Giver};
use crate::{Answered, Fault, Rule, Settings};

/// A request's header may be this long, in bytes.
const LONGEST_HEADER: usize = 16 * 1024;

/// What answers for a folder, where it is there.
const PAGES: [&str; 2] = ["index.json", "index.html"];

/// What a file is (RFC 9110, section 8.3), by its name.
fn kind_of(path: &Path) -> &'static str {
    match path.extension().and_then(|ending| ending.to_str()) {
        Some("json") => "application/json",
        Some("html") => "text/html; charset=utf-8",
        _ => "application/octet-stream",
    }
}

struct Request {
    /// Something is sent.
    put: bool,
    /// Bytes of what is sent.
    length: Option<u64>,
    /// What of it came with the header.
    first: Vec<u8>,
    head_only: bool,
    /// The path as it was sent.
    target: String,
    path: String,
    query: String,
    range: Option<String>,
    if_range: Option<String>,
    authorization: Option<String>,
}

/// Reads one request from `stream` and answers it.
pub(crate) fn answer(stream: &TcpStream, settings: &Settings, faults: &Faults) -> io::Result<()> {
    let (path, answered) = match read_request(stream)? {
        Ok(request) => {
            let answered = match &settings.giver {
                _ if request.put => put(stream, &request, settings),
                Some(giver) => ask(stream, &request, giver.as_ref()),
                None => respond(stream, &request, settings, faults),
            };
            (request.path, answered)
        }
        Err(status) => (String::new(), plain(stream, status, "")),
    };
    if let (Some(tell), Ok((status, bytes))) = (settings.tell, &answered) {
        let client = stream.peer_addr().map_or_else(|_| "somebody".to_owned(), |address| address.ip().to_string());
        tell(&Answered { client, path, status: *status, bytes: *bytes });
    }
    answered.map(|_| ())
}

/// Takes what is sent.
fn put(stream: &TcpStream, request: &Request, settings: &Settings) -> io::Result<Sent> {
    let Some(folder) = &settings.collect else { return plain(stream, 405, "") };
    let status = crate::collect::take(stream, &request.path, request.length, &request.first, folder)?;
    plain(stream, status, "")
}

/// Lets a giver think of the answer.
fn ask(stream: &TcpStream, request: &Request, giver: &dyn Giver) -> io::Result<Sent> {
    let first =
        request.range.as_deref().and_then(|range| range.strip_prefix("bytes=")?.strip_suffix('-')?.parse().ok());
    let client = stream.peer_addr()?.ip();
    let asked = Asked { client, path: &request.path, query: &request.query, from: first.unwrap_or(0) };
    give::send(stream, &asked, request.head_only, giver.give(&asked))
}

/// The status that was answered, and the bytes of the body.
type Sent = (u16, u64);

fn respond(stream: &TcpStream, request: &Request, settings: &Settings, faults: &Faults) -> io::Result<Sent> {
    let mut out = stream;
    let fault = faults.next(&request.path, &settings.rules);
    match fault {
        Some(Fault::Status(status)) => return plain(out, *status, ""),
        Some(Fault::Busy(seconds)) => return plain(out, 503, &format!("Retry-After: {seconds}\r\n")),
        Some(Fault::Circle) => return plain(out, 302, &format!("Location: {}\r\n", request.target)),
        Some(Fault::SendsOn(address)) => return plain(out, 302, &format!("Location: {address}\r\n")),
        Some(Fault::Demands(who, _)) if request.authorization.as_ref() == Some(who) => {}
        Some(Fault::Demands(_, how)) => return plain(out, 401, &format!("WWW-Authenticate: {how}\r\n")),
        Some(Fault::Strangers) if request.authorization.is_some() => return plain(out, 400, ""),
        Some(Fault::Stall(time)) => std::thread::sleep(*time),
        _ => {}
    }
    let found = locate(&settings.folder, &request.path);
    let Some((path, file)) = found.and_then(|path| Some((path.clone(), File::open(path).ok()?))) else {
        return plain(out, 404, "");
    };
    let size = file.metadata()?.len();
    let tag = entity_tag(&file)?;
    let range = request.range.as_deref().filter(|_| fault != Some(&Fault::NoParts));
    // A client that has another version of the file gets all of this one (RFC 9110, section 13.1.5).
    let range = range.filter(|_| request.if_range.as_ref().is_none_or(|known| *known == tag));
    let Ok(part) = range.map(|range| parse_range(range, size)).transpose() else {
        return plain(out, 416, &format!("Content-Range: bytes */{size}\r\n"));
    };
    let part = match (part, fault) {
        (Some(part), Some(Fault::OtherPart(by))) => Some((part.start + by).min(size - 1)..size),
        (part, _) => part,
    };
    send_head(out, size, part.as_ref(), &format!("{tag}\r\nContent-Type: {}", kind_of(&path)), fault)?;
    let status = if part.is_some() { 206 } else { 200 };
    if request.head_only {
        return Ok((status, 0));
    }
    let part = part.unwrap_or(0..size);
    let bytes = part.end - part.start;
    match fault {
        Some(Fault::Reset(after)) => {
            send_body(out, file, part.start..(part.start + after).min(part.end))?;
            out.flush()?;
            // Closing with no time to linger sends a reset.
            rustix::net::sockopt::set_socket_linger(stream, Some(Duration::ZERO))?;
        }
        Some(fault) => send_badly(out, file, part, fault)?,
        None => send_body(out, file, part)?,
    }
    Ok((status, bytes))
}

fn read_request(mut stream: &TcpStream) -> io::Result<Result<Request, u16>> {
    let mut bytes = Vec::new();
    let mut chunk = [0; 2048];
    loop {
        let got = stream.read(&mut chunk)?;
        bytes.extend_from_slice(&chunk[..got]);
        let mut headers = [httparse::EMPTY_HEADER; 64];
        let mut parsed = httparse::Request::new(&mut headers);
        match parsed.parse(&bytes) {
            Ok(httparse::Status::Complete(head)) => {
                return Ok(understand(&parsed).map(|request| Request { first: bytes[head..].to_vec(), ..request }));
            }
            Ok(httparse::Status::Partial) if got == 0 => return Err(io::ErrorKind::UnexpectedEof.into()),
            Ok(httparse::Status::Partial) if bytes.len() > LONGEST_HEADER => return Ok(Err(431)),
            Ok(httparse::Status::Partial) => {}
            Err(_) => return Ok(Err(400)),
        }
    }
}

fn understand(parsed: &httparse::Request<'_, '_>) -> Result<Request, u16> {
    let (head_only, put) = match parsed.method {
        Some("GET") => (false, false),
        Some("HEAD") => (true, false),
        Some("PUT") => (false, true),
        _ => return Err(405),
    };
    let whole = parsed.path.unwrap_or("/").split('#').next().unwrap_or("/");
    let (target, query) = whole.split_once('?').unwrap_or((whole, ""));
    let path = percent_encoding::percent_decode_str(target).decode_utf8().map_err(|_| 400u16)?.into_owned();
    let header = |name: &str| {
        let found = parsed.headers.iter().find(|header| header.name.eq_ignore_ascii_case(name));
        found.and_then(|header| std::str::from_utf8(header.value).ok()).map(str::to_owned)
    };
    let (range, if_range, authorization) = (header("range"), header("if-range"), header("authorization"));
    let length = header("content-length").and_then(|text| text.parse().ok());
    Ok(Request {
        put,
        length,
        first: Vec::new(),
        head_only,
        target: target.to_owned(),
        path,
        query: query.to_owned(),
        range,
        if_range,
        authorization,
    })
}

/// The file that a URL path names, if it is a plain file inside `folder`; a path that ends with a slash names the page that
/// is put there for it.
fn locate(folder: &Path, path: &str) -> Option<PathBuf> {
    if path.ends_with('/') {
        return PAGES.iter().find_map(|page| locate(folder, &[path, page].concat()));
    }
    let relative = Path::new(path.trim_start_matches('/'));
    if !relative.components().all(|part| matches!(part, Component::Normal(_))) {
        return None;
    }
    let real = folder.join(relative).canonicalize().ok()?;
    (real.starts_with(folder) && real.is_file()).then_some(real)
}

/// A strong tag out of what changes when a file is replaced: length and time of modification.
fn entity_tag(file: &File) -> io::Result<String> {
    let meta = file.metadata()?;
    let time = meta.modified()?.duration_since(UNIX_EPOCH).unwrap_or_default();
    Ok(format!("\"{:x}-{:x}\"", meta.len(), time.as_nanos()))
}

/// `bytes=A-B`, `bytes=A-` or `bytes=-N`; several ranges at once are not satisfied.
fn parse_range(text: &str, size: u64) -> Result<Range<u64>, ()> {
    let (first, last) = text.strip_prefix("bytes=").and_then(|spec| spec.split_once('-')).ok_or(())?;
    let number = |text: &str| text.trim().parse::<u64>().map_err(|_| ());
    let range = match (first.is_empty(), last.is_empty()) {
        (true, _) => size.saturating_sub(number(last)?)..size,
        (false, true) => number(first)?..size,
        (false, false) => number(first)?..number(last)?.saturating_add(1).min(size),
    };
    if range.is_empty() { Err(()) } else { Ok(range) }
}

fn send_head(
    mut out: &TcpStream,
    size: u64,
    part: Option<&Range<u64>>,
    tag: &str,
    fault: Option<&Fault>,
) -> io::Result<()> {
    let status = match part {
        None => "200 OK".to_owned(),
        Some(part) => format!("206 Partial Content\r\nContent-Range: bytes {}-{}/{size}", part.start, part.end - 1),
    };
    let length = match fault {
        Some(Fault::Length(told)) => *told,
        _ => part.map_or(size, |part| part.end - part.start),
    };
    let head = format!(
        "HTTP/1.1 {status}\r\nContent-Length: {length}\r\nETag: {tag}\r\nAccept-Ranges: bytes\r\n\
         Connection: close\r\n\r\n"
    );
    out.write_all(head.as_bytes())
}

fn send_body(mut out: &TcpStream, mut file: File, part: Range<u64>) -> io::Result<()> {
    file.seek(SeekFrom::Start(part.start))?;
    io::copy(&mut file.take(part.end - part.start), &mut out)?;
    Ok(())
}

fn send_badly(mut out: &TcpStream, mut file: File, part: Range<u64>, fault: &Fault) -> io::Result<()> {
    match fault {
        Fault::Cut(after) => send_body(out, file, part.start..(part.start + after).min(part.end)),
        Fault::Corrupt(at) if part.contains(at) => {
            send_body(out, file.try_clone()?, part.start..*at)?;
            let mut byte = [0];
            file.read_exact(&mut byte)?;
            out.write_all(&[byte[0] ^ 0xff])?;
            send_body(out, file, at + 1..part.end)
        }
        Fault::Hang(time) => {
            let half = part.start + (part.end - part.start) / 2;
            send_body(out, file.try_clone()?, part.start..half)?;
            std::thread::sleep(*time);
            send_body(out, file, half..part.end)
        }
        Fault::Trickle(every) => {
            for at in part {
                send_body(out, file.try_clone()?, at..at + 1)?;
                std::thread::sleep(*every);
            }
            Ok(())
        }
        _ => send_body(out, file, part),
    }
}

pub(crate) fn plain(mut out: &TcpStream, status: u16, header: &str) -> io::Result<Sent> {
    let reason = match status {
        204 => "No Content",
        302 => "Found",
        400 => "Bad Request",
        401 => "Unauthorized",
        404 => "Not Found",
        405 => "Method Not Allowed",
        411 => "Length Required",
        413 => "Content Too Large",
        416 => "Range Not Satisfiable",
        431 => "Request Header Fields Too Large",
        507 => "Insufficient Storage",
        503 => "Service Unavailable",
        _ => "Error",
    };
    write!(out, "HTTP/1.1 {status} {reason}\r\n{header}Content-Length: 0\r\nConnection: close\r\n\r\n")?;
    Ok((status, 0))
}

/// How often each rule has applied.
#[derive(Debug)]
pub(crate) struct Faults(Vec<AtomicUsize>);

impl Faults {
    pub(crate) fn new(rules: usize) -> Self {
        Self((0..rules).map(|_| AtomicUsize::new(0)).collect())
    }

    /// The fault of the first rule that fits and is not used up.
    fn next<'r>(&self, path: &str, rules: &'r [Rule]) -> Option<&'r Fault> {
        let fits = |(rule, used): &(&'r Rule, &AtomicUsize)| {
            path.ends_with(&rule.ending) && used.fetch_add(1, Ordering::Relaxed) < rule.times
        };
        rules.iter().zip(&self.0).find(fits).map(|(rule, _)| &rule.fault)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_rfc_says() {
        assert_eq!(parse_range("bytes=2-4", 10), Ok(2..5));
        assert_eq!(parse_range("bytes=7-", 10), Ok(7..10));
        assert_eq!(parse_range("bytes=-3", 10), Ok(7..10));
        assert_eq!(parse_range("bytes=2-99", 10), Ok(2..10));
        for bad in ["bytes=10-", "bytes=5-4", "bytes=-0", "bytes=0-1,3-4", "lines=1-2", "bytes=x-"] {
            assert_eq!(parse_range(bad, 10), Err(()), "{bad}");
        }
    }
}
