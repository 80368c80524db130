//! Work side by side, as much at once as there are cores for, with what came of it in a fixed order. What would be in each other's
//! way is done one after the other.

use std::collections::BTreeSet;
use std::num::NonZeroUsize;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError};
use std::thread;

/// Something to do, that has `U` for itself meanwhile.
pub(crate) struct Job<'j, U, T> {
    uses: BTreeSet<U>,
    work: Box<dyn FnOnce() -> T + Send + 'j>,
}

impl<'j, U: Ord, T> Job<'j, U, T> {
    pub(crate) fn new(work: impl FnOnce() -> T + Send + 'j) -> Self {
        Self { uses: BTreeSet::new(), work: Box::new(work) }
    }

    pub(crate) fn using(self, uses: impl IntoIterator<Item = U>) -> Self {
        Self { uses: uses.into_iter().collect(), ..self }
    }

    /// With something to do afterwards.
    pub(crate) fn then(self, after: impl FnOnce() + Send + 'j) -> Self
    where
        U: 'j,
        T: 'j,
    {
        let work = self.work;
        let both = move || {
            let done = work();
            after();
            done
        };
        Self { work: Box::new(both), ..self }
    }
}

struct State<'j, U, T> {
    waiting: Vec<(usize, Job<'j, U, T>)>,
    used: BTreeSet<U>,
    done: Vec<(usize, T)>,
    has_failed: bool,
}

impl<'j, U: Ord + Clone, T> State<'j, U, T> {
    /// The first job that is in nobody's way.
    fn next(&mut self) -> Option<(usize, Job<'j, U, T>)> {
        let at = self.waiting.iter().position(|(_, job)| job.uses.is_disjoint(&self.used))?;
        let (number, job) = self.waiting.remove(at);
        self.used.extend(job.uses.iter().cloned());
        Some((number, job))
    }
}

/// Does all of it, `at_once` side by side. After one that fails nothing more is begun.
///
/// # Errors
/// The first one in the order of the jobs, of those that were begun.
pub(crate) fn side_by_side<U: Ord + Clone + Send, T: Send, E: Send>(
    jobs: Vec<Job<'_, U, Result<T, E>>>,
    at_once: NonZeroUsize,
) -> Result<Vec<T>, E> {
    let threads = at_once.get().min(jobs.len());
    let waiting = jobs.into_iter().enumerate().collect();
    let state = Mutex::new(State { waiting, used: BTreeSet::new(), done: Vec::new(), has_failed: false });
    let changed = Condvar::new();
    thread::scope(|scope| {
        for _ in 0..threads {
            scope.spawn(|| work(&state, &changed));
        }
    });
    let mut done = state.into_inner().unwrap_or_else(PoisonError::into_inner).done;
    done.sort_by_key(|(number, _)| *number);
    done.into_iter().map(|(_, result)| result).collect()
}

fn work<U: Ord + Clone, T, E>(state: &Mutex<State<'_, U, Result<T, E>>>, changed: &Condvar) {
    let lock = || state.lock().unwrap_or_else(PoisonError::into_inner);
    let mut open: MutexGuard<'_, _> = lock();
    while !open.waiting.is_empty() && !open.has_failed {
        let Some((number, job)) = open.next() else {
            open = changed.wait(open).unwrap_or_else(PoisonError::into_inner);
            continue;
        };
        drop(open);
        let Job { uses, work } = job;
        // One that panics must not keep the others waiting for what it used.
        let done = std::panic::catch_unwind(std::panic::AssertUnwindSafe(work));
        open = lock();
        open.used.retain(|used| !uses.contains(used));
        changed.notify_all();
        match done {
            Ok(result) => {
                open.has_failed |= result.is_err();
                open.done.push((number, result));
            }
            Err(panic) => {
                open.has_failed = true;
                drop(open);
                std::panic::resume_unwind(panic);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::time::Duration;

    use super::*;

    #[test]
    fn what_comes_of_it_is_in_order_and_nobody_shares_what_one_has_for_itself() {
        let (users, most, running) = (AtomicUsize::new(0), AtomicUsize::new(0), AtomicUsize::new(0));
        let job = |number: usize| {
            let (users, most, running) = (&users, &most, &running);
            Job::new(move || {
                let used = number.is_multiple_of(2);
                most.fetch_max(running.fetch_add(1, Ordering::SeqCst) + 1, Ordering::SeqCst);
                assert!(!used || users.fetch_add(1, Ordering::SeqCst) == 0, "two at once");
                std::thread::sleep(Duration::from_millis(20 - number as u64));
                users.fetch_sub(usize::from(used), Ordering::SeqCst);
                running.fetch_sub(1, Ordering::SeqCst);
                if number == 17 { Err(number) } else { Ok(number) }
            })
            .using(number.is_multiple_of(2).then_some("corner"))
        };
        let four = NonZeroUsize::new(4).unwrap();
        assert_eq!(side_by_side((0..16).map(job).collect(), four), Ok((0..16).collect()));
        assert!((2..=4).contains(&most.load(Ordering::SeqCst)));
        assert_eq!(side_by_side((10..20).map(job).collect(), four), Err(17));
        assert_eq!(side_by_side(Vec::<Job<'_, (), Result<(), ()>>>::new(), four), Ok(Vec::new()));
    }
}
