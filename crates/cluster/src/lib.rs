//! A PostgreSQL server of the project's own: on loopback, in a data directory of its own, ended with its owner.
//!
//! The server's programs come from the system's packages. As root, which PostgreSQL refuses to run under, the server
//! runs as the user `postgres` that the packages make.

mod programs;

use nix::unistd::{Gid, Uid, User, geteuid};
use programs::Programs;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::net::{Ipv4Addr, TcpListener, TcpStream};
use std::os::unix::fs::{DirBuilderExt, OpenOptionsExt, PermissionsExt};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::time::{Duration, Instant};

const DATABASE_USER: &str = "antistasis";
const START_TIME: Duration = Duration::from_secs(60);
const STOP_TIME: Duration = Duration::from_secs(20);
/// A server that lives shorter has not come up; after so many in a row it is given up, with such pauses between.
const QUICK: Duration = Duration::from_secs(2);
const MOST_QUICK_ENDS: usize = 100;
const RESTART_PAUSE: Duration = Duration::from_millis(200);

/// Why there is no server, in words that can be shown to the user.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// PostgreSQL is not installed.
    #[error(
        "PostgreSQL is not installed: `initdb` and `postgres` were not found; install the Debian package `postgresql`"
    )]
    Missing,
    /// There is no user to run the server under.
    #[error("PostgreSQL does not run as root and there is no user `postgres`; install the Debian package `postgresql`")]
    NoUser,
    /// A file or directory could not be used.
    #[error("{path}: {source}")]
    File {
        /// The file.
        path: String,
        /// What the system said.
        source: std::io::Error,
    },
    /// Another process uses the data directory.
    #[error("the database in {directory} is in use by process {process}: end it, or choose another data directory")]
    InUse {
        /// The data directory.
        directory: String,
        /// The process.
        process: i32,
    },
    /// A program failed.
    #[error("{program} failed: {output}")]
    Failed {
        /// The program.
        program: String,
        /// The last lines that it printed.
        output: String,
    },
}

type Result<T> = std::result::Result<T, Error>;

/// How durable the data must be.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Durability {
    /// Written data survives a crash.
    Kept,
    /// Nothing is waited for: for tests.
    Fleeting,
}

/// A running server. Dropping it ends it; so does the end of the process, however it ends. A server that ends by itself is
/// started again, under the same address.
pub struct Cluster {
    port: u16,
    password: String,
    state: Arc<State>,
    /// Hangs up when the server has ended and is not started again; behind a lock only so that a cluster can be shared.
    ended: Mutex<mpsc::Receiver<()>>,
}

/// What the keeper of the server and its owner tell each other.
#[derive(Default)]
struct State {
    process: AtomicU32,
    /// It has come up once, and is to be kept up.
    keep: AtomicBool,
}

impl Cluster {
    /// Starts a server on `directory/postgres`, which is made on first use.
    pub fn start(directory: &Path, durability: Durability) -> Result<Self> {
        let programs = Programs::find().ok_or(Error::Missing)?;
        let owner = Owner::find()?;
        owner.make(directory, 0o755)?;
        let data = directory.join("postgres");
        let secret = directory.join("password");
        if !data.join("PG_VERSION").exists() {
            initialise(&programs, &owner, directory, &data, &secret)?;
        }
        refuse_if_in_use(&data)?;
        let password = fs::read_to_string(&secret).map_err(|source| file_error(&secret, source))?;
        let port = free_port().map_err(|source| file_error(Path::new("127.0.0.1"), source))?;
        let log_path = directory.join("postgres.log");
        let log = fs::File::create(&log_path).map_err(|source| file_error(&log_path, source))?;
        let state = Arc::new(State::default());
        let own_data = data.clone();
        let command = move || -> std::io::Result<Command> {
            let mut command = owner.command(&programs.postgres);
            command.arg("-D").arg(&own_data).args(["-p", &port.to_string(), "-h", "127.0.0.1"]);
            // No socket in the file system: one address, on loopback.
            command.args(["-c", "unix_socket_directories=", "-c", "logging_collector=off", "-c", "timezone=UTC"]);
            if durability == Durability::Fleeting {
                command.args(["-c", "fsync=off", "-c", "synchronous_commit=off", "-c", "full_page_writes=off"]);
                command.args(["-c", "max_connections=200"]);
            }
            command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(log.try_clone()?);
            // Out of the terminal's group: Ctrl+C is for the owner, who ends the server last.
            command.process_group(0);
            Ok(command)
        };
        let ended = keep(command, Arc::clone(&state))?;
        let mut cluster = Self { port, password: password.trim().to_owned(), state, ended: Mutex::new(ended) };
        cluster.wait_until_ready(&data, &log_path)?;
        cluster.state.keep.store(true, Ordering::SeqCst);
        Ok(cluster)
    }

