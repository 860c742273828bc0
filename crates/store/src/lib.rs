//! What is kept, in PostgreSQL: migrations and queries, nothing else.

mod archive;
mod bin;
mod changes;
mod dossiers;
mod jobs;
mod loops;
mod models;
mod proofs;
mod records;
mod saved;
mod tags;
mod trials;
mod unreadable;

pub use antistasis_core::simulation::letter;
pub use archive::{
    ArchivedDossier, ArchivedLoop, ArchivedModel, ArchivedProof, ArchivedRecord, ArchivedSaved, ArchivedTrial,
};
pub use bin::{BinItem, DeletionKind, Hanging};
pub use changes::{Change, Changes};
pub use dossiers::{ProvenCandidates, TriedCandidate, WrittenDossier};
pub use jobs::{JobStage, JobStanding};
pub use loops::{AreaInfo, AreaSeed, LoopCard, LoopDetail, LoopOrder, LoopSeed, LoopSummary, LoopsAsked, NewLoop};
pub use models::{FurtherWindow, ModelRow, NewModel};
pub use proofs::{NewProof, ProofRow};
pub use records::{ChannelInfo, NewRecord, RecordInfo};
pub use saved::{SavedItem, SavedKind, SavedSpec};
pub use tags::renamed;
pub use trials::{NewTrial, TrialEdit, TrialRow};
pub use unreadable::{Listed, Unreadable};

use sqlx::PgPool;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use std::str::FromStr;
use std::time::{Duration, Instant};

/// Why something could not be kept or found.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// There is no such thing.
    #[error("there is no {what} “{name}”")]
    NotFound {
        /// What was looked for.
        what: &'static str,
        /// The name or id that was given.
        name: String,
    },
    /// Another one is called that already.
    #[error("there is already {article} {what} “{name}”: give another name")]
    Taken {
        /// `a` or `an`.
        article: &'static str,
        /// What it is.
        what: &'static str,
        /// The name that is taken.
        name: String,
    },
    /// It was changed by somebody else after it was read.
    #[error("it was changed by somebody else meanwhile")]
    Changed,
    /// It cannot be brought back as things stand.
    #[error("{0}")]
    Refused(String),
    /// The database did not answer as it should.
    #[error("the database failed: {0}")]
    Database(#[from] sqlx::Error),
    /// The tables could not be brought up to date.
    #[error("the database cannot be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// What was stored makes no record.
    #[error("the record is damaged: {0}")]
    Damaged(#[from] antistasis_core::Error),
}

impl Error {
    /// Whether it can be tried again: the database cannot be reached, as while it is being started again, or two changes got into
    /// each other's way.
    #[must_use]
    pub fn is_unavailable(&self) -> bool {
        match self {
            Self::Database(sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut | sqlx::Error::PoolClosed) => true,
            // Class 57P: the server is being ended, has crashed, or is not ready yet; 08: no connection; 40: a rollback.
            _ => self.code().is_some_and(|code| ["57P", "08", "40"].iter().any(|class| code.starts_with(class))),
        }
    }

    /// Whether something refers to what does not exist.
    #[must_use]
    pub fn is_dangling(&self) -> bool {
        self.code().is_some_and(|code| code == "23503")
    }

    /// Whether there is no room for it.
    #[must_use]
    pub fn is_disk_full(&self) -> bool {
        self.code().is_some_and(|code| code == "53100")
    }

    /// The code that the database gave (SQLSTATE).
    fn code(&self) -> Option<String> {
        let Self::Database(error) = self else { return None };
        Some(error.as_database_error()?.code()?.into_owned())
    }
}

/// The result of every query.
pub type Result<T> = std::result::Result<T, Error>;

/// How long a request waits for a connection before its user is told that the database does not answer.
const REQUEST_WAITS: Duration = Duration::from_secs(5);
/// How long opening waits for the first one: a machine that has just begun may be busy with much else.
const OPENING_WAITS: Duration = Duration::from_secs(60);

/// The database.
#[derive(Debug, Clone)]
pub struct Store {
    pool: PgPool,
}

impl Store {
    /// Connects, makes the database where it does not exist yet, and brings its tables up to date.
    pub async fn open(url: &str) -> Result<Self> {
        use sqlx::migrate::MigrateDatabase;
        if !sqlx::Postgres::database_exists(url).await? {
            sqlx::Postgres::create_database(url).await?;
        }
        let options = PgConnectOptions::from_str(url)?.application_name("antistasis");
        let pool = PgPoolOptions::new().max_connections(8).acquire_timeout(REQUEST_WAITS).connect_lazy_with(options);
        let deadline = Instant::now() + OPENING_WAITS;
        while let Err(error) = pool.acquire().await {
            if !matches!(error, sqlx::Error::PoolTimedOut) || Instant::now() > deadline {
                return Err(error.into());
            }
        }
        sqlx::migrate!().run(&pool).await?;
        Ok(Self { pool })
    }

    /// Whether the database answers.
    pub async fn check(&self) -> Result<()> {
        sqlx::query_scalar!("select 1").fetch_one(&self.pool).await?;
        Ok(())
    }

    /// Closes all connections.
    pub async fn close(&self) {
        self.pool.close().await;
    }
}

/// Which part of a list is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Part {
    /// The newest so many.
    pub newest: i64,
    /// One that is to be there besides, however old it is.
    pub also: Option<uuid::Uuid>,
}

/// The revision that a document must still have for a change to it to be taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Expected {
    /// Just this one.
    Revision(i64),
    /// Whatever stands there is replaced.
    Any,
}

impl Expected {
    fn revision(self) -> Option<i64> {
        match self {
            Self::Revision(revision) => Some(revision),
            Self::Any => None,
        }
    }
}

/// A name that must be new.
fn taken(error: sqlx::Error, what: &'static str, name: &str) -> Error {
    if error.as_database_error().is_some_and(sqlx::error::DatabaseError::is_unique_violation) {
        let article = if what.starts_with(['a', 'e', 'i', 'o', 'u']) { "an" } else { "a" };
        Error::Taken { article, what, name: name.to_owned() }
    } else {
        error.into()
    }
}

/// A row that must exist.
fn found<T>(row: Option<T>, what: &'static str, name: impl ToString) -> Result<T> {
    row.ok_or_else(|| Error::NotFound { what, name: name.to_string() })
}
