//! What all requests share.

use crate::access::Access;
use crate::api::FitOutcome;
use crate::events::Events;
use crate::gate::compute;
use crate::jobs::Jobs;
use crate::problem::Problem;
use crate::queue::Queue;
use crate::tunings::TuningOutcome;
use crate::uploads::Uploads;
use antistasis_core::assessment::Assessment;
use antistasis_core::preparation::{Prepared, Step, prepare};
use antistasis_core::series::Record;
use antistasis_store::{RecordInfo, Store};
use moka::future::Cache;
use std::path::Path;
use std::sync::Arc;
use uuid::Uuid;

/// Assessments that are remembered.
const ASSESSED: u64 = 1000;
/// Memory for records that are being looked at, in bytes.
const RECORD_CACHE: u64 = 512 * 1024 * 1024;

/// What all requests share.
#[derive(Clone)]
pub struct AppState {
    pub(crate) store: Store,
    pub(crate) uploads: Uploads,
    pub(crate) own_origins: Arc<Vec<String>>,
    pub(crate) access: Arc<Access>,
    /// Cookies are the host's, not the port's: each server has one of its own.
    pub(crate) cookie_name: Arc<str>,
    pub(crate) imports: Jobs<RecordInfo>,
    /// Searches for settings.
    pub(crate) tunings: Jobs<TuningOutcome>,
    pub(crate) fits: Jobs<FitOutcome>,
    /// Long work that workers share, and how many threads that in this server has.
    pub(crate) queue: Queue,
    pub(crate) worker_threads: usize,
    pub(crate) events: Events,
    /// What was said of the trials that were simulated last, by their digests.
    pub(crate) assessed: Cache<String, Arc<Assessment>>,
    records: Cache<Uuid, Arc<Record>>,
    prepared: Cache<(Uuid, String), Arc<Prepared>>,
}

impl AppState {
    /// The state of a server on `port`; `other_origins` (such as `http://localhost:5173`) may write, too.
    /// Files on their way in lie in `data`, or where that is not given in a temporary directory.
    pub fn new(
        store: Store,
        port: u16,
        other_origins: &[String],
        data: Option<&Path>,
        access: Access,
    ) -> std::io::Result<Self> {
        let own = ["localhost", "127.0.0.1", "[::1]"].map(|host| format!("http://{host}:{port}"));
        let size = |record: &Record| {
            let values: usize = record.channels.iter().map(|channel| channel.values.len()).sum();
            u32::try_from(8 * (values + record.axis.len())).unwrap_or(u32::MAX)
        };
        let records =
            Cache::builder().max_capacity(RECORD_CACHE).weigher(move |_, record: &Arc<Record>| size(record)).build();
        let prepared = Cache::builder()
            .max_capacity(RECORD_CACHE)
            .weigher(move |_, prepared: &Arc<Prepared>| size(&prepared.record))
            .build();
        Ok(Self {
            assessed: Cache::new(ASSESSED),
            events: Events::of(store.clone()),
            uploads: Uploads::new(data)?,
            access: Arc::new(access),
            cookie_name: format!("antistasis-{port}").into(),
            own_origins: Arc::new(own.into_iter().chain(other_origins.iter().cloned()).collect()),
            imports: Jobs::new("import"),
            tunings: Jobs::new("search for settings"),
            fits: Jobs::new("fit"),
            queue: Queue::new(store.clone()),
            worker_threads: std::thread::available_parallelism().map_or(1, usize::from),
            records,
            prepared,
            store,
        })
    }

    /// The same with so many threads for long work; with 0 it is left to workers elsewhere.
    #[must_use]
    pub fn with_worker_threads(self, threads: usize) -> Self {
        Self { worker_threads: threads, ..self }
    }

    /// A record with its samples; records never change, so that one read lately need not be read again.
    pub(crate) async fn record(&self, id: Uuid) -> Result<Arc<Record>, Problem> {
        self.records
            .try_get_with(id, async { self.store.record(id).await.map(Arc::new).map_err(Problem::from) })
            .await
            .map_err(|problem: Arc<Problem>| (*problem).clone())
    }
}

impl AppState {
    /// Forgets what is kept of a record whose channels were put right.
    pub(crate) async fn forget_record(&self, id: Uuid) {
        self.records.invalidate(&id).await;
        self.prepared.invalidate_all();
    }

    /// A record with steps laid over it.
    pub(crate) async fn prepared(&self, id: Uuid, steps: &[Step]) -> Result<Arc<Prepared>, Problem> {
        let key = (id, serde_json::to_string(steps).unwrap_or_default());
        let steps = steps.to_vec();
        self.prepared
            .try_get_with(key, async {
                let record = self.record(id).await?;
                Ok::<_, Problem>(Arc::new(compute(move || prepare(&record, &steps)).await??))
            })
            .await
            .map_err(|problem: Arc<Problem>| (*problem).clone())
    }
}
