//! Files on their way in: kept in a directory of their own, which only this user can read, until they are imported or forgotten. What
//! an earlier process left there goes at the start.

use crate::problem::Problem;
use axum::body::Body;
use futures_util::StreamExt;
use std::collections::HashMap;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tokio::io::AsyncWriteExt;
use uuid::Uuid;

/// Largest file.
const LARGEST: u64 = 1024 * 1024 * 1024;
/// Files together; the oldest go first.
const LARGEST_TOGETHER: u64 = 4 * LARGEST;
/// After this time a file that nobody imported is forgotten.
const KEPT: Duration = Duration::from_secs(3600);

/// A file that was uploaded.
#[derive(Debug, Clone)]
pub(crate) struct Upload {
    pub name: String,
    pub path: PathBuf,
    pub bytes: u64,
    since: Instant,
    /// How long it stays from then on.
    kept: Duration,
}

/// How long a file stays after it was imported: another loop may take its share of it.
const KEPT_AFTER_USE: Duration = Duration::from_secs(600);

/// The files that were uploaded and not yet forgotten.
#[derive(Clone)]
pub(crate) struct Uploads {
    directory: Arc<Directory>,
    files: Arc<Mutex<HashMap<Uuid, Upload>>>,
}

enum Directory {
    Own(PathBuf),
    /// Where there is no data directory, as beside somebody else's database.
    Temporary(TempDir),
}

impl Directory {
    fn path(&self) -> &Path {
        match self {
            Self::Own(path) => path,
            Self::Temporary(directory) => directory.path(),
        }
    }
}

impl Uploads {
    /// In `uploads` of a data directory, which is emptied; in a temporary one where there is none.
    pub fn new(data: Option<&Path>) -> std::io::Result<Self> {
        let directory = match data {
            Some(data) => {
                let own = data.join("uploads");
                // Whatever stands there: a link is taken away, not followed.
                match std::fs::symlink_metadata(&own) {
                    Ok(there) if there.is_dir() => std::fs::remove_dir_all(&own)?,
                    Ok(_) => std::fs::remove_file(&own)?,
                    Err(_) => {}
                }
                std::fs::DirBuilder::new().mode(0o700).create(&own)?;
                Directory::Own(own)
            }
            None => {
                let only_own = std::fs::Permissions::from_mode(0o700);
                Directory::Temporary(tempfile::Builder::new().prefix("antistasis-").permissions(only_own).tempdir()?)
            }
        };
        Ok(Self { directory: Arc::new(directory), files: Arc::default() })
    }

    /// The file was imported: it may go soon.
    pub fn used(&self, id: Uuid) {
        if let Some(file) = self.lock().get_mut(&id) {
            file.since = Instant::now();
            file.kept = KEPT_AFTER_USE;
        }
    }

    /// Takes a file in, a piece at a time.
    pub async fn take(&self, name: String, body: Body) -> Result<(Uuid, Upload), Problem> {
        self.forget_old();
        let id = Uuid::now_v7();
        let path = self.directory.path().join(id.to_string());
        let written = write(&path, body).await;
        if written.is_err() {
            let _ = tokio::fs::remove_file(&path).await;
        }
        let upload = Upload { name, path, bytes: written?, since: Instant::now(), kept: KEPT };
        self.lock().insert(id, upload.clone());
        Ok((id, upload))
    }

    pub fn find(&self, id: Uuid) -> Result<Upload, Problem> {
        let missing = || Problem::not_found("the file is no longer here (kept for an hour): choose it again");
        self.lock().get(&id).cloned().ok_or_else(missing)
    }

    /// Forgets what is too old, and the oldest while there is too much.
    fn forget_old(&self) {
        let mut files = self.lock();
        loop {
            let together: u64 = files.values().map(|file| file.bytes).sum();
            let oldest = files.iter().min_by_key(|(_, file)| file.since + file.kept);
            match oldest.map(|(id, file)| (*id, file.since.elapsed() > file.kept)) {
                Some((id, is_over)) if is_over || together > LARGEST_TOGETHER => {
                    if let Some(file) = files.remove(&id) {
                        let _ = std::fs::remove_file(file.path);
                    }
                }
                _ => break,
            }
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<Uuid, Upload>> {
        self.files.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

async fn write(path: &std::path::Path, body: Body) -> Result<u64, Problem> {
    let disk = |error: std::io::Error| {
        tracing::error!(%error, "an upload cannot be written");
        Problem::internal()
    };
    let file = tokio::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path).await;
    let mut file = tokio::io::BufWriter::new(file.map_err(disk)?);
    let mut pieces = body.into_data_stream();
    let mut bytes = 0;
    while let Some(piece) = pieces.next().await {
        let piece = piece.map_err(|error| Problem::invalid(format!("the upload broke off: {error}")))?;
        bytes += piece.len() as u64;
        if bytes > LARGEST {
            return Err(Problem::too_large("a file may have up to 1 GiB: split it, or leave columns out"));
        }
        file.write_all(&piece).await.map_err(disk)?;
    }
    file.flush().await.map_err(disk)?;
    Ok(bytes)
}
