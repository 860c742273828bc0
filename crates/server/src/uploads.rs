//! Files on their way in: kept in a temporary directory until they are imported or forgotten.

use crate::problem::Problem;
use axum::body::Body;
use futures_util::StreamExt;
use std::collections::HashMap;
use std::path::PathBuf;
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
}

/// The files that were uploaded and not yet forgotten.
#[derive(Clone)]
pub(crate) struct Uploads {
    directory: Arc<TempDir>,
    files: Arc<Mutex<HashMap<Uuid, Upload>>>,
}

impl Uploads {
    pub fn new() -> std::io::Result<Self> {
        let directory = TempDir::with_prefix("antistasis-uploads-")?;
        Ok(Self { directory: Arc::new(directory), files: Arc::default() })
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
        let upload = Upload { name, path, bytes: written?, since: Instant::now() };
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
            let oldest = files.iter().min_by_key(|(_, file)| file.since).map(|(id, file)| (*id, file.since));
            match oldest {
                Some((id, since)) if since.elapsed() > KEPT || together > LARGEST_TOGETHER => {
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
    let mut file = tokio::io::BufWriter::new(tokio::fs::File::create(path).await.map_err(disk)?);
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
