//! The `antistasis` command: the application, and the core's jobs on files.

mod demo;
mod dossier;
mod files;
mod host;
mod physical;
mod privileges;
mod prove;
mod records;
mod tune;
mod worker;
mod works;

use clap::{Parser, Subcommand};
use std::process::ExitCode;

/// Identifies, simulates and tunes control loops.
#[derive(Debug, Parser)]
#[command(name = "antistasis", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Serves the application, with a database of its own unless told of another.
    Serve(host::ServeOptions),
    /// Serves the application with the demo works in it.
    Demo(host::HostOptions),
    /// Does pieces of the long work of a server (proofs, sweeps), on this machine or another; any number may share it.
    Worker(worker::WorkerOptions),
    /// Fits a model to a record in a file and prints it, with its validation, as JSON.
    Identify(records::IdentifyOptions),
    /// Leads a physical model along a record in a file and prints what is not measured, and what drifts, over time, as JSON.
    Track(records::TrackOptions),
    /// Judges a record in a file and prints the findings as JSON.
    Inspect(records::InspectOptions),
    /// Plans an experiment and prints the plan as JSON.
    Experiment(records::ExperimentOptions),
    /// Prints controller settings for a model or a trial as JSON: by a rule, or the best under demands.
    Tune(tune::TuneOptions),
    /// Runs a trial, writes its trace, and prints its assessment as JSON.
    Simulate(files::SimulateOptions),
    /// Runs a trial over and over with one number or two varied, and prints the assessments as JSON.
    Sweep(files::SweepOptions),
    /// Holds candidates against disturbances with limits, on a plant and on those that it may be; exit status 1 when a limit is passed.
    Prove(prove::ProveOptions),
    /// Prints the PID controllers of a trial as function blocks in Structured Text (IEC 61131-3).
    StructuredText(files::StructuredTextOptions),
    /// Writes the dossier of a loop out of its archive: HTML, PDF or JSON.
    Dossier(dossier::DossierOptions),
    /// Prints where the plant of a trial can rest, its linearisation and its nearest low-order model as JSON.
    Analyse(files::AnalyseOptions),
    /// Prints how loops on the plant of a trial act on each other as JSON: relative gains, pairings, singular values, zeros.
    Interaction(files::InteractionOptions),
    /// Sets up several loops on one plant and detunes them together: a trial with a controller a pair.
    Loops(files::LoopsOptions),
    /// Prints the JSON Schema of a document.
    Schema(files::SchemaOptions),
    /// Areas and loops of a server that runs: makes, changes, deletes and restores them, and packs them as archives.
    Works(works::WorksOptions),
    /// Prints the OpenAPI document of the server.
    Openapi,
    /// Print the licences of everything that is in this program.
    Licences,
}

/// Something the user must mend; it is told in one line, and the exit status is 2.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct Failure(String);

impl Failure {
    fn new(text: impl ToString) -> Self {
        Self(text.to_string())
    }

    /// What is the matter with a file.
    fn of(path: &std::path::Path, error: impl std::fmt::Display) -> Self {
        Self(format!("{}: {error}", path.display()))
    }
}

fn main() -> ExitCode {
    let arguments = match Arguments::try_parse() {
        Ok(arguments) => arguments,
        Err(error) if !error.use_stderr() => {
            let _ = error.print();
            return ExitCode::SUCCESS;
        }
        Err(error) => {
            let text = error.to_string();
            let lines: Vec<&str> = text.lines().map(str::trim).take_while(|line| !line.starts_with("Usage")).collect();
            return refuse(lines.join(" ").trim().trim_start_matches("error: "));
        }
    };
    let done = match arguments.command {
        Command::Serve(options) => host::serve(options),
        Command::Demo(options) => host::demo(options),
        Command::Worker(options) => worker::run(&options),
        Command::Identify(options) => records::identify(&options),
        Command::Track(options) => records::track(&options),
        Command::Inspect(options) => records::inspect(&options),
        Command::Experiment(options) => records::experiment(&options),
        Command::Tune(options) => tune::tune(&options),
        Command::Simulate(options) => files::simulate(&options),
        Command::Sweep(options) => files::sweep(&options),
        Command::Prove(options) => {
            return match prove::run(&options) {
                Ok(true) => ExitCode::SUCCESS,
                Ok(false) => ExitCode::from(1),
                Err(failure) => refuse(&failure.to_string()),
            };
        }
        Command::StructuredText(options) => files::structured_text(&options),
        Command::Dossier(options) => dossier::run(&options),
        Command::Analyse(options) => files::analyse_plant(&options),
        Command::Interaction(options) => files::interaction(&options),
        Command::Loops(options) => files::loops(&options),
        Command::Schema(options) => files::schema(&options),
        Command::Works(options) => works::works(options),
        Command::Openapi => files::print(&antistasis_server::openapi()),
        Command::Licences => files::print_text(&antistasis_server::licences()),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => refuse(&failure.to_string()),
    }
}

fn refuse(text: &str) -> ExitCode {
    eprintln!("antistasis: {}", text.replace('\n', " "));
    ExitCode::from(2)
}
