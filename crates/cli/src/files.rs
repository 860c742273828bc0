//! The core's jobs on files.

use crate::Failure;
use antistasis_core::assessment::assess;
use antistasis_core::experiment::ExperimentSpec;
use antistasis_core::identification::Model;
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{SimcChoice, simc};
use antistasis_core::units::Span;
use antistasis_exchange::csv_file;
use clap::{Args, ValueEnum};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fs::File;
use std::io::{BufReader, BufWriter, Write};
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// Prints a document; a reader that has had enough is no error.
pub(crate) fn print(document: &impl Serialize) -> Result<(), Failure> {
    let mut text = serde_json::to_string_pretty(document).map_err(Failure::new)?;
    text.push('\n');
    match std::io::stdout().write_all(text.as_bytes()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(Failure::new(error)),
        _ => Ok(()),
    }
}

pub(crate) fn read_json<T: DeserializeOwned>(path: &Path) -> Result<T, Failure> {
    let file = File::open(path).map_err(|error| Failure::of(path, error))?;
    serde_json::from_reader(BufReader::new(file)).map_err(|error| Failure::of(path, error))
}

#[derive(Debug, Args)]
pub(crate) struct TuneOptions {
    /// Model, as `identify` prints it.
    #[arg(long)]
    model: PathBuf,
    /// Tuning rule.
    #[arg(long, value_enum, default_value_t = Rule::Simc)]
    rule: Rule,
    /// Closed-loop time constant in s; the dead time when left out.
    #[arg(long)]
    closed_loop_time_constant: Option<f64>,
    /// Span of the PV as LOW:HIGH, in its unit; the gain is in % of it.
    #[arg(long, default_value = "0:100", allow_hyphen_values = true)]
    pv_span: String,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Rule {
    /// Skogestad 2003.
    Simc,
}

pub(crate) fn tune(options: &TuneOptions) -> Result<(), Failure> {
    let model: Model = read_json(&options.model)?;
    let Rule::Simc = options.rule;
    let process = model.process().map_err(|error| Failure::of(&options.model, error))?;
    let ends = options.pv_span.split_once(':').and_then(|(low, high)| Some((low.parse().ok()?, high.parse().ok()?)));
    let Some((low, high)) = ends else {
        return Err(Failure(format!("--pv-span is {}; allowed: LOW:HIGH, for example 0:150", options.pv_span)));
    };
    let unit = model.output_unit();
    let choice = SimcChoice { closed_loop_time_constant: options.closed_loop_time_constant };
    print(&simc(&process, &Span::new(low, high, unit), &choice).map_err(Failure::new)?)
}

#[derive(Debug, Args)]
pub(crate) struct SimulateOptions {
    /// Trial; `antistasis schema trial` prints its schema.
    trial: PathBuf,
    /// File that the trace is written to.
    #[arg(long)]
    csv: Option<PathBuf>,
}

pub(crate) fn simulate(options: &SimulateOptions) -> Result<(), Failure> {
    let trial: Trial = read_json(&options.trial)?;
    let in_trial = |error: antistasis_core::Error| Failure::of(&options.trial, error);
    let trace = trial.run().map_err(in_trial)?;
    if let Some(path) = &options.csv {
        let file = File::create(path).map_err(|error| Failure::of(path, error))?;
        csv_file::write_trace(&trace, BufWriter::new(file)).map_err(|error| Failure::of(path, error))?;
    }
    print(&assess(&trial, &trace).map_err(in_trial)?)
}

#[derive(Debug, Args)]
pub(crate) struct SchemaOptions {
    /// The document.
    #[arg(value_enum)]
    document: Document,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum Document {
    /// What `simulate` reads.
    Trial,
    /// What `identify` prints.
    Model,
    /// What `experiment` reads.
    Experiment,
}

pub(crate) fn schema(options: &SchemaOptions) -> Result<(), Failure> {
    print(&match options.document {
        Document::Trial => json_schema::<Trial>()?,
        Document::Model => json_schema::<Model>()?,
        Document::Experiment => json_schema::<ExperimentSpec>()?,
    })
}

/// The JSON Schema (2020-12) of a type. OpenAPI 3.1 uses the same schemas, with the references elsewhere.
fn json_schema<T: ToSchema>() -> Result<serde_json::Value, Failure> {
    let mut parts = Vec::new();
    T::schemas(&mut parts);
    let definitions: serde_json::Map<String, serde_json::Value> = parts
        .into_iter()
        .map(|(name, schema)| Ok((name, serde_json::to_value(schema)?)))
        .collect::<Result<_, serde_json::Error>>()
        .map_err(Failure::new)?;
    let mut root = serde_json::to_value(T::schema()).map_err(Failure::new)?;
    root["$schema"] = "https://json-schema.org/draft/2020-12/schema".into();
    root["title"] = T::name().into();
    root["$defs"] = definitions.into();
    let text = root.to_string().replace("#/components/schemas/", "#/$defs/");
    serde_json::from_str(&text).map_err(Failure::new)
}
