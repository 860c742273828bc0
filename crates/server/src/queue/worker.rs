//! The worker: makes jobs ready, cuts them, does pieces, and puts together what came out. Whatever it does may be done again: who ends in
//! the middle is found by its heart, which stopped, and another begins from what is kept.

use super::cutting::cut;
use super::{Divided, Queue, making};
use crate::gate::{compute_piece, is_ending};
use crate::problem::Problem;
use antistasis_core::simulation::ENGINE_VERSION;
use antistasis_store::Store;
use graphile_worker::{IntoTaskHandlerResult, TaskHandler, WorkerContext, WorkerOptions};
use moka::future::Cache;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::future::Future;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::watch;
use uuid::Uuid;

/// Where the queue is in the database.
pub(super) const SCHEMA: &str = "antistasis_queue";
/// The channel of the queue. It takes up one piece for each word there, and forgets words that come while all are busy: whoever is done with
/// a piece asks for the next, where the queue's own clock would only look once a second.
const CHANNEL: &str = "jobs:insert";
/// What is begun and ended comes first, then short work, then long.
pub(super) const FIRST: i16 = -1;
const SHORT: i16 = 0;
const LONG: i16 = 10;
/// From so many seconds of one processor on work is long.
const IS_LONG: f64 = 10.0;
/// How often a piece that breaks off is tried.
const MOST_ATTEMPTS: i16 = 3;
/// Jobs that a worker keeps ready.
const KEPT_READY: u64 = 8;
/// How often a worker is heard, how often others look, and from when on it counts as ended.
const HEART: Duration = Duration::from_secs(1);
const LOOKS: Duration = Duration::from_secs(2);
const SILENT: Duration = Duration::from_secs(5);
/// How often is looked whether a piece is still wanted, and for work that arrived unheard.
const LOOKS_AT_JOB: Duration = Duration::from_millis(300);
const LOOKS_FOR_WORK: Duration = Duration::from_secs(1);
/// How long what is under way may go on when the worker ends, and the pause before it begins anew when the database was away.
const GRACE: Duration = Duration::from_millis(300);
const PAUSE: Duration = Duration::from_millis(500);

// A worker of another engine takes nothing of this one's: the number below is in the name of every task.
const _: () = assert!(ENGINE_VERSION == 4, "the tasks of a new engine have new names");

/// Makes a job ready and cuts it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Begin {
    pub job: Uuid,
}

/// Does one piece.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Piece {
    pub job: Uuid,
    pub number: i32,
}

/// Puts together what came out.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct Finish {
    pub job: Uuid,
}

/// Why something was not done.
enum Trouble {
    /// The job cannot be done at all.
    Refused(Problem),
    /// It broke off; the next time it may go well.
    BrokeOff,
    /// The database did not answer.
    Away(String),
    /// Nobody wants it any more.
    Unwanted,
    /// This process is ending: somebody else does it.
    Ending,
}

impl From<antistasis_store::Error> for Trouble {
    fn from(error: antistasis_store::Error) -> Self {
        Self::Away(error.to_string())
    }
}

fn away(problem: Problem) -> Trouble {
    Trouble::Away(problem.detail)
}

/// What every task has at hand.
#[derive(Clone)]
struct Bench {
    store: Store,
    queue: Queue,
    ready: Cache<Uuid, Arc<dyn Divided>>,
}

impl std::fmt::Debug for Bench {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Bench")
    }
}

impl Bench {
    fn new(store: Store) -> Self {
        let ready = Cache::builder().max_capacity(KEPT_READY).time_to_idle(Duration::from_secs(60)).build();
        Self { queue: Queue::new(store.clone()), store, ready }
    }

    /// The job, made ready once for all of its pieces.
    async fn ready(&self, job: Uuid) -> Result<Arc<dyn Divided>, Trouble> {
        if let Some(known) = self.ready.get(&job).await {
            return Ok(known);
        }
        let (kind, request) = self.store.job_request(job).await?.ok_or(Trouble::Unwanted)?;
        let make = making(&kind, request, &self.store).await.map_err(|error| match error {
            antistasis_store::Error::NotFound { .. } => Trouble::Refused(error.into()),
            other => other.into(),
        })?;
        let made = self.computed(job, make).await?.map_err(Trouble::Refused)?;
        self.ready.insert(job, Arc::clone(&made)).await;
        Ok(made)
    }

    /// Computes something for a job, as long as it is wanted.
    async fn computed<T: Send + 'static>(
        &self,
        job: Uuid,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<T, Trouble> {
        let unwanted = async {
            loop {
                tokio::time::sleep(LOOKS_AT_JOB).await;
                if let Ok(false) = self.store.job_is_wanted(job).await {
                    return;
                }
            }
        };
        tokio::select! {
            done = compute_piece(work) => done.map_err(|_| if is_ending() { Trouble::Ending } else { Trouble::BrokeOff }),
            () = unwanted => Err(Trouble::Unwanted),
        }
    }

    async fn begin(&self, job: Uuid) -> Result<(), Trouble> {
        let made = self.ready(job).await?;
        let cut = self.computed(job, move || cut(&*made)).await?;
        let left = self.store.cut_job(job, &cut.pieces).await?;
        let priority = if cut.seconds > IS_LONG { LONG } else { SHORT };
        for number in &left {
            self.queue.put(Piece { job, number: *number }, &number.to_string(), priority).await.map_err(away)?;
        }
        if left.is_empty() { self.close(job).await } else { Ok(()) }
    }

