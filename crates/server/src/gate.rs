//! The door to all computation: as many at once as there are processors, a bounded number that wait, an end for what would go on
//! for ever and for what nobody waits for any more. The threads that answer requests compute nothing.

use crate::access::client;
use crate::problem::Problem;
use antistasis_core::work::{Ended, Work};
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, LazyLock, Mutex, PoisonError};
use std::time::Duration;
use tokio::runtime::{Builder, Runtime};
use tokio::sync::Semaphore;

/// Longest time that an answer may be computed.
const LONGEST_ANSWER: Duration = Duration::from_secs(60);
/// Longest time that a job in the background may take.
const LONGEST_JOB: Duration = Duration::from_secs(12 * 3600);
/// Answers and jobs that may wait for their turn.
const MOST_ANSWERS: usize = 200;
const MOST_JOBS: usize = 16;
/// Pieces at once, more than any worker has threads.
const MOST_PIECES: usize = 4096;
/// Answers of one client, waiting or under way: the others keep their turn.
const MOST_OF_ONE: usize = 48;

/// What somebody waits for at the other end of a request.
static ANSWERS: LazyLock<Gate> = LazyLock::new(|| Gate::new(processors(), MOST_ANSWERS, LONGEST_ANSWER));
/// What goes on in the background: imports, fits, searches. It has places of its own, so that answers need not wait for it.
static JOBS: LazyLock<Gate> = LazyLock::new(|| Gate::new(processors(), MOST_JOBS, LONGEST_JOB));

/// Pieces of long work: as many as the worker takes up.
static PIECES: LazyLock<Gate> = LazyLock::new(|| Gate::new(MOST_PIECES, 0, LONGEST_JOB));
/// Whether the process is about to end.
static ENDING: AtomicBool = AtomicBool::new(false);

/// The threads that compute. They give way to those that answer, and to the database.
static COMPUTERS: LazyLock<Runtime> = LazyLock::new(|| {
    let threads =
        Builder::new_multi_thread().worker_threads(1).thread_name("compute").on_thread_start(give_way).build();
    #[allow(clippy::expect_used, reason = "without threads there is nothing that this program could do")]
    threads.expect("threads can be started")
});

/// How much a computing thread gives way, of 19.
const GIVES_WAY: i32 = 10;

/// Lowers the priority of this thread and those that it starts: on Linux each thread has one of its own. Where that is not
/// allowed it computes all the same.
fn give_way() {
    let _ = rustix::process::setpriority_process(Some(rustix::thread::gettid()), GIVES_WAY);
}

fn processors() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Computes an answer. Where the request is given up, so is the work.
pub(crate) async fn compute<T: Send + 'static>(job: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    ANSWERS.run(job).await
}

/// The same for a job in the background.
pub(crate) async fn compute_job<T: Send + 'static>(job: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    JOBS.run(job).await
}

/// The same for a piece of long work.
pub(crate) async fn compute_piece<T: Send + 'static>(piece: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
    PIECES.run(piece).await
}

/// Whether the process is about to end.
pub(crate) fn is_ending() -> bool {
    ENDING.load(Ordering::Relaxed)
}

/// Ends everything that is being computed: the process is about to end.
pub fn end_all_work() {
    ENDING.store(true, Ordering::Relaxed);
    for gate in [&*ANSWERS, &*JOBS, &*PIECES] {
        let under_way = gate.under_way.lock().unwrap_or_else(PoisonError::into_inner);
        under_way.values().for_each(Work::end);
    }
}

struct Gate {
    places: Arc<Semaphore>,
    /// Those inside and those who wait.
    count: Arc<AtomicUsize>,
    most: usize,
    /// How many of these are whose.
    shares: Arc<Mutex<HashMap<String, usize>>>,
    longest: Duration,
    under_way: Arc<Mutex<HashMap<usize, Work>>>,
    next: AtomicUsize,
}

/// A place among those inside and those who wait, given back when it goes.
struct Place(Arc<AtomicUsize>);

