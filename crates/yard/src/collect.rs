//! Taking small files that machines send (PUT, RFC 9110, section 9.3.4): `/standings/NAME.json`.
//!
//! Whoever is on the network may send: a name is a plain one, a file is small, and there are not too many of them. Each appears in whole.

use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Bytes of one.
const MOST: u64 = 4 << 20;
/// Files of the folder.
const FILES: usize = 4096;
/// Characters of a name.
const LONGEST: usize = 80;

/// Tells apart what is on its way at once.
static COUNT: AtomicUsize = AtomicUsize::new(0);

/// The name that a path has, where it is one that may be sent.
fn name(path: &str) -> Option<&str> {
    let name = path.strip_prefix("/standings/")?;
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "._-".contains(c);
    let stem = name.strip_suffix(".json")?;
    (!stem.is_empty() && name.len() <= LONGEST && !name.starts_with('.') && name.chars().all(is_plain)).then_some(name)
}

/// Takes what follows a request; `first` came with its header. Tells the status.
pub(crate) fn take(
    mut stream: &TcpStream,
    path: &str,
    length: Option<u64>,
    first: &[u8],
    folder: &Path,
) -> io::Result<u16> {
    let Some(name) = name(path) else { return Ok(404) };
    let Some(length) = length else { return Ok(411) };
    if length > MOST {
        return Ok(413);
    }
    let to = folder.join(name);
    if !to.exists() && fs::read_dir(folder)?.count() >= FILES {
        return Ok(507);
    }
    let mut bytes = first.to_vec();
    (&mut stream).take(length.saturating_sub(bytes.len() as u64)).read_to_end(&mut bytes)?;
    if bytes.len() as u64 != length || !bytes.starts_with(b"{") {
        return Ok(400);
    }
    let number = COUNT.fetch_add(1, Ordering::Relaxed);
    let new = folder.join(format!(".new-{}-{number}", std::process::id()));
    let written = File::create(&new).and_then(|mut file| file.write_all(&bytes)).and_then(|()| fs::rename(&new, &to));
    if written.is_err() {
        // What is left of it is in nobody's way.
        let _ = fs::remove_file(&new);
    }
    written.map(|()| 204)
}
