//! The core's jobs on files.

use crate::Failure;
use antistasis_core::assessment::assess;
use antistasis_core::identification::{DataSet, FopdtModel, Structure, fit_fopdt};
use antistasis_core::process::ProcessSpec;
use antistasis_core::series::Role;
use antistasis_core::simulation::Trial;
use antistasis_core::tuning::{SimcChoice, simc};
use antistasis_core::units::Span;
use antistasis_exchange::csv_file::{self, ChannelMapping, Mapping, TimeSource};
use clap::{Args, ValueEnum};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
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

fn read_json<T: DeserializeOwned>(path: &Path) -> Result<T, Failure> {
    let file = File::open(path).map_err(|error| Failure::of(path, error))?;
    serde_json::from_reader(BufReader::new(file)).map_err(|error| Failure::of(path, error))
}

#[derive(Debug, Args)]
pub(crate) struct IdentifyOptions {
    /// CSV file with the record.
    record: PathBuf,
    /// Time column; found out from the file when left out.
    #[arg(long, conflicts_with = "interval")]
    time: Option<String>,
    /// Sample time in s, for a file without times.
    #[arg(long)]
    interval: Option<f64>,
    /// Column of the input, the OP.
    #[arg(long)]
    input: String,
    /// Column of the output, the PV.
    #[arg(long)]
    output: String,
    /// Structure of the model.
    #[arg(long, value_enum, default_value_t = StructureName::Fopdt)]
    structure: StructureName,
    /// Start of the window in s from the first sample.
    #[arg(long)]
    from: Option<f64>,
    /// End of the window in s from the first sample.
    #[arg(long)]
    to: Option<f64>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum StructureName {
    /// First order plus dead time.
    Fopdt,
}

pub(crate) fn identify(options: &IdentifyOptions) -> Result<(), Failure> {
    let path = &options.record;
    let in_file = |error: antistasis_exchange::Error| Failure::of(path, error);
    let preview = csv_file::preview(path).map_err(in_file)?;
    let channel = |column: &str, role| ChannelMapping {
        column: column.to_owned(),
        role,
        tag: column.to_owned(),
        unit: preview
            .columns
            .iter()
            .find(|known| known.name == column)
            .map_or(String::new(), |known| known.unit.clone()),
    };
    let time = match (&options.time, options.interval) {
        (Some(column), _) => TimeSource::Column { column: column.clone(), date_order: None, unit: None },
        (None, Some(seconds)) => TimeSource::Interval { seconds },
        (None, None) => match preview.guess.time.clone() {
            TimeSource::Interval { .. } => {
                return Err(Failure::of(path, "no time column is found: name it with --time, or give --interval"));
            }
            found => found,
        },
    };
    let mapping =
        Mapping { time, channels: vec![channel(&options.input, Role::Op), channel(&options.output, Role::Pv)] };
    let import = csv_file::read(path, &mapping).map_err(in_file)?;
    for note in &import.notes {
        eprintln!("{}: {note}", path.display());
    }
    let record = &import.record;
    let window = record.axis.window(options.from.unwrap_or(0.0), options.to.unwrap_or(f64::MAX));
    let [input, output] = &record.channels[..] else { return Err(Failure::new("two columns are needed")) };
    let StructureName::Fopdt = options.structure;
    let model = fit_fopdt(DataSet {
        axis: &record.axis.slice(window.clone()),
        input: &input.values[window.clone()],
        output: &output.values[window],
        input_unit: &input.unit,
        output_unit: &output.unit,
    })
    .map_err(|error| Failure::of(path, error))?;
    print(&model)
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

/// What is needed of a model to tune for it.
#[derive(Debug, Deserialize)]
struct ModelDocument {
    structure: Structure,
    parameters: ParametersDocument,
}

#[derive(Debug, Deserialize)]
struct ParametersDocument {
    gain: ValueDocument,
    time_constant: ValueDocument,
    dead_time: ValueDocument,
}

#[derive(Debug, Deserialize)]
struct ValueDocument {
    value: f64,
    #[serde(default)]
    unit: String,
}

pub(crate) fn tune(options: &TuneOptions) -> Result<(), Failure> {
    let model: ModelDocument = read_json(&options.model)?;
    let Structure::Fopdt = model.structure;
    let Rule::Simc = options.rule;
    let parameters = model.parameters;
    let process = ProcessSpec::Fopdt {
        gain: parameters.gain.value,
        time_constant: parameters.time_constant.value,
        dead_time: parameters.dead_time.value,
    };
    let ends = options.pv_span.split_once(':').and_then(|(low, high)| Some((low.parse().ok()?, high.parse().ok()?)));
    let Some((low, high)) = ends else {
        return Err(Failure(format!("--pv-span is {}; allowed: LOW:HIGH, for example 0:150", options.pv_span)));
    };
    let unit = parameters.gain.unit.rsplit_once('/').map_or("", |(output, _)| output);
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
}

pub(crate) fn schema(options: &SchemaOptions) -> Result<(), Failure> {
    print(&match options.document {
        Document::Trial => json_schema::<Trial>()?,
        Document::Model => json_schema::<FopdtModel>()?,
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
