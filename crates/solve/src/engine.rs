//! Assignment, propagation and learning over plain numbers; knows nothing of packages.

use std::ops::Range;

/// A candidate.
pub(crate) type Var = usize;
/// Position of a clause.
pub(crate) type ClauseId = usize;

/// Going back over more levels than these is put off.
const FAR: usize = 20;

/// A variable or its negation.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) struct Lit(u32);

impl Lit {
    pub(crate) fn yes(var: Var) -> Self {
        Self(u32::try_from(var).expect("fewer than 2^31 candidates") << 1)
    }
    pub(crate) fn no(var: Var) -> Self {
        Self(Self::yes(var).0 | 1)
    }
    pub(crate) fn var(self) -> Var {
        (self.0 >> 1) as Var
    }
    pub(crate) fn positive(self) -> bool {
        self.0 & 1 == 0
    }
    fn index(self) -> usize {
        self.0 as usize
    }
    fn negated(self) -> Self {
        Self(self.0 ^ 1)
    }
}

/// Why a variable has its value.
#[derive(Clone, Copy)]
enum Reason {
    Chosen,
    Clause(ClauseId),
    /// Another candidate of the same group is true.
    Sibling(Var),
}

/// A broken rule, in a form that can be analysed.
pub(crate) enum Conflict {
    Clause(ClauseId),
    Siblings(Var, Var),
}

struct Clause {
    lits: Vec<Lit>,
    /// For a learned clause, what it was derived from; empty for one that was given.
    parents: Parents,
}

#[derive(Default, Clone)]
struct Parents {
    clauses: Vec<ClauseId>,
    /// Variables fixed at level 0 that were left out on the way; their reasons belong to it.
    fixed: Vec<Var>,
}

struct Assigned {
    value: bool,
    level: usize,
    reason: Reason,
}

/// The search state.
#[derive(Default)]
pub(crate) struct Engine {
    /// By variable: its group, as a stretch of variables.
    group_of: Vec<Range<Var>>,
    assigned: Vec<Option<Assigned>>,
    clauses: Vec<Clause>,
    /// By literal: the clauses that watch it and must be looked at when it becomes false.
    watches: Vec<Vec<ClauseId>>,
    trail: Vec<Lit>,
    levels: Vec<usize>,
    head: usize,
    /// By variable: the analysis that saw it last. Spares clearing it each time.
    seen: Vec<u64>,
    analyses: u64,
}

impl Engine {
    /// Adds a group of variables of which at most one may be true; returns them.
    pub(crate) fn add_group(&mut self, size: usize) -> Range<Var> {
        let first = self.group_of.len();
        let vars = first..first + size;
        self.group_of.resize(vars.end, vars.clone());
        self.assigned.resize_with(vars.end, || None);
        self.watches.resize_with(2 * vars.end, Vec::new);
        self.seen.resize(vars.end, 0);
        vars
    }

    /// The value of a variable, if it has one.
    pub(crate) fn value(&self, var: Var) -> Option<bool> {
        self.assigned[var].as_ref().map(|a| a.value)
    }

    /// The literals assigned so far, oldest first.
    pub(crate) fn trail(&self) -> &[Lit] {
        &self.trail
    }

    /// How much of the trail has stood since before the last lesson.
    pub(crate) fn kept(&self) -> usize {
        self.head
    }

    /// How many choices stand.
    pub(crate) fn depth(&self) -> usize {
        self.levels.len()
    }

    fn holds(&self, lit: Lit) -> Option<bool> {
        self.value(lit.var()).map(|value| value == lit.positive())
    }

    fn level_of(&self, var: Var) -> usize {
        self.assigned[var].as_ref().map_or(usize::MAX, |a| a.level)
    }

    fn assign(&mut self, lit: Lit, reason: Reason, level: usize) {
        self.assigned[lit.var()] = Some(Assigned { value: lit.positive(), level, reason });
        self.trail.push(lit);
    }

    /// The level from which on a clause forces its first literal, all others being false.
    fn level_of_rest(&self, id: ClauseId) -> usize {
        self.clauses[id].lits[1..].iter().map(|lit| self.level_of(lit.var())).max().unwrap_or(0)
    }

    /// Opens a level and makes `var` true.
    pub(crate) fn choose(&mut self, var: Var) {
        self.levels.push(self.trail.len());
        self.assign(Lit::yes(var), Reason::Chosen, self.levels.len());
    }

    /// Adds a clause; it may be broken, or leave one literal open, under the present assignment.
    pub(crate) fn add_clause(&mut self, lits: Vec<Lit>) -> (ClauseId, Option<Conflict>) {
        self.insert(lits, Parents::default())
    }

