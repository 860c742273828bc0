//! Long work as a queue in the database: a job is cut into pieces of about a second, which any worker of this program does, one in the
//! server itself and any number on other machines (`antistasis worker`). Which piece is whose turn is the queue's business
//! (`graphile_worker`: `SKIP LOCKED`, `NOTIFY`, heartbeats); what came out is kept by the store, once, whatever is done twice.
//!
//! A trial counts for itself, whichever piece it is in and whoever runs it: the outcome is the same to the last bit.

mod cutting;
mod fit;
mod proof;
mod sweep;
mod worker;

pub use worker::work;
pub(crate) use {fit::FitJob, proof::ProofJob, sweep::SweepJob, sweep::SweepOutcome, worker::begin_queue};

use crate::jobs::Stage;
use crate::problem::Problem;
use antistasis_core::simulation::ENGINE_VERSION;
use antistasis_store::{JobStage, JobStanding, Store};
use graphile_worker::{JobKeyMode, JobSpec, TaskHandler, WorkerUtils};
use serde::Serialize;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use utoipa::ToSchema;
use uuid::Uuid;
use worker::{Begin, Finish, Piece};

/// Jobs of a kind that may be under way.
const MOST_RUNNING: i64 = 16;

/// What comes of a job in the end.
type Ending<'a> = Pin<Box<dyn Future<Output = Result<Value, Problem>> + Send + 'a>>;

/// Long work that was made ready: trials that can be run each by itself, and what is made of all.
pub(crate) trait Divided: Send + Sync {
    /// How many trials there are.
    fn trials(&self) -> usize;

    /// How many scans a trial has, and which of the controllers (0, 1, …) does them: those of one take alike long. None where nothing tells
    /// how long it takes: it is a piece of its own then.
    fn scans(&self, trial: usize) -> Option<(f64, usize)>;

    /// Runs one.
    fn run(&self, trial: usize) -> Value;

    /// Makes the outcome of a job out of what came out of all, in their order, and keeps it. `seconds` is how long it took.
    fn finish<'a>(self: Arc<Self>, store: &'a Store, job: Uuid, all: Vec<Value>, seconds: f64) -> Ending<'a>;
}

/// What a job asks for.
pub(crate) trait Asked: Serialize + DeserializeOwned + Send + Sync + 'static {
    /// What such a job is called.
    const KIND: &'static str;

    /// Fetches what it takes, and says how it is made ready from that.
    fn fetch(self, store: &Store) -> impl Future<Output = antistasis_store::Result<Making>> + Send;
}

/// Makes a job ready, which is computed where computing is done. Errors where it cannot be done at all.
type Making = Box<dyn FnOnce() -> Result<Arc<dyn Divided>, Problem> + Send>;

/// How what was asked for under a kind is made ready.
async fn making(kind: &str, request: Value, store: &Store) -> antistasis_store::Result<Making> {
    async fn of<A: Asked>(request: Value, store: &Store) -> antistasis_store::Result<Making> {
        match serde_json::from_value::<A>(request) {
            Ok(asked) => asked.fetch(store).await,
            Err(error) => Ok(refused(error.to_string())),
        }
    }
    let refused_kind = || refused(format!("this version knows no job “{kind}”"));
    match kind {
        ProofJob::KIND => of::<ProofJob>(request, store).await,
        SweepJob::KIND => of::<SweepJob>(request, store).await,
        FitJob::KIND => of::<FitJob>(request, store).await,
        _ => Ok(refused_kind()),
    }
}

/// What cannot be made ready.
fn refused(why: String) -> Making {
    Box::new(move || Err(Problem::invalid(why)))
}

/// How far long work is.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub(crate) struct Standing {
    /// Identifier, good for an hour.
    pub id: Uuid,
    /// How it stands.
    pub stage: Stage,
    /// Which share of its trials is done, 0 to 1.
    pub share: f64,
    /// Pieces of about a second that are done.
    pub pieces_done: i64,
    /// Pieces in all; 0 as long as it is not cut.
    pub pieces: i64,
    /// Workers that did pieces of it: one in the server, and any others on its database.
    pub workers: i64,
    /// What is wrong.
    pub problem: Option<Problem>,
}

