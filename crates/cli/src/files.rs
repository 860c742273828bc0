//! The core's jobs on files.

use crate::Failure;
use crate::records::IdentifiedModel;
use antistasis_core::assessment::{
    Assessment, Inspection, Interaction, InteractionQuestion, PlantAnalysis, analyse, assess,
};
use antistasis_core::controller::predictive::{LookAhead, RegionMap};
use antistasis_core::experiment::{ExperimentPlan, ExperimentSpec};
use antistasis_core::identification::Tracked;
use antistasis_core::proof::{Proof, ProofResult};
use antistasis_core::series::Record;
use antistasis_core::simulation::{Axis, BalanceSheet, Happening, Simulation, Sweep, SweepPoint, Trial};
use antistasis_core::tuning::{
    Decoupler, LoopsAnswer, LoopsMethod, LoopsQuestion, Optimum, RuleTuning, begin_loops, tune_in_order,
};
use antistasis_dossier::DossierSpec;
use antistasis_exchange::structured_text::trial_as_text;
use antistasis_exchange::{Format, write};
use clap::{Args, ValueEnum};
use serde::Serialize;
use serde::de::DeserializeOwned;
use std::fs::File;
use std::io::{BufReader, BufWriter, Write};
use std::path::{Path, PathBuf};
use utoipa::openapi::{RefOr, Schema};
use utoipa::{PartialSchema, ToSchema};

/// Prints a text; a reader that has had enough is no error.
pub(crate) fn print_text(text: &str) -> Result<(), Failure> {
    match std::io::stdout().write_all(text.as_bytes()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(Failure::new(error)),
        _ => Ok(()),
    }
}

/// Prints a document; a reader that has had enough is no error.
pub(crate) fn print(document: &impl Serialize) -> Result<(), Failure> {
    let mut text = serde_json::to_string_pretty(document).map_err(Failure::new)?;
    text.push('\n');
    match std::io::stdout().write_all(text.as_bytes()) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => Err(Failure::new(error)),
        _ => Ok(()),
    }
}

/// Reads a document of any version that there was.
pub(crate) fn read_document<T: antistasis_core::document::Document>(path: &Path) -> Result<T, Failure> {
    let text = std::fs::read_to_string(path).map_err(|error| Failure::of(path, error))?;
    antistasis_core::document::read_text(&text).map_err(|error| Failure::of(path, error))
}

/// Reads what has no version: a question, a sweep.
pub(crate) fn read_json<T: DeserializeOwned>(path: &Path) -> Result<T, Failure> {
    let file = File::open(path).map_err(|error| Failure::of(path, error))?;
    serde_json::from_reader(BufReader::new(file)).map_err(|error| Failure::of(path, error))
}

#[derive(Debug, Args)]
pub(crate) struct SimulateOptions {
    /// Trial; `antistasis schema trial` prints its schema.
    trial: PathBuf,
    /// File that the trace is written to, as CSV.
    #[arg(long)]
    csv: Option<PathBuf>,
    /// File that the trace is written to, its form by its ending: csv, tsv, xlsx, parquet or json.
    #[arg(long, conflicts_with = "csv")]
    out: Option<PathBuf>,
    /// Print the balances of the process as well, and write their terms with the trace.
    #[arg(long)]
    balances: bool,
    /// Print what the predictive controller sees ahead at the last scan that is not after so many seconds.
    #[arg(long, value_name = "SECONDS")]
    ahead: Option<f64>,
    /// Print the regions of the predictive controller's law, written out, over two of its parameters by their places: 0,1 for the first two.
    #[arg(long, value_name = "RIGHT,UP", value_parser = places)]
    regions: Option<[usize; 2]>,
}

/// Two places with a comma between.
fn places(text: &str) -> Result<[usize; 2], String> {
    let read =
        |part: &str| part.trim().parse::<usize>().map_err(|_| format!("“{part}” is no place: type two, such as 0,1"));
    let (right, up) =
        text.split_once(',').ok_or_else(|| format!("“{text}” is no pair of places: type two, such as 0,1"))?;
    Ok([read(right)?, read(up)?])
}

