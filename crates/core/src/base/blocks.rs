//! Bytes on their way from one thread to another, in blocks that are used again. What waits in between is bounded, so that
//! memory stays flat however large a file is.

use std::io::{self, BufRead, Read};
use std::sync::mpsc::{Receiver, Sender, SyncSender, channel, sync_channel};
use std::thread::Scope;

/// Bytes handed over at once.
const BLOCK: usize = 256 * 1024;
/// Blocks that wait; with their size this is all the memory it takes.
const WAITING: usize = 4;

/// The far end: gives blocks. Dropping it is the end of the bytes.
pub struct Giver {
    send: SyncSender<io::Result<Vec<u8>>>,
    used: Receiver<Vec<u8>>,
}

/// The near end: reads what is given.
pub struct Blocks {
    given: Receiver<io::Result<Vec<u8>>>,
    used: Sender<Vec<u8>>,
    block: Vec<u8>,
    at: usize,
}

/// Two ends.
pub fn pair() -> (Giver, Blocks) {
    let (send, given) = sync_channel(WAITING);
    let (give_back, used) = channel();
    (Giver { send, used }, Blocks { given, used: give_back, block: Vec::new(), at: 0 })
}

/// Reads on a thread of its own, a few blocks before the one who needs them. The thread ends with the reader, with its
/// first error, or when the near end is dropped.
pub fn ahead<'s>(scope: &'s Scope<'s, '_>, reader: impl Read + Send + 's) -> Blocks {
    let (giver, blocks) = pair();
    scope.spawn(move || read_on(reader, &giver));
    blocks
}

fn read_on(mut reader: impl Read, giver: &Giver) {
    loop {
        let mut block = giver.used();
        block.resize(BLOCK, 0);
        let (filled, failed) = fill(&mut reader, &mut block);
        block.truncate(filled);
        let ended = filled == 0 || failed.is_some();
        let taken = filled == 0 || giver.give(Ok(block));
        if let Some(error) = failed {
            giver.give(Err(error));
        }
        if ended || !taken {
            return;
        }
    }
}

/// Fills a block as far as the reader goes; what came before an error counts.
fn fill(reader: &mut impl Read, block: &mut [u8]) -> (usize, Option<io::Error>) {
    let mut filled = 0;
    while filled < block.len() {
        match reader.read(&mut block[filled..]) {
            Ok(0) => break,
            Ok(got) => filled += got,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return (filled, Some(error)),
        }
    }
    (filled, None)
}

impl Giver {
    /// Gives a block or an error; tells whether there is still someone to take it.
    pub fn give(&self, block: io::Result<Vec<u8>>) -> bool {
        self.send.send(block).is_ok()
    }

    /// An empty block.
    pub fn empty(&self) -> Vec<u8> {
        let mut block = self.used();
        block.clear();
        block
    }

    /// A block that was used before, with what is left in it, so that nobody pays for clearing what is overwritten.
    fn used(&self) -> Vec<u8> {
        self.used.try_recv().unwrap_or_default()
    }
}

impl BufRead for Blocks {
    fn fill_buf(&mut self) -> io::Result<&[u8]> {
        if self.at == self.block.len()
            && let Ok(next) = self.given.recv()
        {
            let used = std::mem::replace(&mut self.block, next?);
            self.at = 0;
            // The far end may be gone already.
            let _ = self.used.send(used);
        }
        Ok(&self.block[self.at..])
    }

    fn consume(&mut self, amount: usize) {
        self.at = (self.at + amount).min(self.block.len());
    }
}

impl Read for Blocks {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let ready = self.fill_buf()?;
        let got = ready.len().min(buffer.len());
        buffer[..got].copy_from_slice(&ready[..got]);
        self.consume(got);
        Ok(got)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Gives a few bytes at a time, and then an end or an error.
    struct Drops(Vec<u8>, Option<io::ErrorKind>);

    impl Read for Drops {
        fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
            if let (true, Some(kind)) = (self.0.is_empty(), self.1) {
                return Err(kind.into());
            }
            let got = buffer.len().min(self.0.len()).min(70_000);
            buffer[..got].copy_from_slice(&self.0[..got]);
            self.0.drain(..got);
            Ok(got)
        }
    }

    #[test]
    fn every_byte_arrives_in_order_and_an_error_comes_after_what_was_read() {
        let bytes: Vec<u8> = (0..3_000_000u32).map(|n| (n % 251) as u8).collect();
        for failure in [None, Some(io::ErrorKind::ConnectionReset)] {
            std::thread::scope(|scope| {
                let mut got = Vec::new();
                let ended = ahead(scope, Drops(bytes.clone(), failure)).read_to_end(&mut got);
                assert_eq!((got.len(), ended.map_err(|error| error.kind()).err()), (bytes.len(), failure));
                assert!(got == bytes);
            });
        }
        std::thread::scope(|scope| drop(ahead(scope, io::repeat(1))));
    }
}