impl Standing {
    pub fn of(id: Uuid, found: &JobStanding) -> Self {
        Self {
            id,
            stage: match found.stage {
                JobStage::Running => Stage::Running,
                JobStage::Done => Stage::Done,
                JobStage::Failed => Stage::Failed,
            },
            share: found.share,
            pieces_done: found.done,
            pieces: found.pieces,
            workers: found.workers,
            problem: found
                .problem
                .clone()
                .map(|problem| serde_json::from_value(problem).unwrap_or_else(|_| Problem::internal())),
        }
    }
}

/// The queue, for those who ask.
#[derive(Clone)]
pub(crate) struct Queue {
    store: Store,
    utils: WorkerUtils,
}

/// How often something is put into the queue again that does not take it, and after which time.
const PUT_AGAIN: usize = 8;
const PUT_AFTER: std::time::Duration = std::time::Duration::from_millis(250);

impl Queue {
    pub fn new(store: Store) -> Self {
        Self { utils: WorkerUtils::new(store.pool(), worker::SCHEMA), store }
    }

    /// Begins a job. Errors when too many of its kind are under way.
    pub async fn begin<A: Asked>(&self, asked: &A) -> Result<Uuid, Problem> {
        let id = self.store.begin_job(A::KIND, asked, MOST_RUNNING).await?;
        let id = id.ok_or_else(|| Problem::busy(&format!("{MOST_RUNNING} of them are under way already.")))?;
        if let Err(problem) = self.put(Begin { job: id }, "begin", worker::FIRST).await {
            // Nobody waits for what nobody will do.
            self.store.cancel_job(id, &problem).await?;
            return Err(problem);
        }
        Ok(id)
    }

    /// How a job of a kind stands.
    pub async fn standing(&self, kind: &'static str, id: Uuid) -> Result<JobStanding, Problem> {
        self.store.job(kind, id).await.map_err(|error| match error {
            antistasis_store::Error::NotFound { .. } => {
                Problem::not_found(format!("there is no such {kind} (kept for an hour)"))
            }
            other => other.into(),
        })
    }

    /// Ends a job that is under way.
    pub async fn cancel(&self, kind: &'static str, id: Uuid) -> Result<JobStanding, Problem> {
        // What is of another kind is not there.
        self.standing(kind, id).await?;
        self.store.cancel_job(id, &Problem::cancelled(format!("The {kind} was cancelled."))).await?;
        self.standing(kind, id).await
    }

    /// Puts something to do into the queue, unless it waits there already or is being done.
    async fn put<T: TaskHandler + Named + Clone>(&self, task: T, name: &str, priority: i16) -> Result<(), Problem> {
        let key = format!("{} {name} {ENGINE_VERSION}", task.job());
        let mut tried = 0;
        loop {
            let spec = JobSpec::builder()
                .job_key(key.clone())
                .job_key_mode(JobKeyMode::UnsafeDedupe)
                .priority(priority)
                .build();
            match self.utils.add_job(task.clone(), spec).await {
                Ok(_) => return Ok(()),
                // A server that has only just begun still lays out its queue; put in twice it is one.
                Err(error) if tried < PUT_AGAIN => {
                    tracing::debug!(%error, "the queue does not answer yet");
                    tried += 1;
                    tokio::time::sleep(PUT_AFTER).await;
                }
                Err(error) => {
                    tracing::warn!(%error, "nothing can be put into the queue");
                    return Err(Problem::busy("The queue does not answer."));
                }
            }
        }
    }
}

/// What is done for a job.
trait Named {
    fn job(&self) -> Uuid;
}

impl Named for Begin {
    fn job(&self) -> Uuid {
        self.job
    }
}

impl Named for Piece {
    fn job(&self) -> Uuid {
        self.job
    }
}

impl Named for Finish {
    fn job(&self) -> Uuid {
        self.job
    }
}
