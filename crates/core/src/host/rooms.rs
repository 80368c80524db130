//! A network of its own for processes that are to reach one another and nobody else: a process of ours holds it as long as it is
//! wanted.

use std::io::{self, BufRead, BufReader, Read, Write};
use std::process::{Child, Command, Stdio};

use super::enclosed::Encloser;
use crate::sys::{self, Network};

/// The first argument of a call that is no user's.
pub(super) const WORD: &str = "--hold-a-room";

/// A room; it is given up when it is dropped, when those that are in it have ended.
#[derive(Debug)]
pub struct Room {
    holder: Child,
}

impl Room {
    /// Opens one; `None` where the system has none for this user.
    pub fn open(encloser: &Encloser) -> Option<Self> {
        let mut command = Command::new(&encloser.kladder);
        command
            .arg(WORD)
            .env_clear()
            .env("KLADDER_ROOM", "")
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null());
        let mut room = Self { holder: command.spawn().ok()? };
        let mut said = String::new();
        // One that could not be had ends without a word.
        BufReader::new(room.holder.stdout.take()?).read_line(&mut said).ok()?;
        (said == "open\n").then_some(room)
    }

    /// What processes in it have.
    pub fn network(&self) -> Network {
        Network::Room(self.holder.id())
    }
}

impl Drop for Room {
    fn drop(&mut self) {
        drop(self.holder.stdin.take());
        // It ends when its input does.
        let _ = self.holder.wait();
    }
}

/// Holds a room until nobody wants it any more; tells the exit code.
pub(super) fn keep() -> u8 {
    let held = sys::rooms::make().and_then(|()| writeln!(io::stdout(), "open"));
    let Ok(()) = held else { return 125 };
    // Whoever wanted it may be killed: its end of the pipe closes then, too.
    let _ = io::stdin().read(&mut [0]);
    0
}
