//! The same work on many things, some at once, and what came of each in their order.

use std::sync::Mutex;
use std::thread;

/// Does it on all cores, each with neighbours among them: who makes files holds their folder meanwhile. Ends with the first error of
/// one of them, when all have ended.
///
/// # Errors
/// What `work` failed with.
pub fn by_shares<T: Sync, E: Send>(all: &[T], work: impl Fn(&T) -> Result<(), E> + Sync) -> Result<(), E> {
    let shares: Vec<&[T]> = all.chunks(all.len().div_ceil(cores()).max(64)).collect();
    side_by_side(&shares, cores(), |share| share.iter().try_for_each(&work)).into_iter().collect()
}

/// Does it on so many threads at most; whoever has done one thing takes the next. A panic of one is the caller's.
pub fn side_by_side<T: Sync, R: Send>(all: &[T], at_once: usize, work: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let todo = Mutex::new(all.iter().enumerate());
    let done = Mutex::new(Vec::with_capacity(all.len()));
    let take = || {
        // A poisoned lock means that another thread panicked, which ends the scope anyway.
        while let Some((at, one)) = todo.lock().ok().and_then(|mut todo| todo.next()) {
            let came = work(one);
            if let Ok(mut done) = done.lock() {
                done.push((at, came));
            }
        }
    };
    thread::scope(|scope| {
        for _ in 0..at_once.min(all.len()) {
            scope.spawn(take);
        }
    });
    let mut done = done.into_inner().unwrap_or_default();
    done.sort_unstable_by_key(|(at, _)| *at);
    done.into_iter().map(|(_, came)| came).collect()
}

/// How many threads for work that is the processor's.
pub fn cores() -> usize {
    thread::available_parallelism().map_or(2, std::num::NonZero::get)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_came_stands_in_the_order_of_what_was_given() {
        let all: Vec<u64> = (0..200).collect();
        let came = side_by_side(&all, 7, |one| {
            thread::sleep(std::time::Duration::from_micros(200 - one));
            one * 2
        });
        assert_eq!(came, all.iter().map(|one| one * 2).collect::<Vec<_>>());
        assert!(side_by_side(&[], 3, |one: &u64| *one).is_empty());
    }
}
