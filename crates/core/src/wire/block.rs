//! The block: put into a file's bytes, found again, taken out so that nothing is left.
//!
//! It begins and ends with a line of its own. The first line also says what was done to make room for it, so that taking it out
//! needs no other memory: a line before it had no end, or there was no file at all.
//!
//! ```
//! use kladder_core::wire::block::{is_own, put, take_out};
//!
//! // A last line without an end gets one, and loses it again.
//! let wired = put(Some(b"alias ll='ls -l'"), b". '/data/start.sh'\n")?;
//! assert!(wired.starts_with(b"alias ll='ls -l'\n# Kite Ladder begins here"));
//! assert_eq!(take_out(&wired)?.as_deref(), Some(b"alias ll='ls -l'".as_slice()));
//! // Another text takes the place of the one that stands there; the rest of the file keeps its bytes.
//! let moved = put(Some(&wired), b". '/elsewhere/start.sh'\n")?;
//! assert_eq!(take_out(&moved)?, take_out(&wired)?);
//! // A file that was made for it is told by its own first line, and can go with it.
//! assert!(is_own(&put(None, b". '/data/start.sh'\n")?) && !is_own(&wired));
//! # Ok::<(), kladder_core::wire::block::NoEnd>(())
//! ```

/// Why a block cannot be found out about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("line {line} begins a block of Kite Ladder that has no end")]
pub struct NoEnd {
    /// The line, from 1.
    pub line: usize,
}

const BEGIN: &str = "# Kite Ladder begins here";
const AFTER_CUT: &str = ", after a line that had no end";
const OWN_FILE: &str = ", in a file of its own";
const HINT: &str = "; `kladder unwire` takes these lines out.\n";
const END: &str = "# Kite Ladder ends here.\n";

/// What was there before the block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Room {
    Nothing,
    Lines,
    CutLine,
}

impl Room {
    fn words(self) -> &'static str {
        match self {
            Self::Nothing => OWN_FILE,
            Self::Lines => "",
            Self::CutLine => AFTER_CUT,
        }
    }
}

/// Where a block is.
struct Found {
    from: usize,
    to: usize,
    room: Room,
}

/// The first block at or behind a position.
fn find(bytes: &[u8], from: usize) -> Result<Option<Found>, NoEnd> {
    let mut at = from;
    let mut begun: Option<(usize, Room)> = None;
    for line in bytes[from..].split_inclusive(|&byte| byte == b'\n') {
        if begun.is_none() {
            let rest = line.strip_prefix(BEGIN.as_bytes());
            let room = rest.and_then(|rest| {
                let rooms = [Room::Nothing, Room::CutLine, Room::Lines];
                rooms.into_iter().find(|room| rest.starts_with([room.words(), ";"].concat().as_bytes()))
            });
            begun = room.map(|room| (at, room));
        } else if line == END.as_bytes() || line == END.trim_end().as_bytes() {
            return Ok(begun.map(|(from, room)| Found { from, to: at + line.len(), room }));
        }
        at += line.len();
    }
    match begun {
        None => Ok(None),
        Some((from, _)) => Err(NoEnd { line: bytes[..=from].split(|&byte| byte == b'\n').count() }),
    }
}

/// The bytes of a file (`None` where there is none) with a block of these lines: where one stands it is replaced, else it goes
/// to the end.
///
/// # Errors
/// [`NoEnd`] where a block begins and does not end.
pub fn put(before: Option<&[u8]>, lines: &[u8]) -> Result<Vec<u8>, NoEnd> {
    let block =
        |room: Room| [BEGIN.as_bytes(), room.words().as_bytes(), HINT.as_bytes(), lines, END.as_bytes()].concat();
    let Some(bytes) = before else { return Ok(block(Room::Nothing)) };
    if let Some(Found { from, to, room }) = find(bytes, 0)? {
        // Any further one would be there by somebody's copying.
        let rest = take_out(&bytes[to..])?;
        return Ok([&bytes[..from], &block(room), rest.as_deref().unwrap_or(&bytes[to..])].concat());
    }
    let is_cut = bytes.last().is_some_and(|&byte| byte != b'\n');
    let room = if is_cut { Room::CutLine } else { Room::Lines };
    Ok([bytes, if is_cut { b"\n" } else { b"" }, &block(room)].concat())
}

/// The bytes without any block; `None` where there is none. Empty ones are of a file that was made for the block.
///
/// # Errors
/// [`NoEnd`] where a block begins and does not end.
pub fn take_out(bytes: &[u8]) -> Result<Option<Vec<u8>>, NoEnd> {
    let (mut left, mut at) = (Vec::new(), 0);
    while let Some(Found { from, to, room }) = find(bytes, at)? {
        left.extend_from_slice(&bytes[at..from]);
        // What somebody wrote behind it since must not be joined to the line before.
        if room == Room::CutLine && to == bytes.len() && left.last() == Some(&b'\n') {
            left.pop();
        }
        at = to;
    }
    if at == 0 {
        return Ok(None);
    }
    left.extend_from_slice(&bytes[at..]);
    Ok(Some(left))
}

/// Whether a file with a block was made for it.
pub fn is_own(bytes: &[u8]) -> bool {
    bytes.starts_with([BEGIN, OWN_FILE].concat().as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn there_and_back(before: Option<&[u8]>) -> Option<Vec<u8>> {
        let put_in = put(before, b"line one\nline two\n").unwrap();
        assert_eq!(put(Some(&put_in), b"line one\nline two\n").unwrap(), put_in, "a second time changes nothing");
        let other = put(Some(&put_in), b"another\n").unwrap();
        assert_eq!(take_out(&other).unwrap(), take_out(&put_in).unwrap());
        take_out(&put_in).unwrap()
    }

    #[test]
    fn whatever_the_bytes_taking_out_leaves_just_them() {
        let shapes: [&[u8]; 9] = [
            b"",
            b"\n",
            b"a",
            b"a\n",
            b"a\r\nb\r\n",
            b"a\r\nb",
            b"\xff\xfe\0",
            b"\n\n\n",
            b"# Kite Ladder begins here\n",
        ];
        for before in shapes {
            assert_eq!(there_and_back(Some(before)).as_deref(), Some(before), "{before:?}");
        }
        assert_eq!(there_and_back(None), Some(Vec::new()));
    }

    proptest! {
        #[test]
        fn any_bytes_come_back(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            prop_assert_eq!(there_and_back(Some(&bytes)), Some(bytes));
        }
    }

    #[test]
    fn what_was_written_around_it_since_stays_and_a_block_without_end_is_told() {
        let put_in = put(Some(b"a"), b"x\n").unwrap();
        let more = [b"first\n", put_in.as_slice(), b"last\n"].concat();
        assert_eq!(take_out(&more).unwrap().as_deref(), Some(b"first\na\nlast\n".as_slice()));
        let twice = [put_in.as_slice(), &put_in].concat();
        assert_eq!(take_out(&twice).unwrap().as_deref(), Some(b"a\na".as_slice()));
        let cut = [b"one\n", &put_in[..put_in.len() - 4]].concat();
        assert_eq!((take_out(&cut), put(Some(&cut), b"")), (Err(NoEnd { line: 3 }), Err(NoEnd { line: 3 })));
    }
}