pub(crate) fn simulate(options: &SimulateOptions) -> Result<(), Failure> {
    let trial: Trial = read_document(&options.trial)?;
    let in_trial = |error: antistasis_core::Error| Failure::of(&options.trial, error);
    let simulation = if options.balances { Simulation::with_balances(&trial) } else { Simulation::new(&trial) };
    let trace = simulation.map_err(in_trial)?.run();
    if let Some(path) = options.csv.as_ref().or(options.out.as_ref()) {
        let format = if options.csv.is_some() { Format::Csv } else { format_of(path)? };
        save(&trace.as_table().map_err(in_trial)?, path, format)?;
    }
    print(&Simulated {
        ahead: options.ahead.map(|at| trial.ahead(at)).transpose().map_err(in_trial)?,
        regions: options.regions.map(|over| trial.written_out()?.map(over)).transpose().map_err(in_trial)?,
        assessment: assess(&trial, &trace).map_err(in_trial)?,
        happenings: trace.happenings,
        stopped: trace.stopped,
        balances: trace.balances,
    })
}

/// What `simulate` prints: the assessment, with what happened besides.
#[derive(Debug, Serialize, ToSchema)]
struct Simulated {
    #[serde(flatten)]
    assessment: Assessment,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    happenings: Vec<Happening>,
    #[serde(skip_serializing_if = "Option::is_none")]
    stopped: Option<Happening>,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    balances: Vec<BalanceSheet>,
    #[serde(skip_serializing_if = "Option::is_none")]
    ahead: Option<LookAhead>,
    #[serde(skip_serializing_if = "Option::is_none")]
    regions: Option<RegionMap>,
}

/// Writes a record into a file, its times from 0 on.
pub(crate) fn save(record: &Record, path: &Path, format: Format) -> Result<(), Failure> {
    let file = File::create(path).map_err(|error| Failure::of(path, error))?;
    write(record, 0.0, format, BufWriter::new(file)).map_err(|error| Failure::of(path, error))
}

/// The form of a file by the ending of its name.
pub(crate) fn format_of(path: &Path) -> Result<Format, Failure> {
    let ending = path.extension().and_then(|ending| ending.to_str()).unwrap_or_default();
    Format::of_ending(ending).map_err(|error| Failure::of(path, error))
}

#[derive(Debug, Args)]
pub(crate) struct StructuredTextOptions {
    /// Trial, whose candidate is written.
    trial: PathBuf,
    /// Writes all blocks as a project in the XML of PLCopen, for an engineering tool to read.
    #[arg(long)]
    plcopen: bool,
}

/// Blocks one after the other; how they are wired, and what has no text, stands before them as comments.
pub(crate) fn structured_text(options: &StructuredTextOptions) -> Result<(), Failure> {
    let trial: Trial = read_document(&options.trial)?;
    let written = trial_as_text(&trial).map_err(|error| Failure::of(&options.trial, error))?;
    if written.blocks.is_empty() {
        return Err(Failure::of(&options.trial, written.without.join(" ")));
    }
    if options.plcopen {
        return print_text(&written.plcopen);
    }
    let remarks: String =
        written.remarks.iter().chain(&written.without).map(|remark| format!("(* {remark} *)\n")).collect();
    let blocks: Vec<&str> = written.blocks.iter().map(|block| block.text.as_str()).collect();
    print_text(&(remarks + &blocks.join("\n")))
}

#[derive(Debug, Args)]
pub(crate) struct AnalyseOptions {
    /// Trial, whose plant is analysed.
    trial: PathBuf,
}

pub(crate) fn analyse_plant(options: &AnalyseOptions) -> Result<(), Failure> {
    let trial: Trial = read_document(&options.trial)?;
    print(&analyse(&trial.plant).map_err(|error| Failure::of(&options.trial, error))?)
}

#[derive(Debug, Args)]
pub(crate) struct InteractionOptions {
    /// Trial, whose plant has several inputs and outputs.
    trial: PathBuf,
    /// Between which outputs and inputs, on which spans, as JSON; the first ones on usual spans when left out.
    #[arg(long)]
    between: Option<PathBuf>,
}

