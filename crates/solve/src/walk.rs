//! The order of decisions: the wishes first, then breadth-first the needs of what meets them.
//!
//! A requirement is met by the first of its candidates that the walk has picked before, else by the first that is not
//! ruled out. Since candidates are only ruled out by what follows from earlier decisions, the walk ends with the picks
//! that plain backtracking in this order would find first, whatever was tried and learned on the way.

use std::ops::Range;

use crate::engine::{Engine, Var};

/// The requirements that a candidate brings.
pub(crate) trait Requirements {
    fn of(&self, var: Var) -> Range<usize>;
}

/// How far the walk has come.
#[derive(Clone, Copy, Default)]
struct Mark {
    cursor: usize,
    queued: usize,
    picked: usize,
}

/// A walk over requirements that can be taken back.
#[derive(Default)]
pub(crate) struct Walk {
    queue: Vec<usize>,
    cursor: usize,
    picked: Vec<Var>,
    /// By variable: where it would stand in `picked`.
    place: Vec<usize>,
    /// The state at each choice.
    marks: Vec<Mark>,
}

impl Walk {
    /// A walk that starts with these requirements.
    pub(crate) fn from(requirements: Range<usize>) -> Self {
        Self { queue: requirements.collect(), ..Self::default() }
    }

    /// The candidates picked so far, in order.
    pub(crate) fn picked(&self) -> &[Var] {
        &self.picked
    }

    /// Remembers the state; to be called before each choice.
    pub(crate) fn mark(&mut self) {
        self.marks.push(Mark { cursor: self.cursor, queued: self.queue.len(), picked: self.picked.len() });
    }

    /// Takes the walk back to where it was when `depth` choices stood.
    pub(crate) fn back_to(&mut self, depth: usize) {
        let Some(&Mark { cursor, queued, picked }) = self.marks.get(depth) else { return };
        self.cursor = cursor;
        self.queue.truncate(queued);
        self.picked.truncate(picked);
        self.marks.truncate(depth);
    }

    /// Goes on as far as nothing has to be chosen; returns what is to be chosen then, `None` at the end.
    pub(crate) fn advance(
        &mut self,
        engine: &Engine,
        requirements: &[Vec<Var>],
        brings: &impl Requirements,
    ) -> Option<Var> {
        while let Some(&requirement) = self.queue.get(self.cursor) {
            let candidates = &requirements[requirement];
            if !candidates.iter().any(|&var| self.is_picked(var)) {
                let open = candidates.iter().copied().find(|&var| engine.value(var) != Some(false));
                let var = open.expect("a clause that holds has a literal that is not false");
                if engine.value(var).is_none() {
                    return Some(var);
                }
                self.pick(var, brings.of(var));
            }
            self.cursor += 1;
        }
        None
    }

    fn is_picked(&self, var: Var) -> bool {
        self.place.get(var).is_some_and(|&at| self.picked.get(at) == Some(&var))
    }

    fn pick(&mut self, var: Var, brings: Range<usize>) {
        if self.place.len() <= var {
            self.place.resize(var + 1, usize::MAX);
        }
        self.place[var] = self.picked.len();
        self.picked.push(var);
        self.queue.extend(brings);
    }
}
