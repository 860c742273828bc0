//! Work for several threads.

use crate::work::{self, Work};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Threads that run at the same time on this machine.
fn threads() -> usize {
    static THREADS: OnceLock<usize> = OnceLock::new();
    *THREADS.get_or_init(|| std::thread::available_parallelism().map_or(1, usize::from))
}

/// `of` of each item, in their order, on as many threads as run at the same time; this one works, too.
pub fn in_parallel<T: Sync, R: Send>(items: &[T], of: impl Fn(&T) -> R + Sync) -> Vec<R> {
    let helpers = threads().min(items.len()).saturating_sub(1);
    if helpers == 0 {
        return items.iter().map(of).collect();
    }
    let next = AtomicUsize::new(0);
    let here = || {
        let mut done = Vec::new();
        loop {
            let index = next.fetch_add(1, Ordering::Relaxed);
            let Some(item) = items.get(index) else { return done };
            work::go_on();
            done.push((index, of(item)));
        }
    };
    // All of them do the work of this thread.
    let whole = Work::current();
    let there = || whole.as_ref().map_or_else(here, |whole| whole.on_this_thread(here));
    let mut done = std::thread::scope(|scope| {
        let others: Vec<_> = (0..helpers).map(|_| scope.spawn(there)).collect();
        let mut done = here();
        for other in others {
            match other.join() {
                Ok(more) => done.extend(more),
                Err(panic) => std::panic::resume_unwind(panic),
            }
        }
        done
    });
    done.sort_by_key(|(index, _)| *index);
    done.into_iter().map(|(_, result)| result).collect()
}

/// `part` on so many threads at once, each of which does the work of this one.
pub fn on_threads(count: usize, part: impl Fn() + Sync) {
    let whole = Work::current();
    let there = || whole.as_ref().map_or_else(&part, |whole| whole.on_this_thread(&part));
    std::thread::scope(|scope| {
        let all: Vec<_> = (0..count.max(1)).map(|_| scope.spawn(there)).collect();
        for one in all {
            if let Err(thrown) = one.join() {
                std::panic::resume_unwind(thrown);
            }
        }
    });
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn threads_that_are_counted_end_with_the_work() {
        let (work, begun) = (Work::new(), AtomicUsize::new(0));
        let ended = work.carry_out(|| {
            on_threads(3, || {
                begun.fetch_add(1, Ordering::Relaxed);
                work.end();
                loop {
                    work::go_on();
                }
            });
        });
        assert_eq!(ended, Err(crate::work::Ended));
        assert!((1..=3).contains(&begun.into_inner()));
        let count = AtomicUsize::new(0);
        on_threads(3, || {
            count.fetch_add(1, Ordering::Relaxed);
        });
        assert_eq!(count.into_inner(), 3);
    }

    #[test]
    fn results_stand_in_the_order_of_the_items() {
        for count in [0usize, 1, 2, 3, 1000] {
            let items: Vec<usize> = (0..count).collect();
            assert_eq!(
                in_parallel(&items, |item| item * item),
                items.iter().map(|item| item * item).collect::<Vec<_>>()
            );
        }
    }
}