    fn insert(&mut self, mut lits: Vec<Lit>, parents: Parents) -> (ClauseId, Option<Conflict>) {
        // The two watched literals must be the last to become free on backtracking.
        for front in 0..lits.len().min(2) {
            let is_open = |lit: &Lit| self.holds(*lit) != Some(false);
            let last_false = || (front..lits.len()).max_by_key(|&at| self.level_of(lits[at].var()));
            let open = lits[front..].iter().position(is_open).map(|at| front + at);
            let best = open.or_else(last_false).unwrap_or(front);
            lits.swap(front, best);
        }
        let id = self.clauses.len();
        for lit in lits.iter().take(2) {
            self.watches[lit.index()].push(id);
        }
        let first = lits.first().copied();
        let rest_false = lits.iter().skip(1).all(|&lit| self.holds(lit) == Some(false));
        self.clauses.push(Clause { lits, parents });
        match first.map(|lit| (lit, self.holds(lit))) {
            None | Some((_, Some(false))) => return (id, Some(Conflict::Clause(id))),
            Some((lit, None)) if rest_false => self.assign(lit, Reason::Clause(id), self.level_of_rest(id)),
            Some(_) => {}
        }
        (id, None)
    }

    /// Draws every conclusion from what is assigned.
    pub(crate) fn propagate(&mut self) -> Option<Conflict> {
        while self.head < self.trail.len() {
            let lit = self.trail[self.head];
            self.head += 1;
            if lit.positive()
                && let Some(conflict) = self.exclude_siblings(lit.var())
            {
                return Some(conflict);
            }
            if let Some(conflict) = self.visit_watchers(lit.negated()) {
                return Some(conflict);
            }
        }
        None
    }

    fn exclude_siblings(&mut self, var: Var) -> Option<Conflict> {
        let level = self.level_of(var);
        for other in self.group_of[var].clone() {
            match self.value(other) {
                _ if other == var => {}
                Some(true) => return Some(Conflict::Siblings(var, other)),
                Some(false) => {}
                None => self.assign(Lit::no(other), Reason::Sibling(var), level),
            }
        }
        None
    }

    fn visit_watchers(&mut self, false_lit: Lit) -> Option<Conflict> {
        let mut watching = std::mem::take(&mut self.watches[false_lit.index()]);
        let mut conflict = None;
        watching.retain(|&id| {
            if conflict.is_some() {
                return true;
            }
            match self.rewatch(id, false_lit) {
                Rewatched::Moved => false,
                Rewatched::Kept => true,
                Rewatched::Broken => {
                    conflict = Some(Conflict::Clause(id));
                    true
                }
            }
        });
        self.watches[false_lit.index()].append(&mut watching);
        conflict
    }

    fn rewatch(&mut self, id: ClauseId, false_lit: Lit) -> Rewatched {
        let clause = &mut self.clauses[id].lits;
        if clause[0] == false_lit && clause.len() > 1 {
            clause.swap(0, 1);
        }
        let first = clause[0];
        let value_of =
            |lit: Lit, assigned: &[Option<Assigned>]| assigned[lit.var()].as_ref().map(|a| a.value == lit.positive());
        if value_of(first, &self.assigned) == Some(true) {
            return Rewatched::Kept;
        }
        let free = (2..clause.len()).find(|&at| value_of(clause[at], &self.assigned) != Some(false));
        if let Some(at) = free {
            clause.swap(1, at);
            let now = clause[1];
            self.watches[now.index()].push(id);
            return Rewatched::Moved;
        }
        if value_of(first, &self.assigned) == Some(false) {
            return Rewatched::Broken;
        }
        self.assign(first, Reason::Clause(id), self.level_of_rest(id));
        Rewatched::Kept
    }

    /// Learns from a conflict and goes back.
    ///
    /// The lesson holds from some lower level on, but when that is far, only the last choice is taken back and the lesson
    /// is put in out of order (chronological backtracking; Nadel and Ryvchin, SAT 2018): since choices come in a fixed
    /// order, those in between would be made again as they were.
    ///
    /// # Errors
    /// The given clauses that together refute the problem, when the conflict does not depend on any choice.
    pub(crate) fn learn(&mut self, conflict: &Conflict) -> Result<(), Vec<ClauseId>> {
        let here = self.level_of_conflict(conflict);
        self.undo_to(here);
        if here == 0 {
            return Err(self.refutation(conflict));
        }
        let (lits, parents) = self.analyse(conflict);
        let holds_from = lits.iter().skip(1).map(|lit| self.level_of(lit.var())).max().unwrap_or(0);
        self.undo_to(if here - holds_from > FAR { here - 1 } else { holds_from });
        match self.insert(lits, parents).1 {
            None => Ok(()),
            // Only an empty lesson, or one over level 0 alone, is broken right after going back.
            Some(conflict) => Err(self.refutation(&conflict)),
        }
    }

