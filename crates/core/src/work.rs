//! Work that can be ended from outside: what nobody waits for any more, and what would go on for ever.
//!
//! Long computations call [`go_on`] in their innermost loops. Where the work has been ended, that call unwinds the stack up to
//! [`Work::carry_out`], which says so; nothing on the way has to pass an error along. Outside any work [`go_on`] does nothing.

use std::any::Any;
use std::cell::RefCell;
use std::panic::{AssertUnwindSafe, catch_unwind, resume_unwind};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// A piece of work, shared by those who do it and those who may end it.
#[derive(Default, Clone)]
pub struct Work {
    ended: Arc<AtomicBool>,
    listener: Option<Arc<dyn Listener>>,
    /// The work that it is a part of: where that is ended, so is this.
    whole: Option<Arc<Work>>,
}

/// Who hears how far a work is.
pub trait Listener: Send + Sync {
    /// Whether something is to be told at the moment: what is told costs time.
    fn wants(&self) -> bool;

    /// Takes what there is so far; of which type it is, the work says.
    fn hear(&self, so_far: &dyn Any);
}

impl std::fmt::Debug for Work {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Work").field("ended", &self.is_ended()).field("is_heard", &self.listener.is_some()).finish()
    }
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

    /// The same work, which tells this listener how far it is.
    #[must_use]
    pub fn heard_by(&self, listener: Arc<dyn Listener>) -> Self {
        Self { listener: Some(listener), ..self.clone() }
    }

    /// Ends it: whoever does it stops at the next [`go_on`].
    pub fn end(&self) {
        self.ended.store(true, Ordering::Relaxed);
    }

    /// Whether it was ended.
    #[must_use]
    pub fn is_ended(&self) -> bool {
        self.ended.load(Ordering::Relaxed) || self.whole.as_ref().is_some_and(|whole| whole.is_ended())
    }

    /// Does `job` as this work, and as a part of the one that is at hand where there is one: what ends that ends more than this.
    pub fn carry_out<T>(&self, job: impl FnOnce() -> T) -> Result<T, Ended> {
        let whole = Self::current();
        let part = Self { whole: whole.clone().map(Arc::new), ..self.clone() };
        match catch_unwind(AssertUnwindSafe(|| part.on_this_thread(job))) {
            Ok(done) => Ok(done),
            Err(thrown) if thrown.is::<Ended>() && !whole.is_some_and(|whole| whole.is_ended()) => Err(Ended),
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

/// Whether anybody wants to hear at the moment how far the work at hand is.
#[must_use]
pub fn is_heard() -> bool {
    CURRENT.with_borrow(|current| {
        current.as_ref().is_some_and(|work| work.listener.as_ref().is_some_and(|own| own.wants()))
    })
}

/// Tells how far the work at hand is, where anybody listens.
pub fn tell(so_far: &dyn Any) {
    let listener = CURRENT.with_borrow(|current| current.as_ref().and_then(|work| work.listener.clone()));
    if let Some(listener) = listener {
        listener.hear(so_far);
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
        assert!(begun.elapsed() < Duration::from_secs(30));
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

    #[derive(Default)]
    struct Ear(std::sync::Mutex<Vec<u32>>);

    impl Listener for Ear {
        fn wants(&self) -> bool {
            self.0.lock().unwrap().len() < 2
        }

        fn hear(&self, so_far: &dyn Any) {
            self.0.lock().unwrap().push(*so_far.downcast_ref().unwrap());
        }
    }

    #[test]
    fn who_listens_hears_what_is_told_on_any_thread() {
        let ear = Arc::new(Ear::default());
        assert!(!is_heard());
        tell(&7u32);
        let work = Work::new().heard_by(ear.clone());
        let told = |k: &u32| {
            if is_heard() {
                tell(k);
            }
        };
        work.carry_out(|| in_parallel(&[1, 2, 3, 4], told)).unwrap();
        let heard = ear.0.lock().unwrap().clone();
        assert!(heard.len() >= 2 && heard.iter().all(|k| (1..=4).contains(k)), "{heard:?}");
    }

    #[test]
    fn a_part_ends_by_itself_and_with_the_whole() {
        let (whole, part) = (Work::new(), Work::new());
        let ended = part.clone();
        let outcome = whole.carry_out(|| {
            ended.end();
            // The whole goes on after its part.
            (part.carry_out(go_on), 3)
        });
        assert_eq!(outcome, Ok((Err(Ended), 3)));
        let ending = whole.clone();
        let outcome = whole.carry_out(|| {
            Work::new().carry_out(|| {
                ending.end();
                go_on();
            })
        });
        assert_eq!(outcome, Err(Ended));
    }
}
