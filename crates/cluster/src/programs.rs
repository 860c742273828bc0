//! Where the system keeps PostgreSQL's programs.

use std::path::{Path, PathBuf};

/// The programs that make and run a server.
pub(crate) struct Programs {
    pub initdb: PathBuf,
    pub postgres: PathBuf,
}

impl Programs {
    /// Debian keeps them by version outside the search path; the newest version is taken, else the search path.
    pub fn find() -> Option<Self> {
        let mut versions: Vec<(u32, PathBuf)> = std::fs::read_dir("/usr/lib/postgresql")
            .into_iter()
            .flatten()
            .flatten()
            .filter_map(|entry| Some((entry.file_name().to_string_lossy().parse().ok()?, entry.path().join("bin"))))
            .collect();
        versions.sort_unstable_by(|a, b| b.cmp(a));
        let path = std::env::var_os("PATH").unwrap_or_default();
        let directories = versions.into_iter().map(|version| version.1).chain(std::env::split_paths(&path));
        directories
            .map(|directory| Self::within(&directory))
            .find(|programs| programs.initdb.is_file() && programs.postgres.is_file())
    }

    fn within(directory: &Path) -> Self {
        Self { initdb: directory.join("initdb"), postgres: directory.join("postgres") }
    }
}