    async fn piece(&self, job: Uuid, number: i32, worker: &str) -> Result<(), Trouble> {
        if let Some(trials) = self.store.piece_to_do(job, number).await? {
            let made = self.ready(job).await?;
            let results: Vec<Value> = self.computed(job, move || trials.map(|trial| made.run(trial)).collect()).await?;
            self.store.keep_piece(job, number, &results, worker).await?;
            self.store.notify(CHANNEL).await?;
        }
        if self.store.all_pieces_done(job).await? { self.close(job).await } else { Ok(()) }
    }

    async fn close(&self, job: Uuid) -> Result<(), Trouble> {
        self.queue.put(Finish { job }, "finish", FIRST).await.map_err(away)
    }

    async fn finish(&self, job: Uuid) -> Result<(), Trouble> {
        let made = self.ready(job).await?;
        let Some(all) = self.store.close_job::<Value>(job).await? else { return Err(Trouble::Unwanted) };
        let outcome = made.finish(&self.store, job, all, self.store.job_seconds(job).await?).await;
        if outcome.is_err() && is_ending() {
            return Err(Trouble::Ending);
        }
        self.store.end_job(job, outcome.as_ref()).await?;
        self.ready.invalidate(&job).await;
        Ok(())
    }
}

/// Does what is asked for a job; what went wrong ends the job, or is tried again.
async fn attempt<F: Future<Output = Result<(), Trouble>>>(
    context: &WorkerContext,
    job: Uuid,
    work: impl FnOnce(Bench) -> F,
) -> Result<(), String> {
    let bench = context.get_ext::<Bench>().ok_or("no bench")?.clone();
    let store = bench.store.clone();
    let failed = match work(bench).await {
        Ok(()) | Err(Trouble::Unwanted) => return Ok(()),
        // It is given back to the queue when the time for ending is over.
        Err(Trouble::Ending) => return std::future::pending().await,
        Err(Trouble::Away(error)) => return Err(error),
        Err(Trouble::BrokeOff) if *context.job().attempts() < MOST_ATTEMPTS => return Err("it broke off".to_owned()),
        Err(Trouble::BrokeOff) => Problem::internal(),
        Err(Trouble::Refused(problem)) => problem,
    };
    store.end_job(job, Err::<&Value, _>(&failed)).await.map_err(|error| error.to_string())
}

impl TaskHandler for Begin {
    const IDENTIFIER: &'static str = "engine 4: begin";

    async fn run(self, context: WorkerContext) -> impl IntoTaskHandlerResult {
        attempt(&context, self.job, |bench| async move { bench.begin(self.job).await }).await
    }
}

impl TaskHandler for Piece {
    const IDENTIFIER: &'static str = "engine 4: piece";

    async fn run(self, context: WorkerContext) -> impl IntoTaskHandlerResult {
        let worker = context.worker_id().to_owned();
        attempt(&context, self.job, |bench| async move { bench.piece(self.job, self.number, &worker).await }).await
    }
}

impl TaskHandler for Finish {
    const IDENTIFIER: &'static str = "engine 4: finish";

    async fn run(self, context: WorkerContext) -> impl IntoTaskHandlerResult {
        attempt(&context, self.job, |bench| async move { bench.finish(self.job).await }).await
    }
}

/// Makes the queue where there is none, and puts into it what was under way when the program ended; as often as it takes until the
/// database is there.
pub(crate) async fn begin_queue(store: &Store) {
    while let Err(problem) = try_to_begin(store).await {
        tracing::warn!(why = problem.detail, "the queue cannot begin yet");
        tokio::time::sleep(PAUSE).await;
    }
}

async fn try_to_begin(store: &Store) -> Result<(), Problem> {
    let queue = Queue::new(store.clone());
    queue.utils.migrate().await.map_err(|error| Problem::busy(&error.to_string()))?;
    for job in store.jobs_under_way().await? {
        queue.put(Begin { job }, "begin", FIRST).await?;
    }
    Ok(())
}

/// Works on the queue with so many threads, until `ended` says so; through whatever becomes of the database meanwhile.
pub async fn work(store: Store, threads: usize, mut ended: watch::Receiver<bool>) {
    let bench = Bench::new(store.clone());
    while !*ended.borrow() {
        let mut end = ended.clone();
        let options = WorkerOptions::default()
            .schema(SCHEMA)
            .pg_pool(store.pool())
            .concurrency(threads.max(1))
            .poll_interval(LOOKS_FOR_WORK)
            .heartbeat_interval(HEART)
            .sweep_interval(LOOKS)
            .sweep_threshold(SILENT)
            .recovery_delay(Duration::ZERO)
            .listen_os_shutdown_signals(false)
            .shutdown_signal(async move {
                let _ = end.wait_for(|ended| *ended).await;
            })
            .shutdown_grace_period(GRACE)
            .shutdown_interrupted_job_retry_delay(Duration::ZERO)
            .add_extension(bench.clone())
            .define_job::<Begin>()
            .define_job::<Piece>()
            .define_job::<Finish>();
        let begun = Instant::now();
        let run = async {
            options.init().await.map_err(|error| error.to_string())?.run().await.map_err(|error| error.to_string())
        };
        match run.await {
            Ok(()) => return,
            Err(error) => tracing::warn!(error, seconds = begun.elapsed().as_secs_f64(), "the worker begins anew"),
        }
        let _ = tokio::time::timeout(PAUSE, ended.wait_for(|ended| *ended)).await;
    }
}
