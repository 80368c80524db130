//! Verifications.

use kladder_choose::names::RungKey;
use kladder_core::base::event::{Confined, Kept, Outcome, Subject, Verdict as Judged};
use kladder_core::climb::Verified as All;
use kladder_core::prove::mend::{self, Way};
use kladder_core::prove::together::{Met, Proof, Together as Seen};
use kladder_core::tasks::Rung;
use schemars::JsonSchema;
use serde::Serialize;

use crate::words;

/// What came of a verification.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Verify {
    /// `kladder.verify/4`
    pub format: &'static str,
    /// When it was verified before (RFC 3339); null for the first time.
    pub since: Option<String>,
    /// How many passed.
    pub passed: usize,
    /// How many failed.
    pub failed: usize,
    /// How many were not looked at.
    pub skipped: usize,
    /// Each of them.
    pub verdicts: Vec<Verified>,
    /// Who was seen to work with whom in rehearsals.
    pub together: Together,
    /// What programs could be kept from; `null` where none was run.
    pub kept_from: Option<Confined>,
    /// What this system could not keep them from.
    pub not_kept_from: Vec<Kept>,
}

/// Who was seen to work with whom.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Together {
    /// Whether every start was seen, or those through launchers alone; `null` where nothing was started.
    pub watched: Option<bool>,
    /// Needs between two rungs, and whether they were seen to work.
    pub needs: Vec<Needed>,
    /// Of those, how many are proved, in percent; `null` where there are none.
    pub proved_percent: Option<u8>,
    /// Rungs that were seen together.
    pub met: Vec<Pair>,
}

/// A need between two rungs.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Needed {
    /// Who needs.
    pub rung: RungKey,
    /// Whom.
    pub needs: RungKey,
    /// Whether that was seen to work.
    pub proof: Proof,
}

/// Two rungs that were seen together.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Pair {
    /// The one.
    pub rung: RungKey,
    /// The other.
    pub with: RungKey,
    /// How they were seen.
    pub how: Met,
}

impl Together {
    fn of(together: &Seen, rungs: &[Rung]) -> Self {
        let needs = together.needs(rungs);
        let proved = needs.iter().filter(|need| need.proof == Proof::Proved).count();
        let percent = (proved * 100).checked_div(needs.len());
        let pair = |((rung, with), how): (&(RungKey, RungKey), &Met)| Pair {
            rung: rung.clone(),
            with: with.clone(),
            how: *how,
        };
        Self {
            watched: together.is_watched,
            proved_percent: percent.and_then(|percent| u8::try_from(percent).ok()),
            met: together.met.iter().map(pair).collect(),
            needs: needs.into_iter().map(|need| Needed { rung: need.by, needs: need.of, proof: need.proof }).collect(),
        }
    }
}

/// What came of one look.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Verdict {
    /// What was looked at.
    pub subject: Subject,
    /// What is claimed of it, in words.
    pub claim: String,
    /// How it came out, as facts.
    #[serde(flatten)]
    pub outcome: Outcome,
    /// Why, in words, where it did not pass.
    pub why: Option<String>,
    /// How long it took.
    pub seconds: f64,
}

impl Verdict {
    /// The shape of a verdict.
    pub fn of(Judged { subject, outcome, took }: &Judged) -> Self {
        Self {
            subject: subject.clone(),
            claim: words::claim(subject),
            outcome: outcome.clone(),
            why: match outcome {
                Outcome::Passed => None,
                Outcome::Failed { finding, .. } => Some(words::finding(finding)),
                Outcome::Skipped(skipped) => Some(words::skipped(skipped)),
            },
            seconds: took.as_secs_f64(),
        }
    }
}

/// What came of one look in a verification.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Verified {
    /// What came of it.
    #[serde(flatten)]
    pub verdict: Verdict,
    /// Whether it failed the last time; null where it was not looked at then.
    pub failed_before: Option<bool>,
    /// What helps, where it failed.
    pub mend: Option<Mend>,
}

/// What helps.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Mend {
    /// The command or commands, one a line; null where there is none.
    pub command: Option<String>,
    /// The same in words.
    pub words: String,
    /// Whether `verify --mend` does it, does it after a question, or leaves it to the person.
    pub way: Way,
}

impl Verified {
    fn of(verdict: &Judged, all: &All) -> Self {
        let mend = |mend: mend::Mend| Mend {
            command: words::mend_command(&mend, &all.closed),
            words: words::mend(&mend, &all.closed),
            way: mend.way(),
        };
        let shape = Verdict::of(verdict);
        let why = words::closed(&verdict.subject, &all.closed).or(shape.why);
        Self {
            verdict: Verdict { why, ..shape },
            failed_before: all.before.as_ref().and_then(|before| before.failed(&verdict.subject)),
            mend: mend::Mend::of(verdict).map(mend),
        }
    }
}

impl Verify {
    /// The shape's name and version.
    pub const FORMAT: &'static str = "kladder.verify/4";

    /// The shape of what came of it.
    pub fn of(verified: &All, rungs: &[Rung]) -> Self {
        let verdicts = &verified.verdicts;
        let number = |wanted: fn(&Outcome) -> bool| verdicts.iter().filter(|v| wanted(&v.outcome)).count();
        Self {
            format: Self::FORMAT,
            passed: number(|outcome| matches!(outcome, Outcome::Passed)),
            failed: number(|outcome| matches!(outcome, Outcome::Failed { .. })),
            skipped: number(|outcome| matches!(outcome, Outcome::Skipped(_))),
            since: verified.before.as_ref().map(|before| before.at.to_string()),
            verdicts: verdicts.iter().map(|verdict| Verified::of(verdict, verified)).collect(),
            together: Together::of(&verified.together, rungs),
            kept_from: verified.kept.clone(),
            not_kept_from: verified.kept.iter().flat_map(Confined::not_from).collect(),
        }
    }
}