    /// The address of database `name`, with the password in it.
    #[must_use]
    pub fn url(&self, name: &str) -> String {
        format!("postgres://{DATABASE_USER}:{}@127.0.0.1:{}/{name}", self.password, self.port)
    }

    /// The name of the database that always exists.
    pub const FIRST_DATABASE: &'static str = "postgres";

    /// The process of the server, as it is now.
    #[must_use]
    pub fn process(&self) -> u32 {
        self.state.process.load(Ordering::SeqCst)
    }

    fn wait_until_ready(&mut self, data: &Path, log: &Path) -> Result<()> {
        let failed = || Error::Failed { program: "postgres".into(), output: last_lines(log) };
        let deadline = Instant::now() + START_TIME;
        loop {
            // The eighth line of the lock file is the server's own word on its state.
            let state = fs::read_to_string(data.join("postmaster.pid")).unwrap_or_default();
            let ready = state.lines().nth(7).is_some_and(|line| line.trim() == "ready");
            if ready && TcpStream::connect((Ipv4Addr::LOCALHOST, self.port)).is_ok() {
                return Ok(());
            }
            match self.ended(Duration::from_millis(20)) {
                Err(mpsc::RecvTimeoutError::Timeout) if Instant::now() < deadline => {}
                _ => return Err(failed()),
            }
        }
    }
}

impl Cluster {
    fn ended(&mut self, within: Duration) -> std::result::Result<(), mpsc::RecvTimeoutError> {
        self.ended.get_mut().unwrap_or_else(PoisonError::into_inner).recv_timeout(within)
    }

    fn signal(&self, signal: nix::sys::signal::Signal) {
        let process = self.process();
        if process > 0 {
            let _ = nix::sys::signal::kill(nix::unistd::Pid::from_raw(process as i32), signal);
        }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        self.state.keep.store(false, Ordering::SeqCst);
        // SIGINT is a fast shutdown: connections are cut, data are written.
        self.signal(nix::sys::signal::Signal::SIGINT);
        if self.ended(STOP_TIME) == Err(mpsc::RecvTimeoutError::Timeout) {
            tracing::warn!(process = self.process(), "PostgreSQL did not end in time, it is killed");
            self.signal(nix::sys::signal::Signal::SIGQUIT);
            let _ = self.ended(STOP_TIME);
        }
    }
}

/// Starts the command in a thread that lives as long as the child: the kernel ends the child with the thread that
/// started it (`setpriv --pdeathsig`), so that thread must not be one that comes and goes. A child that ends while it is to be
/// kept is started again.
fn keep(
    command: impl Fn() -> std::io::Result<Command> + Send + 'static,
    state: Arc<State>,
) -> Result<mpsc::Receiver<()>> {
    let (started, start) = mpsc::channel::<std::io::Result<()>>();
    let (end, ended) = mpsc::channel();
    let keeper = move || {
        let _end = end;
        match command().and_then(|mut command| command.spawn()) {
            Ok(child) => {
                state.process.store(child.id(), Ordering::SeqCst);
                let _ = started.send(Ok(()));
                keep_up(child, &command, &state);
            }
            Err(error) => {
                let _ = started.send(Err(error));
            }
        }
    };
    std::thread::Builder::new()
        .name("postgres keeper".into())
        .spawn(keeper)
        .map_err(|source| file_error(Path::new("thread"), source))?;
    let failed = |output: String| Error::Failed { program: "setpriv".into(), output };
    match start.recv() {
        Ok(Ok(())) => Ok(ended),
        Ok(Err(error)) => Err(failed(error.to_string())),
        Err(_) => Err(failed("it ended at once".into())),
    }
}

