//! As root nothing is read or served: the program goes on as the user whom the database runs under anyway.

use crate::Failure;
use nix::unistd::{User, geteuid, initgroups, setgid, setuid};
use std::ffi::CString;
use std::fs::File;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::path::Path;

/// Whom the program goes on as: the user that the Debian package `postgresql` makes; beside somebody else's database it may not be
/// there.
const USERS: [&str; 2] = ["postgres", "nobody"];

/// Where this process is root's: makes the data directory, gives it to the unprivileged user, and begins anew as that user.
/// Returns where there is nothing to do.
pub(crate) fn drop_privileges(directory: Option<&Path>) -> Result<(), Failure> {
    if !geteuid().is_root() || !can_go_on() {
        return Ok(());
    }
    let known = USERS.iter().find_map(|name| User::from_name(name).ok().flatten());
    let user =
        known.ok_or_else(|| Failure::new("there is no user `postgres`: install the Debian package `postgresql`"))?;
    if let Some(directory) = directory {
        std::fs::DirBuilder::new()
            .recursive(true)
            .mode(0o755)
            .create(directory)
            .and_then(|()| std::os::unix::fs::lchown(directory, Some(user.uid.as_raw()), Some(user.gid.as_raw())))
            .map_err(|error| Failure::of(directory, error))?;
        // What earlier versions wrote as root. Nothing is followed: a link would be taken away itself.
        let _ = std::fs::remove_file(directory.join("postgres.log"));
        let _ = std::fs::remove_dir_all(directory.join("uploads"));
    }
    // Opened before: the unprivileged user need not be able to reach the program by its path.
    let program = File::open("/proc/self/exe").map_err(Failure::new)?;
    let words: Vec<CString> = std::env::args_os()
        .map(|word| CString::new(word.as_bytes()))
        .collect::<Result<_, _>>()
        .map_err(Failure::new)?;
    let environment: Vec<CString> = std::env::vars_os()
        .map(|(name, value)| CString::new([name.as_bytes(), b"=", value.as_bytes()].concat()))
        .collect::<Result<_, _>>()
        .map_err(Failure::new)?;
    let name = CString::new(user.name.as_str()).map_err(Failure::new)?;
    // Groups first: afterwards it may not.
    initgroups(&name, user.gid)
        .and_then(|()| setgid(user.gid))
        .and_then(|()| setuid(user.uid))
        .map_err(|error| Failure::new(format!("it cannot go on as the user {}: {error}", user.name)))?;
    match nix::unistd::fexecve(program, &words, &environment) {
        Err(error) => Err(Failure::new(format!("it cannot begin anew as the user {}: {error}", user.name))),
        Ok(never) => match never {},
    }
}

/// A build for development reads the front end from the project's directory, which the other user must be able to reach.
fn can_go_on() -> bool {
    let everybody = |path: &Path| std::fs::metadata(path).is_ok_and(|there| there.permissions().mode() & 0o001 != 0);
    !cfg!(debug_assertions) || Path::new(env!("CARGO_MANIFEST_DIR")).ancestors().all(everybody)
}