impl Drop for Place {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

/// What one client has of the places, given back when it goes.
struct Share(String, Arc<Mutex<HashMap<String, usize>>>);

impl Drop for Share {
    fn drop(&mut self) {
        let mut shares = self.1.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = shares.get_mut(&self.0) {
            *count -= 1;
            if *count == 0 {
                shares.remove(&self.0);
            }
        }
    }
}

/// Ends the work when whoever waited for it has left.
struct Leaving(Work);

impl Drop for Leaving {
    fn drop(&mut self) {
        self.0.end();
    }
}

/// An entry of the list of what is under way, taken out when it goes.
struct Entry(usize, Arc<Mutex<HashMap<usize, Work>>>);

impl Drop for Entry {
    fn drop(&mut self) {
        self.1.lock().unwrap_or_else(PoisonError::into_inner).remove(&self.0);
    }
}

impl Gate {
    fn new(at_once: usize, waiting: usize, longest: Duration) -> Self {
        Self {
            places: Arc::new(Semaphore::new(at_once)),
            count: Arc::default(),
            most: at_once + waiting,
            shares: Arc::default(),
            longest,
            under_way: Arc::default(),
            next: AtomicUsize::new(0),
        }
    }

    fn share(&self, client: String) -> Result<Share, Problem> {
        let mut shares = self.shares.lock().unwrap_or_else(PoisonError::into_inner);
        let count = shares.entry(client.clone()).or_default();
        if *count >= MOST_OF_ONE {
            return Err(Problem::busy("So much is being computed for you already."));
        }
        *count += 1;
        Ok(Share(client, Arc::clone(&self.shares)))
    }

    async fn run<T: Send + 'static>(&self, job: impl FnOnce() -> T + Send + 'static) -> Result<T, Problem> {
        let before = self.count.fetch_add(1, Ordering::Relaxed);
        let place = Place(Arc::clone(&self.count));
        if before >= self.most {
            return Err(Problem::busy("Too much is being computed at the moment."));
        }
        let share = client().map(|client| self.share(client)).transpose()?;
        let permit = Arc::clone(&self.places).acquire_owned().await.map_err(|_| Problem::internal())?;
        let work = Work::new();
        let key = self.next.fetch_add(1, Ordering::Relaxed);
        self.under_way.lock().unwrap_or_else(PoisonError::into_inner).insert(key, work.clone());
        let entry = Entry(key, Arc::clone(&self.under_way));
        let leaving = Leaving(work.clone());
        // The place is free when the work has really ended, not when nobody waits for it any more.
        let done = COMPUTERS.spawn_blocking(move || {
            let _held = (place, share, permit, entry);
            work.carry_out(job)
        });
        let done = tokio::time::timeout(self.longest, done).await;
        drop(leaving);
        match done {
            Ok(Ok(Ok(result))) => Ok(result),
            Ok(Ok(Err(Ended))) => Err(Problem::busy("The server is ending.")),
            Ok(Err(error)) => {
                tracing::error!(%error, "a computation broke off");
                Err(Problem::internal())
            }
            Err(_) => Err(Problem::too_much_work(self.longest)),
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used)]

    use super::*;
    use antistasis_core::process::{LinearSpec, ProcessSpec};
    use std::time::Instant;