pub(crate) fn interaction(options: &InteractionOptions) -> Result<(), Failure> {
    let trial: Trial = read_document(&options.trial)?;
    let refused = |error: antistasis_core::Error| Failure::of(&options.trial, error);
    let question = match &options.between {
        Some(path) => read_json(path)?,
        None => InteractionQuestion::usual(&trial.plant).map_err(refused)?.ok_or_else(|| {
            Failure::of(
                &options.trial,
                "a process with one input or one output has no loops that could act on each other",
            )
        })?,
    };
    print(&Interaction::of(&trial.plant, &question).map_err(refused)?)
}

#[derive(Debug, Args)]
pub(crate) struct LoopsOptions {
    /// Trial, whose plant has several inputs and outputs.
    trial: PathBuf,
    /// Which outputs are paired with which inputs, on which spans, as JSON, in order; the recommended pairing of the first signals on
    /// usual spans when left out.
    #[arg(long)]
    pairs: Option<PathBuf>,
    /// What is fed forward from each OP to the other loops.
    #[arg(long, value_enum, default_value_t = DecouplerOption::None)]
    decoupler: DecouplerOption,
    /// How the loops are tuned.
    #[arg(long, value_enum, default_value_t = LoopsMethodOption::LargestLogModulus)]
    method: LoopsMethodOption,
    /// For maximum-sensitivity, the largest singular value of S that is allowed, 1.2 to 5.
    #[arg(long, default_value_t = 2.0)]
    most_sensitivity: f64,
    /// Tunes the controllers that the trial has, one after the other, of a cascade the inner one first, instead of setting up new ones.
    #[arg(long, conflicts_with_all = ["pairs", "decoupler", "method", "most_sensitivity"])]
    in_order: bool,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum LoopsMethodOption {
    /// All detuned by one factor, until their largest log modulus is 2 dB a loop.
    LargestLogModulus,
    /// All detuned by one factor, until the largest singular value of S is within a limit.
    MaximumSensitivity,
    /// The quickest first, each with those before it closed.
    OneByOne,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum DecouplerOption {
    /// Nothing.
    None,
    /// The ratio of the gains.
    Static,
    /// The ratio of the low-order models that come nearest.
    Dynamic,
}

pub(crate) fn loops(options: &LoopsOptions) -> Result<(), Failure> {
    let trial: Trial = read_document(&options.trial)?;
    let refused = |error: antistasis_core::Error| Failure::of(&options.trial, error);
    if options.in_order {
        return print(&tune_in_order(&trial).map_err(refused)?);
    }
    let pairs = match &options.pairs {
        Some(path) => read_json(path)?,
        None => InteractionQuestion::recommended(&trial.plant).map_err(refused)?.ok_or_else(|| {
            Failure::of(&options.trial, "a process with one input or one output has no loops to be paired")
        })?,
    };
    let decoupler = match options.decoupler {
        DecouplerOption::None => Decoupler::None,
        DecouplerOption::Static => Decoupler::Static,
        DecouplerOption::Dynamic => Decoupler::Dynamic,
    };
    let method = match options.method {
        LoopsMethodOption::LargestLogModulus => LoopsMethod::LargestLogModulus,
        LoopsMethodOption::MaximumSensitivity => LoopsMethod::MaximumSensitivity,
        LoopsMethodOption::OneByOne => LoopsMethod::OneByOne,
    };
    let most_sensitivity = Some(options.most_sensitivity);
    print(
        &begin_loops(&LoopsQuestion { plant: trial.plant, pairs, decoupler, method, most_sensitivity })
            .map_err(refused)?,
    )
}

#[derive(Debug, Args)]
pub(crate) struct SweepOptions {
    /// Trial that is varied.
    trial: PathBuf,
    /// What is varied, as POINTER=FROM:TO:COUNT, the pointer into the trial document, for example
    /// /candidate/controller/gain=0.5:4:36; twice for a map.
    #[arg(long, required = true)]
    over: Vec<String>,
    /// Rise by equal ratios instead of equal differences.
    #[arg(long)]
    by_ratio: bool,
    /// Threads; all cores when left out.
    #[arg(long)]
    threads: Option<usize>,
}

pub(crate) fn sweep(options: &SweepOptions) -> Result<(), Failure> {
    let axes = options.over.iter().map(|text| axis(text, options.by_ratio)).collect::<Result<_, _>>()?;
    let sweep = Sweep { trial: read_document(&options.trial)?, axes };
    let threads = options.threads.or_else(|| std::thread::available_parallelism().ok().map(usize::from)).unwrap_or(1);
    let points =
        sweep.run(threads, assess, |_| true).map_err(|error| Failure::of(&options.trial, error))?.unwrap_or_default();
    print(&points)
}

fn axis(text: &str, by_ratio: bool) -> Result<Axis, Failure> {
    let parsed = || {
        let (pointer, range) = text.split_once('=')?;
        let [from, to, count] = range.split(':').collect::<Vec<_>>().try_into().ok()?;
        Some(Axis {
            pointer: pointer.to_owned(),
            from: from.parse().ok()?,
            to: to.parse().ok()?,
            count: count.parse().ok()?,
            by_ratio,
        })
    };
    parsed().ok_or_else(|| {
        Failure(format!(
            "--over is {text}: it must be POINTER=FROM:TO:COUNT, for example /candidate/controller/gain=0.5:4:36"
        ))
    })
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
    /// What `simulate` prints.
    Assessment,
    /// What `analyse` prints.
    Analysis,
    /// What `interaction` prints.
    Interaction,
    /// What `loops` prints.
    Loops,
    /// What `tune --rule` prints.
    Tuning,
    /// What `tune --minimise` prints.
    Optimum,
    /// What `inspect` prints.
    Findings,
    /// What `track` prints.
    Tracking,
    /// What `experiment` prints.
    Plan,
    /// What `sweep` prints.
    Sweep,
    /// What is to be in a dossier: what `dossier` reads.
    Dossier,
    /// What `prove` reads.
    Proof,
    /// What `prove` prints.
    ProofResult,
}

pub(crate) fn schema(options: &SchemaOptions) -> Result<(), Failure> {
    print(&match options.document {
        Document::Trial => json_schema::<Trial>()?,
        Document::Model => json_schema::<IdentifiedModel>()?,
        Document::Experiment => json_schema::<ExperimentSpec>()?,
        Document::Assessment => json_schema::<Simulated>()?,
        Document::Analysis => json_schema::<PlantAnalysis>()?,
        Document::Interaction => json_schema::<Interaction>()?,
        Document::Loops => json_schema::<LoopsAnswer>()?,
        Document::Tuning => json_schema::<RuleTuning>()?,
        Document::Optimum => json_schema::<Optimum>()?,
        Document::Findings => json_schema::<Inspection>()?,
        Document::Tracking => json_schema::<Tracked>()?,
        Document::Plan => json_schema::<ExperimentPlan>()?,
        Document::Proof => json_schema::<Proof>()?,
        Document::Dossier => json_schema::<DossierSpec>()?,
        Document::ProofResult => json_schema::<ProofResult>()?,
        Document::Sweep => {
            // What a generic type stands with is not among its own parts.
            let mut parts = vec![(Assessment::name().into_owned(), Assessment::schema())];
            Assessment::schemas(&mut parts);
            json_schema_with::<Vec<SweepPoint<Assessment>>>(parts)?
        }
    })
}

/// The JSON Schema (2020-12) of a type. OpenAPI 3.1 uses the same schemas, with the references elsewhere.
fn json_schema<T: ToSchema>() -> Result<serde_json::Value, Failure> {
    json_schema_with::<T>(Vec::new())
}

/// The same with further parts.
fn json_schema_with<T: ToSchema>(mut parts: Vec<(String, RefOr<Schema>)>) -> Result<serde_json::Value, Failure> {
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
    let mut root: serde_json::Value = serde_json::from_str(&text).map_err(Failure::new)?;
    let definitions = root["$defs"].clone();
    antistasis_server::satisfiable(&mut root, &definitions, "#/$defs/");
    Ok(root)
}
