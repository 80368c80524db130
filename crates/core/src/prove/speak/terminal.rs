//! A program in a terminal, as a person would use it: keys go in, and what stands on the screen is read (ECMA-48; what programs ask
//! of a terminal is answered as a VT100 with advanced video would).
//!
//! Threat model: as in talks. What a program draws ends up on a screen of a fixed size, and nowhere else.

use std::borrow::Cow;
use std::fs::File;
use std::io::Write;
use std::sync::mpsc::{Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use kladder_choose::catalog::{Deed, Pattern, Terminal};
use regex::Regex;
use vt100::{Callbacks, Parser, Screen};

use super::{GLANCE, Heard, Said};
use crate::base::event::{Finding, Looked};
use crate::host::process::Lasting;

/// Programs tell the key Escape from the beginning of another key by the time that passes.
const PAUSE: Duration = Duration::from_millis(150);

/// Bytes that are drawn before it is looked at the clock.
const PART: usize = 512;

/// What came of sitting before it, and the screen at the end.
pub(crate) fn sit(
    process: &mut Lasting,
    keys: File,
    terminal: &Terminal,
    limit: u64,
    is_over: &dyn Fn() -> bool,
) -> (Vec<Said>, String) {
    let (columns, lines) = terminal.size;
    let parser = Parser::new_with_callbacks(lines, columns, 0, Answers::default());
    let never = terminal.never.as_ref().map(|never| (never, never.regex()));
    let until = Instant::now() + Duration::from_secs(limit);
    let keys = typist(keys);
    let mut seat = Seat { process, keys, parser, never, unwanted: None, until, limit, is_over };
    let (mut all, since) = (Vec::new(), Instant::now());
    for deed in &terminal.does {
        let (said, done) = seat.does(deed);
        all.extend(said);
        if done.is_none() || is_over() {
            break;
        }
    }
    if let Some((never, _)) = &seat.never {
        let claim = format!("its screen never has anything like `{}`", never.as_str());
        let unwanted = |found| Finding::Unwanted { looked: Looked::Screen, pattern: never.as_str().to_owned(), found };
        let heard = seat.unwanted.take().map_or(Ok(()), |found| Err(unwanted(found)));
        all.push(Said { claim: claim.into(), heard, took: since.elapsed() });
    }
    let screen = seat.screen();
    (all, screen)
}

/// Presses keys without waiting for a program that does not take them.
fn typist(mut keys: File) -> Sender<Vec<u8>> {
    let (send, pressed) = channel::<Vec<u8>>();
    thread::spawn(move || pressed.into_iter().try_for_each(|bytes| keys.write_all(&bytes)));
    send
}

struct Seat<'s, 'p> {
    process: &'p mut Lasting,
    keys: Sender<Vec<u8>>,
    parser: Parser<Answers>,
    never: Option<(&'s Pattern, Regex)>,
    /// What stood on the screen and must not.
    unwanted: Option<String>,
    until: Instant,
    limit: u64,
    /// Whether the user asked for an end.
    is_over: &'s dyn Fn() -> bool,
}

impl<'s> Seat<'s, '_> {
    /// Does one thing; with what is claimed of it comes whether it could be done.
    fn does(&mut self, deed: &'s Deed) -> (Option<Said>, Option<()>) {
        if let Some(pattern) = &deed.shows {
            let claim =
                deed.name.clone().unwrap_or_else(|| format!("its screen has something like `{}`", pattern.as_str()));
            let (said, done) = Said::of(claim, || self.wait_for(pattern));
            return (Some(said), done);
        }
        let typed = deed.types.iter().map(String::as_bytes);
        for bytes in typed.chain(deed.presses.iter().map(kladder_choose::catalog::Key::bytes)) {
            self.press(bytes.to_vec());
            thread::sleep(PAUSE);
            self.look();
        }
        if deed.ends {
            let (said, done) = Said::of("it ends when it is told to", || self.wait_for_the_end());
            return (Some(said), done);
        }
        (None, Some(()))
    }

    fn press(&self, keys: Vec<u8>) {
        // Whoever listens no more is found out by what is seen.
        let _ = self.keys.send(keys);
    }

    /// Draws what the program has said, and answers what it asks.
    fn look(&mut self) {
        let said = self.process.take();
        if said.is_empty() {
            return;
        }
        // A few bytes can want a lot to be drawn.
        for part in said.chunks(PART) {
            if Instant::now() > self.until {
                break;
            }
            self.parser.process(part);
        }
        let answers = std::mem::take(&mut self.parser.callbacks_mut().0);
        self.press(answers);
        if let Some((_, regex)) = self.never.as_ref().filter(|_| self.unwanted.is_none()) {
            self.unwanted = regex.find(&self.screen()).map(|found| found.as_str().to_owned());
        }
    }

    /// The lines of the screen, without blanks at their ends and without empty lines at its own.
    fn screen(&self) -> String {
        let lines: Vec<String> =
            self.parser.screen().contents().lines().map(|line| line.trim_end().to_owned()).collect();
        lines.join("\n").trim_end().to_owned()
    }

    fn wait_for(&mut self, pattern: &Pattern) -> Heard<()> {
        let regex = pattern.regex();
        loop {
            self.look();
            if regex.is_match(&self.screen()) {
                return Ok(());
            }
            if let Some(status) = self.process.ended().ok().flatten() {
                return Err(Finding::EndedEarly { status });
            }
            if Instant::now() > self.until || (self.is_over)() {
                return Err(Finding::NoMatch { looked: Looked::Screen, pattern: pattern.as_str().to_owned() });
            }
            thread::sleep(GLANCE);
        }
    }

    fn wait_for_the_end(&mut self) -> Heard<()> {
        loop {
            self.look();
            match self.process.ended().ok().flatten() {
                Some(0) => return Ok(()),
                Some(status) => return Err(Finding::Status { status, expected: vec![0] }),
                None if Instant::now() > self.until || (self.is_over)() => {
                    return Err(Finding::TooLong { limit: self.limit });
                }
                None => thread::sleep(GLANCE),
            }
        }
    }
}

/// What the terminal has to answer.
#[derive(Default)]
struct Answers(Vec<u8>);

impl Callbacks for Answers {
    fn unhandled_csi(&mut self, screen: &mut Screen, i1: Option<u8>, _: Option<u8>, params: &[&[u16]], last: char) {
        let first = params.first().and_then(|one| one.first()).copied().unwrap_or(0);
        let answer: Cow<'static, str> = match (i1, last, first) {
            // Whether it is well, where the cursor is, what it is.
            (None, 'n', 5) => "\x1b[0n".into(),
            (None, 'n', 6) => {
                let (line, column) = screen.cursor_position();
                format!("\x1b[{};{}R", line + 1, column + 1).into()
            }
            (None, 'c', 0) => "\x1b[?1;2c".into(),
            (Some(b'>'), 'c', 0) => "\x1b[>0;10;0c".into(),
            _ => return,
        };
        self.0.extend(answer.as_bytes());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whatever_a_program_draws_is_only_a_screen() {
        let parts: [&[u8]; 22] = [
            b"\x1b[",
            b"\x1b]",
            b"\x1bP",
            b"\x1b",
            b"?",
            b";",
            b"0",
            b"9",
            b"65535",
            b"99999999999",
            b"H",
            b"r",
            b"J",
            b"K",
            b"L",
            b"M",
            b"@",
            b"X",
            b"h",
            b"\xf0\x9f\x8c\x8a",
            b"\xff\x80",
            b"\r\n\t tide \x08",
        ];
        let mut random = fastrand::Rng::with_seed(17);
        for _ in 0..300 {
            let size = (random.u16(4..12), random.u16(20..40));
            let mut parser = Parser::new_with_callbacks(size.0, size.1, 0, Answers::default());
            let many = random.usize(1..200);
            let text: Vec<u8> = (0..many)
                .flat_map(|_| match random.u8(0..4) {
                    0 => vec![random.u8(..)],
                    1 => vec![random.u8(b'A'..=b'z')],
                    _ => parts[random.usize(0..parts.len())].to_vec(),
                })
                .collect();
            let drawn = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
                parser.process(&text);
                parser.screen().contents().lines().count()
            }));
            assert!(drawn.is_ok_and(|lines| lines <= usize::from(size.0)), "{:?}", String::from_utf8_lossy(&text));
        }
    }
}
