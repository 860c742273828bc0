//! Imports under way: how far each is, and whether it is still wanted.

use crate::problem::Problem;
use antistasis_store::RecordInfo;
use std::collections::HashMap;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use uuid::Uuid;

/// How long a finished import is remembered.
const KEPT: Duration = Duration::from_secs(3600);

/// How an import ended.
#[derive(Debug, Clone)]
pub(crate) enum Outcome {
    Done(Box<RecordInfo>),
    Failed(Problem),
}

/// An import under way.
#[derive(Debug)]
pub(crate) struct Import {
    /// Bits of the share that is done, 0 to 1.
    share: AtomicU64,
    cancelled: AtomicBool,
    outcome: Mutex<Option<Outcome>>,
    since: Instant,
}

impl Import {
    pub fn share(&self) -> f64 {
        f64::from_bits(self.share.load(Ordering::Relaxed))
    }

    /// Tells how far it is; whether it is still wanted.
    pub fn advance(&self, share: f64) -> bool {
        self.share.store(share.clamp(0.0, 1.0).to_bits(), Ordering::Relaxed);
        !self.is_cancelled()
    }

    pub fn cancel(&self) {
        self.cancelled.store(true, Ordering::Relaxed);
    }

    pub fn is_cancelled(&self) -> bool {
        self.cancelled.load(Ordering::Relaxed)
    }

    pub fn finish(&self, outcome: Outcome) {
        *self.outcome.lock().unwrap_or_else(PoisonError::into_inner) = Some(outcome);
    }

    pub fn outcome(&self) -> Option<Outcome> {
        self.outcome.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

/// All imports that are under way or ended lately.
#[derive(Clone, Default)]
pub(crate) struct Imports {
    all: Arc<Mutex<HashMap<Uuid, Arc<Import>>>>,
}

impl Imports {
    /// A new one.
    pub fn begin(&self) -> (Uuid, Arc<Import>) {
        let import = Arc::new(Import {
            share: AtomicU64::new(0f64.to_bits()),
            cancelled: AtomicBool::new(false),
            outcome: Mutex::new(None),
            since: Instant::now(),
        });
        let id = Uuid::now_v7();
        let mut all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, import| import.since.elapsed() < KEPT || import.outcome().is_none());
        all.insert(id, Arc::clone(&import));
        (id, import)
    }

    pub fn find(&self, id: Uuid) -> Result<Arc<Import>, Problem> {
        let all = self.all.lock().unwrap_or_else(PoisonError::into_inner);
        all.get(&id).cloned().ok_or_else(|| Problem::not_found("there is no such import (kept for an hour)"))
    }
}
