//! Work that can be ended from outside: what nobody waits for any more, and what would go on for ever.
//!
//! Long computations call [`go_on`] in their innermost loops. Where the work has been ended, that call unwinds the stack up to
//! [`Work::carry_out`], which says so; nothing on the way has to pass an error along. Outside any work [`go_on`] does nothing.

use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A piece of work, shared by those who do it and those who may end it.
#[derive(Debug, Default, Clone)]
pub struct Work {
    ended: Arc<AtomicBool>,
}

/// The work was ended before it was done.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the work was ended")]
pub struct Ended;

thread_local! {
    static CURRENT: RefCell<Option<Work>> = const { RefCell::new(None) };
}

/// Gives the thread back the work that it had before, however the present one ends.
struct Before(Option<Work>);

impl Drop for Before {
    fn drop(&mut self) {
        CURRENT.with_borrow_mut(|current| *current = self.0.take());
    }
}

impl Work {
    /// Work that nobody has ended yet.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// Ends it: whoever does it stops at the next [`go_on`].
    pub fn end(&self) {
        self.ended.store(true, Ordering::Relaxed);
    }

    /// Whether it was ended.
    #[must_use]
    pub fn is_ended(&self) -> bool {
        self.ended.load(Ordering::Relaxed)
    }

    /// Does `job` as this work.
    pub fn carry_out<T>(&self, job: impl FnOnce() -> T) -> Result<T, Ended> {
        match catch_unwind(AssertUnwindSafe(|| self.on_this_thread(job))) {
            Ok(done) => Ok(done),
            Err(thrown) if thrown.is::<Ended>() => Err(Ended),
            Err(panic) => resume_unwind(panic),
        }
    }

    /// Does `job` as a part of this work on a thread of its own; where it is ended, the stack unwinds further.
    pub(crate) fn on_this_thread<T>(&self, job: impl FnOnce() -> T) -> T {
        let _before = Before(CURRENT.with_borrow_mut(|current| current.replace(self.clone())));
        go_on();
        job()
    }

    /// The work that is being done on this thread.
    pub(crate) fn current() -> Option<Self> {
        CURRENT.with_borrow(Clone::clone)
    }
}

/// Returns where the work at hand is still wanted.
#[inline]
pub fn go_on() {
    if CURRENT.with_borrow(|current| current.as_ref().is_some_and(Work::is_ended)) {
        // No panic: nothing is wrong, and nothing is to be printed.
        resume_unwind(Box::new(Ended));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::numerics::in_parallel;
    use std::time::{Duration, Instant};

    #[test]
    fn work_that_nobody_ends_is_done() {
        assert_eq!(Work::new().carry_out(|| (0..10).inspect(|_| go_on()).sum::<i32>()), Ok(45));
        // Outside of any work there is nothing to end.
        go_on();
    }

    #[test]
    fn what_would_go_on_for_ever_ends_on_every_thread() {
        let work = Work::new();
        let ending = work.clone();
        let ended = std::thread::spawn(move || {
            std::thread::sleep(Duration::from_millis(30));
            ending.end();
        });
        let begun = Instant::now();
        let endless = |_: &usize| -> usize {
            loop {
                go_on();
            }
        };
        assert_eq!(work.carry_out(|| in_parallel(&[1, 2, 3, 4], endless)), Err(Ended));
        assert!(begun.elapsed() < Duration::from_secs(5));
        ended.join().unwrap();
        // The thread is free of it: other work goes on.
        assert_eq!(Work::new().carry_out(|| in_parallel(&[1, 2], |k| 2 * k)), Ok(vec![2, 4]));
        go_on();
    }

    #[test]
    fn work_that_was_ended_before_it_began_does_nothing() {
        let work = Work::new();
        work.end();
        let mut begun = false;
        assert_eq!(work.carry_out(|| begun = true), Err(Ended));
        assert!(!begun);
    }

    #[test]
    #[should_panic(expected = "a fault of its own")]
    fn a_fault_stays_a_fault() {
        let _ = Work::new().carry_out(|| panic!("a fault of its own"));
    }

    #[test]
    fn work_within_work_gives_the_thread_back() {
        let (outer, inner) = (Work::new(), Work::new());
        inner.end();
        let done = outer.carry_out(|| {
            let inner = inner.carry_out(|| ());
            go_on();
            inner
        });
        assert_eq!(done, Ok(Err(Ended)));
        outer.end();
        assert_eq!(outer.carry_out(|| ()), Err(Ended));
    }
}
