//! Runs a command with `DATABASE_URL` set to an empty database on a server that lasts as long as the command.
//!
//! `cargo run -p antistasis-cluster --example with_database -- COMMAND [ARGUMENT ...]`

use antistasis_cluster::{Cluster, for_tests};
use std::process::{Command, ExitCode};

fn main() -> ExitCode {
    let mut words = std::env::args().skip(1);
    let Some(program) = words.next() else {
        eprintln!("give a command");
        return ExitCode::from(2);
    };
    let cluster = match for_tests() {
        Ok(cluster) => cluster,
        Err(error) => {
            eprintln!("{error}");
            return ExitCode::FAILURE;
        }
    };
    let status = Command::new(program).args(words).env("DATABASE_URL", cluster.url(Cluster::FIRST_DATABASE)).status();
    if status.is_ok_and(|status| status.success()) { ExitCode::SUCCESS } else { ExitCode::FAILURE }
}