    /// The level at which the conflict came about: a clause added late may be broken below the present one.
    fn level_of_conflict(&self, conflict: &Conflict) -> usize {
        let lits = self.lits_of(conflict, &mut Parents::default());
        lits.iter().map(|lit| self.level_of(lit.var())).max().unwrap_or(0)
    }

    fn undo_to(&mut self, level: usize) {
        if level >= self.levels.len() {
            return;
        }
        let keep = self.levels[level];
        let mut kept = keep;
        for at in keep..self.trail.len() {
            let lit = self.trail[at];
            if self.level_of(lit.var()) <= level {
                self.trail[kept] = lit;
                kept += 1;
            } else {
                self.assigned[lit.var()] = None;
            }
        }
        self.trail.truncate(kept);
        self.levels.truncate(level);
        // What was put in out of order may have more to say now.
        self.head = keep;
    }

    /// The clause learned at the first unique implication point, asserting literal first.
    fn analyse(&mut self, conflict: &Conflict) -> (Vec<Lit>, Parents) {
        let here = self.levels.len();
        self.analyses += 1;
        let now = self.analyses;
        let mut parents = Parents::default();
        let mut lesson = Vec::new();
        let mut open = 0;
        let mut pending = self.lits_of(conflict, &mut parents);
        let mut at = self.trail.len();
        loop {
            for lit in pending {
                if std::mem::replace(&mut self.seen[lit.var()], now) == now {
                    continue;
                }
                match self.level_of(lit.var()) {
                    0 => parents.fixed.push(lit.var()),
                    level if level == here => open += 1,
                    _ => lesson.push(lit),
                }
            }
            let is_next = |&i: &usize| {
                let var = self.trail[i].var();
                self.seen[var] == now && self.level_of(var) == here
            };
            at = (0..at).rev().find(is_next).unwrap_or(0);
            let lit = self.trail[at];
            if open <= 1 {
                lesson.insert(0, lit.negated());
                return (lesson, parents);
            }
            open -= 1;
            pending = self.reason_lits(lit.var(), &mut parents);
        }
    }

    fn lits_of(&self, conflict: &Conflict, parents: &mut Parents) -> Vec<Lit> {
        match *conflict {
            Conflict::Siblings(a, b) => vec![Lit::no(a), Lit::no(b)],
            Conflict::Clause(id) => {
                parents.clauses.push(id);
                self.clauses[id].lits.clone()
            }
        }
    }

    /// The other literals of the clause that forced `var`.
    fn reason_lits(&self, var: Var, parents: &mut Parents) -> Vec<Lit> {
        match self.assigned[var].as_ref().map(|a| a.reason) {
            None | Some(Reason::Chosen) => Vec::new(),
            Some(Reason::Sibling(other)) => vec![Lit::no(other)],
            Some(Reason::Clause(id)) => {
                parents.clauses.push(id);
                self.clauses[id].lits.iter().copied().filter(|lit| lit.var() != var).collect()
            }
        }
    }

    /// The given clauses below a conflict at level 0.
    fn refutation(&self, conflict: &Conflict) -> Vec<ClauseId> {
        let mut parents = Parents::default();
        let mut vars: Vec<Var> = self.lits_of(conflict, &mut parents).iter().map(|lit| lit.var()).collect();
        let mut clauses = parents.clauses;
        let (mut seen_var, mut seen) = (vec![false; self.group_of.len()], vec![false; self.clauses.len()]);
        let mut given = Vec::new();
        loop {
            if let Some(id) = clauses.pop() {
                if std::mem::replace(&mut seen[id], true) {
                    continue;
                }
                let parents = &self.clauses[id].parents;
                if parents.clauses.is_empty() && parents.fixed.is_empty() {
                    given.push(id);
                }
                clauses.extend(&parents.clauses);
                vars.extend(&parents.fixed);
            } else if let Some(var) = vars.pop() {
                if !std::mem::replace(&mut seen_var[var], true) {
                    let mut parents = Parents::default();
                    vars.extend(self.reason_lits(var, &mut parents).iter().map(|lit| lit.var()));
                    clauses.extend(parents.clauses);
                }
            } else {
                given.sort_unstable();
                return given;
            }
        }
    }
}

enum Rewatched {
    Moved,
    Kept,
    Broken,
}