    /// Something that goes on as long as it is let: a simulation of the core, again and again.
    fn endless() -> usize {
        let spec = ProcessSpec::from(LinearSpec::Fopdt { gain: 1.0, time_constant: 10.0, dead_time: 2.0 });
        let plant = antistasis_core::simulation::Plant::usual(spec, "TIC-1").unwrap();
        let choice = antistasis_core::tuning::SimcChoice::default();
        let (trial, _) = antistasis_core::tuning::first_trial_on(&plant, &choice).unwrap();
        loop {
            trial.run().unwrap();
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn what_takes_too_long_is_ended_and_its_place_is_free_again() {
        let gate = Gate::new(1, 1, Duration::from_millis(100));
        let begun = Instant::now();
        let problem = gate.run(endless).await.unwrap_err();
        assert!(problem.detail().contains("longer than"), "{problem:?}");
        assert_eq!(gate.run(|| 7).await.unwrap(), 7);
        // The answer may be there a moment before its place is given back.
        while !gate.under_way.lock().unwrap().is_empty() {
            assert!(begun.elapsed() < Duration::from_secs(5));
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn who_leaves_takes_the_work_along_and_who_comes_too_late_is_sent_away() {
        let gate = Arc::new(Gate::new(1, 1, Duration::from_secs(60)));
        let inside = tokio::spawn({
            let gate = Arc::clone(&gate);
            async move { gate.run(endless).await }
        });
        while gate.under_way.lock().unwrap().is_empty() {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        let waiting = tokio::spawn({
            let gate = Arc::clone(&gate);
            async move { gate.run(|| 7).await }
        });
        while gate.count.load(Ordering::Relaxed) < 2 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
        let refused = gate.run(|| 8).await.unwrap_err();
        assert_eq!(refused.status, 503);
        inside.abort();
        assert_eq!(waiting.await.unwrap().unwrap(), 7);
        while gate.count.load(Ordering::Relaxed) > 0 {
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn one_client_leaves_places_for_the_others() {
        let gate = Arc::new(Gate::new(1, 200, Duration::from_secs(60)));
        let asked = |who: &'static str, until: Option<Arc<AtomicUsize>>| {
            let gate = Arc::clone(&gate);
            tokio::spawn(crate::access::as_client(who, async move {
                gate.run(move || {
                    while until.as_ref().is_some_and(|until| until.load(Ordering::Relaxed) == 0) {
                        std::thread::sleep(Duration::from_millis(2));
                    }
                })
                .await
            }))
        };
        let released = Arc::new(AtomicUsize::new(0));
        let greedy: Vec<_> = (0..MOST_OF_ONE).map(|_| asked("greedy", Some(Arc::clone(&released)))).collect();
        while gate.count.load(Ordering::Relaxed) < MOST_OF_ONE {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        let refused = asked("greedy", None).await.unwrap().unwrap_err();
        assert!(refused.status == 503 && refused.detail().contains("for you already"), "{refused:?}");
        let modest = asked("modest", None);
        while gate.count.load(Ordering::Relaxed) < MOST_OF_ONE + 1 {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        released.store(1, Ordering::Relaxed);
        modest.await.unwrap().unwrap();
        for one in greedy {
            one.await.unwrap().unwrap();
        }
        while gate.count.load(Ordering::Relaxed) > 0 {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
        assert!(gate.shares.lock().unwrap().is_empty(), "nothing of a client stays behind");
        asked("greedy", None).await.unwrap().unwrap();
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn who_computes_gives_way_and_so_does_what_it_starts() {
        // The nineteenth field of a thread's line (proc(5)).
        let nice = || {
            let line = std::fs::read_to_string("/proc/thread-self/stat").unwrap();
            let after = line.rsplit_once(") ").unwrap().1.to_owned();
            after.split(' ').nth(16).unwrap().parse::<i32>().unwrap()
        };
        let own = nice();
        let gate = Gate::new(1, 0, Duration::from_secs(60));
        let of_both = gate.run(move || (nice(), std::thread::spawn(nice).join().unwrap())).await.unwrap();
        assert_eq!(of_both, (GIVES_WAY.max(own), GIVES_WAY.max(own)));
        assert_eq!(nice(), own);
    }

    #[tokio::test(flavor = "multi_thread")]
    async fn a_fault_in_a_computation_is_a_failure_of_the_server_and_nothing_stays_behind() {
        let gate = Gate::new(1, 0, Duration::from_secs(60));
        let problem = gate.run(|| -> usize { panic!("a fault") }).await.unwrap_err();
        assert_eq!(problem.status, 500);
        assert_eq!(gate.run(|| 7).await.unwrap(), 7);
    }
}