/// Waits for the server, and starts it again as long as it is to be kept.
fn keep_up(mut child: Child, command: &impl Fn() -> std::io::Result<Command>, state: &State) {
    let mut quick_ends = 0;
    loop {
        let since = Instant::now();
        if let Err(error) = child.wait() {
            tracing::warn!(%error, "PostgreSQL cannot be waited for");
        }
        state.process.store(0, Ordering::SeqCst);
        if !state.keep.load(Ordering::SeqCst) {
            return;
        }
        // What a killed server leaves behind (processes of its own, its lock) needs a moment to go.
        quick_ends = if since.elapsed() < QUICK { quick_ends + 1 } else { 0 };
        if quick_ends > MOST_QUICK_ENDS {
            tracing::error!("PostgreSQL ends again and again: its log in the data directory says why");
            return;
        }
        tracing::warn!("PostgreSQL has ended by itself, it is started again");
        if quick_ends > 0 {
            std::thread::sleep(RESTART_PAUSE);
        }
        match command().and_then(|mut command| command.spawn()) {
            Ok(next) => {
                state.process.store(next.id(), Ordering::SeqCst);
                child = next;
                // Its owner may have left meanwhile, and signalled nobody.
                if !state.keep.load(Ordering::SeqCst) {
                    let process = nix::unistd::Pid::from_raw(child.id() as i32);
                    let _ = nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGINT);
                }
            }
            Err(error) => {
                tracing::error!(%error, "PostgreSQL cannot be started again");
                return;
            }
        }
    }
}

/// The user whom the server runs as.
struct Owner {
    /// None: the user of this process.
    other: Option<(Uid, Gid, String)>,
}

impl Owner {
    fn find() -> Result<Self> {
        if !geteuid().is_root() {
            return Ok(Self { other: None });
        }
        let user = User::from_name("postgres").ok().flatten().ok_or(Error::NoUser)?;
        Ok(Self { other: Some((user.uid, user.gid, user.name)) })
    }

    /// A command as this user that ends with its parent.
    fn command(&self, program: &Path) -> Command {
        let mut command = Command::new("setpriv");
        if let Some((_, _, name)) = &self.other {
            command.args(["--reuid", name, "--regid", name, "--init-groups"]);
        }
        command.args(["--pdeathsig", "INT", "--"]).arg(program);
        command.env("LC_ALL", "C.UTF-8").current_dir("/");
        command
    }

    /// Makes a directory that belongs to this user.
    fn make(&self, directory: &Path, mode: u32) -> Result<()> {
        fs::DirBuilder::new()
            .recursive(true)
            .mode(mode)
            .create(directory)
            .and_then(|()| self.own(directory))
            .map_err(|source| file_error(directory, source))
    }

    fn own(&self, path: &Path) -> std::io::Result<()> {
        match self.other {
            Some((uid, gid, _)) => std::os::unix::fs::chown(path, Some(uid.as_raw()), Some(gid.as_raw())),
            None => Ok(()),
        }
    }
}

