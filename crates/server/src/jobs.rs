//! Work in the background: how far each job is, how it ended, and whether it is still wanted.

use crate::problem::Problem;
use antistasis_core::work::{Ended, Listener, Work};
use serde::Serialize;
use std::any::Any;
use std::collections::HashMap;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use utoipa::ToSchema;
use uuid::Uuid;

/// How long a finished job is remembered, and how many of a kind are.
const KEPT: Duration = Duration::from_secs(3600);
const MOST_KEPT: usize = 20;
/// Jobs of a kind that may be under way.
const MOST_RUNNING: usize = 16;

/// How a job stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub(crate) enum Stage {
    /// Under way.
    Running,
    /// It is done, and its outcome is there.
    Done,
    /// Something is wrong, or it was cancelled.
    Failed,
}

/// A job that makes a `T`.
#[derive(Debug)]
pub(crate) struct Job<T> {
    /// Bits of the share that is done, 0 to 1.
    share: AtomicU64,
    /// Ends what the job does, wherever it is.
    work: Work,
    /// What there is of the outcome while it is under way.
    so_far: Mutex<Option<Arc<T>>>,
    outcome: Mutex<Option<Result<Arc<T>, Problem>>>,
    since: Instant,
}

impl<T> Job<T> {
    pub fn share(&self) -> f64 {
        f64::from_bits(self.share.load(Ordering::Relaxed))
    }

    /// Tells how far it is; whether it is still wanted.
    pub fn advance(&self, share: f64) -> bool {
        self.share.store(share.clamp(0.0, 1.0).to_bits(), Ordering::Relaxed);
        !self.is_cancelled()
    }

    pub fn cancel(&self) {
        self.work.end();
    }

    pub fn is_cancelled(&self) -> bool {
        self.work.is_ended()
    }

    /// Does something as this job, at an end when the job is cancelled; `hear` takes what is told on the way, not more often than is
    /// worth looking at.
    pub fn heard<R>(self: &Arc<Self>, hear: fn(&Self, &dyn Any), job: impl FnOnce() -> R) -> Result<R, Ended>
    where
        T: Send + Sync + 'static,
    {
        let ear = Ear { job: Arc::clone(self), hear, last: Mutex::new(None) };
        self.work.heard_by(Arc::new(ear)).carry_out(job)
    }

    /// Shows what there is so far.
    pub fn show(&self, so_far: T) {
        *self.so_far.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::new(so_far));
    }

    pub fn finish(&self, outcome: Result<T, Problem>) {
        *self.outcome.lock().unwrap_or_else(PoisonError::into_inner) = Some(outcome.map(Arc::new));
    }

    /// How it stands, with what came out, or has come so far, or what is wrong.
    pub fn standing(&self) -> (Stage, Option<Arc<T>>, Option<Problem>) {
        match self.outcome.lock().unwrap_or_else(PoisonError::into_inner).clone() {
            None => (Stage::Running, self.so_far.lock().unwrap_or_else(PoisonError::into_inner).clone(), None),
            Some(Ok(outcome)) => (Stage::Done, Some(outcome), None),
            Some(Err(problem)) => (Stage::Failed, None, Some(problem)),
        }
    }
}

/// Pause between two things that are heard of a job.
const HEARD_EVERY: Duration = Duration::from_millis(200);

/// What listens to the work of a job.
struct Ear<T> {
    job: Arc<Job<T>>,
    hear: fn(&Job<T>, &dyn Any),
    last: Mutex<Option<Instant>>,
}

impl<T: Send + Sync> Listener for Ear<T> {
    fn wants(&self) -> bool {
        let mut last = self.last.lock().unwrap_or_else(PoisonError::into_inner);
        let wants = last.is_none_or(|last| last.elapsed() >= HEARD_EVERY);
        if wants {
            *last = Some(Instant::now());
        }
        wants
    }

    fn hear(&self, so_far: &dyn Any) {
        (self.hear)(&self.job, so_far);
    }
}

/// All jobs of a kind that are under way or ended lately.
pub(crate) struct Jobs<T> {
    /// What such a job is called.
    name: &'static str,
    all: Arc<Mutex<HashMap<Uuid, Arc<Job<T>>>>>,
}

impl<T> Clone for Jobs<T> {
    fn clone(&self) -> Self {
        Self { name: self.name, all: Arc::clone(&self.all) }
    }
}

impl<T> Jobs<T> {
    /// None yet; `name` is what such a job is called in errors.
    pub fn new(name: &'static str) -> Self {
        Self { name, all: Arc::default() }
    }

    /// A new one. Errors when too many are under way.
    pub fn begin(&self) -> Result<(Uuid, Arc<Job<T>>), Problem> {
        let job = Arc::new(Job {
            share: AtomicU64::new(0f64.to_bits()),
            work: Work::new(),
            so_far: Mutex::new(None),
            outcome: Mutex::new(None),
            since: Instant::now(),
        });
        let id = Uuid::now_v7();
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, job| job.since.elapsed() < KEPT || job.standing().0 == Stage::Running);
        let is_running = |job: &Job<T>| job.standing().0 == Stage::Running;
        if all.values().filter(|job| is_running(job)).count() >= MOST_RUNNING {
            return Err(Problem::busy(&format!("{MOST_RUNNING} of them are under way already.")));
        }
        let mut ended: Vec<Uuid> = all.iter().filter(|(_, job)| !is_running(job)).map(|(id, _)| *id).collect();
        // Identifiers rise with time: the oldest are forgotten first.
        ended.sort_unstable();
        for id in ended.iter().rev().skip(MOST_KEPT) {
            all.remove(id);
        }
        all.insert(id, Arc::clone(&job));
        Ok((id, job))
    }

    pub fn find(&self, id: Uuid) -> Result<Arc<Job<T>>, Problem> {
        let all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.get(&id)
            .cloned()
            .ok_or_else(|| Problem::not_found(format!("there is no such {} (kept for an hour)", self.name)))
    }
}
