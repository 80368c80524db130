//! Which yard is tried when: retries with growing pauses, failover, and the end of patience. Pure: it is told what
//! happened and says what to do next.
//!
//! Every yard is tried once before any pause. A yard that cannot deliver (it lacks the file, has other bytes) is out; one
//! that broke is tried again in the next round. Pauses double from round to round and are jittered, so that forty machines
//! that lost the same yard do not come back at once.

use std::time::Duration;

/// Longest pause between two rounds.
const LONGEST: Duration = Duration::from_secs(20);
/// A yard that wants to be left alone for longer is out.
const TOO_LATE: Duration = Duration::from_mins(2);
/// Attempts in all, so that a yard that sends a byte a time comes to an end.
const MOST: usize = 100;

/// How an attempt ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Outcome {
    /// It broke, and may do better.
    Broke {
        /// Bytes came that will not have to be sent again.
        progress: bool,
        /// The yard asked to be left alone for this long.
        pause: Option<Duration>,
    },
    /// It will not do better.
    Hopeless,
}

/// What to do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Next {
    /// Try this yard, after a pause.
    Try {
        /// Which one, from 0.
        yard: usize,
        /// How long to wait before.
        after: Duration,
    },
    /// There is no more hope.
    GiveUp,
}

/// The way through the yards for one artifact.
#[derive(Clone, Debug)]
pub(super) struct Course {
    /// For each yard: whether it is still in, and how long it must be left alone from the end of the round.
    yards: Vec<Option<Duration>>,
    at: usize,
    round: u32,
    rounds: u32,
    attempts: usize,
    pause: Duration,
    /// State of the jitter (xorshift, Marsaglia 2003).
    dice: u64,
}

impl Course {
    /// A course through `yards` yards with this many retries, the first after `pause`. `seed` jitters the pauses.
    pub(super) fn new(yards: usize, retries: u32, pause: Duration, seed: u64) -> Self {
        let yards = vec![Some(Duration::ZERO); yards];
        Self { yards, at: 0, round: 0, rounds: retries, attempts: 0, pause, dice: seed | 1 }
    }

    /// The first attempt.
    pub(super) fn first(&mut self) -> Next {
        self.go(0)
    }

    /// What follows an attempt.
    pub(super) fn after(&mut self, outcome: Outcome) -> Next {
        match outcome {
            Outcome::Hopeless => self.yards[self.at] = None,
            Outcome::Broke { pause: Some(pause), .. } if pause > TOO_LATE => self.yards[self.at] = None,
            // What came stays, and patience starts anew; the next yard goes on from there.
            Outcome::Broke { progress: true, pause: None } if self.rounds > 0 => self.round = 0,
            Outcome::Broke { pause, .. } => self.yards[self.at] = Some(pause.unwrap_or_default()),
        }
        self.go(self.at + 1)
    }

    /// The next yard from `from` on that is still in, in this round or the next.
    fn go(&mut self, from: usize) -> Next {
        self.attempts += 1;
        if self.attempts > MOST {
            return Next::GiveUp;
        }
        let free = (from..self.yards.len()).find(|&yard| self.yards[yard].is_some());
        if let Some(yard) = free {
            return self.take(yard, Duration::ZERO);
        }
        let soonest =
            (0..self.yards.len()).filter(|&yard| self.yards[yard].is_some()).min_by_key(|&yard| self.yards[yard]);
        match soonest {
            Some(yard) if self.round < self.rounds => {
                let after = self.jittered().max(self.yards[yard].unwrap_or_default());
                self.round += 1;
                self.take(yard, after)
            }
            _ => Next::GiveUp,
        }
    }

    fn take(&mut self, yard: usize, after: Duration) -> Next {
        self.at = yard;
        Next::Try { yard, after }
    }

    /// Between 0.75 and 1.25 of this round's pause.
    fn jittered(&mut self) -> Duration {
        self.dice ^= self.dice << 13;
        self.dice ^= self.dice >> 7;
        self.dice ^= self.dice << 17;
        let part = u32::try_from(self.dice % 500).unwrap_or(0);
        (self.pause * 2u32.saturating_pow(self.round)).min(LONGEST) * (750 + part) / 1000
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const PAUSE: Duration = Duration::from_millis(100);
    const BROKE: Outcome = Outcome::Broke { progress: false, pause: None };

    fn asked_for(seconds: u64) -> Outcome {
        Outcome::Broke { progress: false, pause: Some(Duration::from_secs(seconds)) }
    }

    /// The yards that are tried, and the pauses before them in tenths of a second, until hope ends.
    fn tried(yards: usize, outcomes: &[Outcome]) -> Vec<(usize, u128)> {
        let mut course = Course::new(yards, 2, PAUSE, 412);
        let (mut tried, mut next) = (Vec::new(), course.first());
        for outcome in outcomes.iter().chain(std::iter::repeat(&BROKE)) {
            let Next::Try { yard, after } = next else { return tried };
            tried.push((yard, after.as_millis().div_ceil(100)));
            next = course.after(*outcome);
        }
        tried
    }

    #[test]
    fn each_yard_is_tried_before_the_first_pause_and_pauses_grow() {
        let rounds = tried(2, &[]);
        assert_eq!(rounds.iter().map(|(yard, _)| *yard).collect::<Vec<_>>(), [0, 1, 0, 1, 0, 1]);
        assert_eq!((rounds[1].1, rounds[3].1), (0, 0));
        assert!((1..=2).contains(&rounds[2].1) && (2..=3).contains(&rounds[4].1), "{rounds:?}");
    }

    #[test]
    fn hopeless_yards_are_not_tried_again() {
        assert_eq!(tried(2, &[Outcome::Hopeless, Outcome::Hopeless]), [(0, 0), (1, 0)]);
        assert!(tried(2, &[Outcome::Hopeless])[1..].iter().all(|(yard, _)| *yard == 1));
        assert_eq!(tried(0, &[]), []);
    }

    #[test]
    fn a_yard_is_left_alone_for_as_long_as_it_asks_unless_that_is_too_long() {
        assert_eq!(tried(1, &[asked_for(7)])[1], (0, 70));
        assert_eq!(tried(2, &[asked_for(7), asked_for(3)])[2], (1, 30), "the one that may be asked sooner");
        assert_eq!(tried(1, &[asked_for(121)]), [(0, 0)]);
    }

    #[test]
    fn progress_starts_patience_anew_but_not_for_ever() {
        let some = Outcome::Broke { progress: true, pause: None };
        let tries = tried(2, &[some; 8]);
        assert!(tries[..=8].iter().all(|(yard, after)| (*yard == 1) == (*after == 0) || *after == 0), "{tries:?}");
        assert_eq!(tries.len(), 8 + 4, "and then the rounds that are left");
        assert!(tried(1, &[some; 200]).len() <= MOST + 3);
    }
}