/// Makes a database. It gets its name only when it is whole: a start that is cut off leaves nothing that looks like one.
fn initialise(programs: &Programs, owner: &Owner, directory: &Path, data: &Path, secret: &Path) -> Result<()> {
    let unfinished = directory.join("postgres.unfinished");
    for left in [&unfinished, data] {
        if left.exists() {
            fs::remove_dir_all(left).map_err(|source| file_error(left, source))?;
        }
    }
    owner.make(&unfinished, 0o700)?;
    fs::set_permissions(&unfinished, fs::Permissions::from_mode(0o700))
        .map_err(|source| file_error(&unfinished, source))?;
    let password: String = (0..32).map(|_| char::from_digit(rand::random_range(0..16), 16).unwrap_or('0')).collect();
    let write = || {
        let _ = fs::remove_file(secret);
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(secret)?;
        writeln!(file, "{password}")?;
        file.sync_all()?;
        owner.own(secret)
    };
    write().map_err(|source| file_error(secret, source))?;
    let mut command = owner.command(&programs.initdb);
    command.arg("-D").arg(&unfinished).arg("--pwfile").arg(secret);
    command.args(["-U", DATABASE_USER, "--auth=scram-sha-256", "--encoding=UTF8", "--locale=C.UTF-8"]);
    let output =
        command.output().map_err(|error| Error::Failed { program: "setpriv".into(), output: error.to_string() })?;
    if !output.status.success() {
        let _ = fs::remove_dir_all(&unfinished);
        let text = String::from_utf8_lossy(&output.stderr).trim().to_owned();
        return Err(Error::Failed { program: "initdb".into(), output: text });
    }
    fs::rename(&unfinished, data).map_err(|source| file_error(data, source))?;
    // The name itself must outlast a power cut.
    fs::File::open(directory).and_then(|directory| directory.sync_all()).map_err(|source| file_error(directory, source))
}

fn refuse_if_in_use(data: &Path) -> Result<()> {
    let lock = data.join("postmaster.pid");
    let Ok(text) = fs::read_to_string(&lock) else { return Ok(()) };
    let Some(process) = text.lines().next().and_then(|line| line.trim().parse::<i32>().ok()) else { return Ok(()) };
    // A server that is being ended by the death of its owner needs a moment.
    let deadline = Instant::now() + Duration::from_secs(5);
    loop {
        // A number that another program has got meanwhile tells nothing: the server of this directory stands in it.
        let name = fs::read_to_string(format!("/proc/{process}/comm")).unwrap_or_default();
        let is_here = fs::read_link(format!("/proc/{process}/cwd"))
            .is_ok_and(|at| fs::canonicalize(data).is_ok_and(|own| own == at));
        if name.trim() != "postgres" || !is_here {
            let _ = fs::remove_file(&lock);
            return Ok(());
        }
        if Instant::now() > deadline {
            return Err(Error::InUse { directory: data.display().to_string(), process });
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

fn free_port() -> std::io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?.local_addr()?.port())
}

fn last_lines(path: &Path) -> String {
    let Ok(file) = fs::File::open(path) else { return String::new() };
    let lines: Vec<String> = BufReader::new(file).lines().map_while(std::result::Result::ok).collect();
    lines[lines.len().saturating_sub(4)..].join(" / ")
}

fn file_error(path: &Path, source: std::io::Error) -> Error {
    Error::File { path: path.display().to_string(), source }
}

/// A server for the tests of one process, in a fresh directory, without durability.
///
/// It ends with the process. Directories that earlier processes left are removed first. It lies in memory where there is
/// room: a disk that is still writing what a compiler made holds a database up for seconds.
pub fn for_tests() -> Result<Cluster> {
    let parent = fleeting_directory().join(format!("antistasis-tests-{}", geteuid()));
    Owner { other: None }.make(&parent, 0o755)?;
    let entries = fs::read_dir(&parent).map_err(|source| file_error(&parent, source))?;
    for entry in entries.flatten() {
        let left_by = entry.file_name().to_string_lossy().parse::<i32>();
        if left_by.is_ok_and(|process| !PathBuf::from(format!("/proc/{process}")).exists()) {
            let _ = fs::remove_dir_all(entry.path());
        }
    }
    Cluster::start(&parent.join(std::process::id().to_string()), Durability::Fleeting)
}

/// Memory that can be written to like a disk, where there is room for many times what tests keep.
fn fleeting_directory() -> PathBuf {
    const ROOM: u64 = 3 << 30;
    let memory = Path::new("/dev/shm");
    let free = nix::sys::statvfs::statvfs(memory).map_or(0, |of| of.blocks_available() * of.fragment_size());
    if free >= ROOM { memory.to_owned() } else { std::env::temp_dir() }
}
