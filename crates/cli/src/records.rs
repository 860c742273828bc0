//! Records in files: models fitted to them, findings about them, experiments that make them.

use crate::Failure;
use crate::files::{format_of, print, read_document, save};
use crate::physical::{Asked, PhysicalArguments};
use antistasis_core::assessment::{Spans, inspect as inspect_record};
use antistasis_core::document::Stored;
use antistasis_core::experiment::ExperimentSpec;
use antistasis_core::identification::{
    Constraint, DataSet, Drifting, DriftingKind, FitOptions, Loss, Model, NoiseModel, PhysicalModel, Series, Structure,
    TrackingMethod, TrackingOptions, Validation, ValidationWindow, Windows, balances, fit_together, identify_together,
    steady_check, telling, track as track_model,
};
use antistasis_core::series::{Channel, Record, Role};
use antistasis_core::simulation::Trial;
use antistasis_core::units::Span;
use antistasis_exchange::{ChannelMapping, ColumnPreview, Mapping, Reading, TimeSource, preview, read};
use clap::builder::ArgPredicate;
use clap::{Args, ValueEnum};
use serde::Serialize;
use std::path::{Path, PathBuf};
use utoipa::ToSchema;

/// Where the columns of a record are.
#[derive(Debug, Clone, Args)]
struct RecordFile {
    /// File with the record: CSV, TSV, XLSX, Parquet or JSON.
    record: PathBuf,
    /// Time column; found out from the file when left out.
    #[arg(long, conflicts_with = "interval")]
    time: Option<String>,
    /// Sample time in s, for a file without times.
    #[arg(long)]
    interval: Option<f64>,
    /// Column of the OP; guessed when left out.
    #[arg(long, visible_alias = "op")]
    input: Option<String>,
    /// Column of the PV; guessed when left out.
    #[arg(long, visible_alias = "pv")]
    output: Option<String>,
}

/// What a model takes of a file: the columns called as its signals.
pub(crate) fn data_of_model(path: &Path, model: &Model) -> Result<DataSet, Failure> {
    let (input, output) = (Some(model.inputs[0].tag.clone()), Some(model.outputs[0].tag.clone()));
    let file = RecordFile { record: path.to_owned(), time: None, interval: None, input, output };
    let disturbances: Vec<String> = model.inputs[1..].iter().map(|own| own.tag.clone()).collect();
    Ok(data_set(&file.read(&disturbances)?))
}

impl RecordFile {
    /// The record: OP, PV and measured disturbances, by their names in the file. What was noticed goes to standard error.
    fn read(&self, disturbances: &[String]) -> Result<Record, Failure> {
        self.read_with(disturbances, &[])
    }

    /// Names of the columns of the OP and the PV, and how a column that is named on the command line is called in the record.
    fn roles(&self) -> Result<(String, String, impl Fn(&str) -> String + use<>), Failure> {
        let path = &self.record;
        let preview = preview(path, &Reading::default()).map_err(|error| Failure::of(path, error))?;
        let columns = preview.columns.clone();
        let resolved = move |column: &str| {
            let is_meant = |known: &&ColumnPreview| known.name == column || known.header.trim() == column.trim();
            columns.iter().find(is_meant).map_or(column.to_owned(), |known| known.name.clone())
        };
        let guessed = |role: Role| {
            let found = preview.guess.channels.iter().find(|channel| channel.role == role);
            found.map(|channel| channel.column.clone()).unwrap_or_default()
        };
        let op = self.input.clone().unwrap_or_else(|| guessed(Role::Op));
        let pv = self.output.clone().unwrap_or_else(|| guessed(Role::Pv));
        Ok((resolved(&op), resolved(&pv), resolved))
    }

    /// The same with further outputs, which have no role of their own.
    fn read_with(&self, disturbances: &[String], outputs: &[String]) -> Result<Record, Failure> {
        let path = &self.record;
        let in_file = |error: antistasis_exchange::Error| Failure::of(path, error);
        let preview = preview(path, &Reading::default()).map_err(in_file)?;
        let guessed = |role: Role, option: &str| {
            let found = preview.guess.channels.iter().find(|channel| channel.role == role);
            found
                .map(|channel| channel.column.clone())
                .ok_or_else(|| Failure::of(path, format!("no column for it is found: name it with {option}")))
        };
        let op = self.input.clone().map_or_else(|| guessed(Role::Op, "--input"), Ok)?;
        let pv = self.output.clone().map_or_else(|| guessed(Role::Pv, "--output"), Ok)?;
        let resolved = |column: &str| {
            let is_meant = |known: &&ColumnPreview| known.name == column || known.header.trim() == column.trim();
            preview.columns.iter().find(is_meant).map_or(column.to_owned(), |known| known.name.clone())
        };
        // A column has one part to play: a PV that is its own OP fits to 100 % and says nothing.
        let mut taken: Vec<(String, String)> = Vec::new();
        let named = [("--input", &op), ("--output", &pv)].into_iter();
        let named = named.chain(disturbances.iter().map(|column| ("--disturbance", column)));
        for (option, column) in named.chain(outputs.iter().map(|column| ("--further-output", column))) {
            let name = resolved(column);
            if let Some((other, _)) = taken.iter().find(|(_, known)| *known == name) {
                let again = if other == option { "twice".to_owned() } else { format!("what {other} names, too") };
                return Err(Failure::of(path, format!("{option} {column} is {again}: each takes a column of its own")));
            }
            if self.time.as_deref().is_some_and(|time| resolved(time) == name) {
                return Err(Failure::of(path, format!("{option} {column} is the time column: name another one")));
            }
            taken.push((option.to_owned(), name));
        }
        let channel = |column: &String, role| {
            // As it is called, or as its header stands in the file.
            let is_meant = |known: &&ColumnPreview| known.name == *column || known.header.trim() == column.trim();
            let known = preview.columns.iter().find(is_meant);
            let name = known.map_or(column, |known| &known.name).clone();
            let unit = known.map_or(String::new(), |known| known.unit.clone());
            ChannelMapping { column: name.clone(), role, tag: name, unit }
        };
        let time = match (&self.time, self.interval) {
            (Some(column), _) => TimeSource::Column { column: column.clone(), date_order: None, unit: None },
            (None, Some(seconds)) => TimeSource::Interval { seconds },
            (None, None) => match preview.guess.time.clone() {
                TimeSource::Interval { .. } => {
                    return Err(Failure::of(path, "no time column is found: name it with --time, or give --interval"));
                }
                found => found,
            },
        };
        let mut channels = vec![channel(&op, Role::Op), channel(&pv, Role::Pv)];
        let sp = preview
            .guess
            .channels
            .iter()
            .find(|known| known.role == Role::Sp && known.column != op && known.column != pv);
        if let Some(sp) = sp.filter(|sp| !disturbances.contains(&sp.column) && !outputs.contains(&sp.column)) {
            channels.push(channel(&sp.column, Role::Sp));
        }
        channels.extend(disturbances.iter().map(|column| channel(column, Role::Dv)));
        channels.extend(outputs.iter().map(|column| channel(column, Role::Other)));
        let mapping = Mapping { time, channels, ..preview.guess.clone() };
        let import = read(path, &mapping, &mut |_| true).map_err(in_file)?;
        for note in &import.notes {
            eprintln!("{}: {note}", path.display());
        }
        Ok(import.record)
    }
}

#[derive(Debug, Args)]
pub(crate) struct IdentifyOptions {
    #[command(flatten)]
    file: RecordFile,
    /// Column of a measured disturbance, a further input; may be repeated.
    #[arg(long)]
    disturbance: Vec<String>,
    /// Structure: fopdt, two-lags, underdamped, two-lags-lead, integrating, integrating-lag, arx:NA,NB,NK,
    /// armax:NA,NB,NC,NK, oe:NB,NF,NK,
    /// bj:NB,NC,ND,NF,NK, ss, ss:ORDER, matrix or physical; physical where a process is given.
    #[arg(long, default_value = "fopdt", default_value_if("process", ArgPredicate::IsPresent, "physical"))]
    structure: String,
    /// Column of a further output, of a matrix or a state space; may be repeated.
    #[arg(long)]
    further_output: Vec<String>,
    /// A cell of a matrix as OUTPUT:INPUT=STRUCTURE, the structure being one with dead time or `none`; cells that are not named
    /// are first order plus dead time. May be repeated.
    #[arg(long)]
    cell: Vec<String>,
    /// What the model is held against: `half`, `none`, or FROM:TO in s.
    #[arg(long, default_value = "half")]
    validate: String,
    /// Start of the window in s from the first sample.
    #[arg(long)]
    from: Option<f64>,
    /// End of the window in s from the first sample.
    #[arg(long)]
    to: Option<f64>,
    /// A further stretch of the same file, FROM:TO in s, that the model is fitted to together with the window; may be
    /// repeated.
    #[arg(long, value_name = "FROM:TO")]
    also: Vec<String>,
    /// A further file with the same columns that the model is fitted to as well; may be repeated.
    #[arg(long, value_name = "FILE")]
    with: Vec<PathBuf>,
    /// Estimate a steady drift of the PV, too.
    #[arg(long)]
    drift: bool,
    /// What a residual costs.
    #[arg(long, value_enum, default_value_t = LossName::Squares)]
    loss: LossName,
    /// What is taken to disturb the PV besides the inputs.
    #[arg(long, value_enum, default_value_t = NoiseName::White)]
    noise: NoiseName,
    /// Find and fit steps of the PV that nothing measured explains.
    #[arg(long)]
    find_steps: bool,
    /// A known parameter, NAME=VALUE, or a range, NAME=LOW:HIGH; of a physical model a parameter or an input, NAME=VALUE. May be
    /// repeated.
    #[arg(long, value_name = "NAME=VALUE")]
    known: Vec<String>,
    #[command(flatten)]
    physical: PhysicalArguments,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum NoiseName {
    /// Noise without memory.
    White,
    /// An autoregression whose order is found, by maximum likelihood.
    Autoregression,
    /// The same of its moves, for what drifts and does not come back.
    Integrated,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum LossName {
    /// Least squares.
    Squares,
    /// Huber, width 1.345 times the noise.
    Huber,
    /// Absolute value.
    Absolute,
    /// Dead band of the noise's standard deviation.
    DeadBand,
}

/// A model with what it was held against.
#[derive(Debug, Serialize, ToSchema)]
pub(crate) struct IdentifiedModel {
    #[serde(flatten)]
    #[schema(value_type = Model)]
    model: Stored<Model>,
    /// Estimation window in s.
    window: (f64, f64),
    /// Validation window in s.
    validation_window: Option<(f64, f64)>,
    /// The validation.
    validation: Option<Validation>,
}

/// `LOW:HIGH` as two numbers.
fn pair(option: &str, text: &str, example: &str) -> Result<(f64, f64), Failure> {
    let ends = text.split_once(':').and_then(|(low, high)| Some((low.trim().parse().ok()?, high.trim().parse().ok()?)));
    ends.ok_or_else(|| Failure(format!("{option} is {text}: it must be {example}")))
}

fn constraint(text: &str) -> Result<Constraint, Failure> {
    let refused =
        || Failure(format!("--known is {text}: it must be NAME=VALUE or NAME=LOW:HIGH, for example dead_time=12.5"));
    let (name, value) = text.split_once('=').ok_or_else(refused)?;
    let parameter = name.trim().replace('-', "_");
    if let Ok(fixed) = value.trim().parse() {
        return Ok(Constraint { parameter, fixed: Some(fixed), ..Constraint::default() });
    }
    let (low, high) = pair("--known", value, "NAME=LOW:HIGH").map_err(|_| refused())?;
    Ok(Constraint { parameter, low: Some(low), high: Some(high), ..Constraint::default() })
}

pub(crate) fn identify(options: &IdentifyOptions) -> Result<(), Failure> {
    let path = &options.file.record;
    let structure = Structure::parse(&options.structure).map_err(Failure::new)?;
    let is_physical = structure == Structure::Physical;
    if options.physical.is_given() != is_physical {
        return Err(Failure("--process is for --structure physical, and that needs one".to_owned()));
    }
    let (mut disturbances, mut outputs) = (options.disturbance.clone(), options.further_output.clone());
    let mut physical = None;
    if is_physical {
        let (op, pv, resolved) = options.file.roles()?;
        let own = options.physical.options(&options.known, &resolved)?;
        (disturbances, outputs) = own.further_tags(&op, &pv);
        physical = Some(Box::new(own));
    }
    let validation = match options.validate.as_str() {
        "half" => ValidationWindow::Half,
        "none" => ValidationWindow::None,
        window => {
            let (from, to) = pair("--validate", window, "half, none, or FROM:TO in s")?;
            ValidationWindow::Window { from, to }
        }
    };
    let fit_options = FitOptions {
        drift: options.drift,
        noise: match options.noise {
            NoiseName::White => NoiseModel::White,
            NoiseName::Autoregression => NoiseModel::Autoregression,
            NoiseName::Integrated => NoiseModel::Integrated,
        },
        find_steps: options.find_steps,
        loss: match options.loss {
            LossName::Squares => Loss::Squares,
            LossName::Huber => Loss::Huber { width: 1.345 },
            LossName::Absolute => Loss::Absolute,
            LossName::DeadBand => Loss::DeadBand { width: 1.0 },
        },
        constraints: match is_physical {
            true => Vec::new(),
            false => options.known.iter().map(|text| constraint(text)).collect::<Result<_, _>>()?,
        },
        disturbances: disturbances.clone(),
        outputs: outputs.clone(),
        physical,
        ..FitOptions::new(structure)
    };
    let data = data_set(&options.file.read_with(&disturbances, &outputs)?);
    let fit_options = FitOptions { cells: cells(&options.cell, &data, structure)?, ..fit_options };
    let in_record = |error: antistasis_core::Error| Failure::of(path, error);
    let mut further = Vec::new();
    for text in &options.also {
        let (from, to) = pair("--also", text, "FROM:TO in s, for example 1200:2400")?;
        let own = Windows { from: Some(from), to: Some(to), validation: ValidationWindow::None };
        further.push(own.cut(&data, 0.0).map_err(in_record)?.estimation.data);
    }
    for other in &options.with {
        let file = RecordFile { record: other.clone(), ..options.file.clone() };
        let (op, pv) = (&data.inputs[0].tag, &data.outputs[0].tag);
        further.push(data_set(&file.read_with(&disturbances, &outputs)?).named(op, pv));
    }
    let windows = Windows { from: options.from, to: options.to, validation };
    if let Some(own) = &fit_options.physical {
        let whole = Windows { validation: ValidationWindow::None, ..windows };
        let cut = || whole.cut(&data, 0.0).map(|parts| parts.estimation.data);
        match options.physical.asked() {
            Asked::Telling => {
                let first = windows.cut(&data, 0.0).map_err(in_record)?.estimation.data;
                let all: Vec<DataSet> = std::iter::once(first).chain(further).collect();
                return print(&telling(&all, own).map_err(in_record)?);
            }
            Asked::Steady(parameter) => {
                return print(&cut().and_then(|data| steady_check(&data, own, parameter)).map_err(in_record)?);
            }
            Asked::Balances => {
                let data = cut().map_err(in_record)?;
                let model = fit_together(std::slice::from_ref(&data), &fit_options).map_err(in_record)?;
                return print(&balances(&model, &data).map_err(in_record)?);
            }
            Asked::Model => {}
        }
    }
    let identified = identify_together(&data, 0.0, &windows, &further, &fit_options).map_err(in_record)?;
    let (validation_window, validation) = identified.validation.unzip();
    print(&IdentifiedModel {
        model: Stored(identified.model),
        window: identified.window,
        validation_window,
        validation,
    })
}

#[derive(Debug, Args)]
pub(crate) struct TrackOptions {
    /// Physical model; `antistasis identify --structure physical` prints one.
    model: PathBuf,
    #[command(flatten)]
    file: RecordFile,
    /// How the estimate is led along.
    #[arg(long, value_enum, default_value_t = TrackName::Extended)]
    method: TrackName,
    /// A number that drifts and how much an hour changes of it (standard deviation), NAME=PER_HOUR or NAME=PER_HOUR:AT_START; besides
    /// parameters inputs that no column shows, and `offset_of_OUTPUT`. May be repeated.
    #[arg(long, value_name = "NAME=PER_HOUR")]
    drift: Vec<String>,
    /// Lowest and highest value of a number that drifts, NAME=LOW:HIGH; may be repeated.
    #[arg(long, value_name = "NAME=LOW:HIGH", allow_hyphen_values = true)]
    bound: Vec<String>,
    /// By how much a number that drifts may change from sample to sample over a moving horizon, NAME=AMOUNT; may be repeated.
    #[arg(long, value_name = "NAME=AMOUNT")]
    limit: Vec<String>,
    /// Standard deviation of the noise of a column, COLUMN=DEVIATION; what the model left where left out. May be repeated.
    #[arg(long, value_name = "COLUMN=DEVIATION")]
    noise: Vec<String>,
    /// What comes unknown to each measured state within a sample, in deviations of the noise of its sensor.
    #[arg(long, default_value_t = 0.1)]
    unrest: f64,
    /// Samples that a moving horizon solves for together.
    #[arg(long, default_value_t = 20)]
    window: usize,
    /// Samples from one solution of a moving horizon to the next; so many that there are at most 1000 where left out.
    #[arg(long)]
    every: Option<usize>,
    /// How much an hour changes of a state by what nobody knows (standard deviation), NAME=PER_HOUR; may be repeated.
    #[arg(long, value_name = "NAME=PER_HOUR")]
    state: Vec<String>,
    /// Deviations of the noise up to which a moving horizon lets an output miss what was measured at no cost.
    #[arg(long, default_value_t = 0.0)]
    dead_band: f64,
    /// Start of the stretch in s.
    #[arg(long)]
    from: Option<f64>,
    /// Its end.
    #[arg(long)]
    to: Option<f64>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
enum TrackName {
    /// Extended Kalman filter.
    Extended,
    /// Unscented Kalman filter.
    Unscented,
    /// Over a moving horizon.
    MovingHorizon,
}

/// A name and a number, as `NAME=NUMBER`.
fn amount(option: &str, text: &str) -> Result<(String, f64), Failure> {
    let parts = text.rsplit_once('=').and_then(|(name, value)| Some((name.trim(), value.trim().parse().ok()?)));
    let (name, value) = parts.ok_or_else(|| Failure(format!("{option} is {text}: it must be NAME=NUMBER")))?;
    Ok((name.to_owned(), value))
}

impl TrackOptions {
    /// The numbers that drift; which kind each is, the process of the model tells.
    fn drifting(&self, physical: &PhysicalModel) -> Result<Vec<Drifting>, Failure> {
        let description = physical.process().describe("").map_err(Failure::new)?;
        let mut drifting = Vec::new();
        for text in &self.drift {
            let refused = || Failure(format!("--drift is {text}: it must be NAME=PER_HOUR or NAME=PER_HOUR:AT_START"));
            let (name, numbers) = text.split_once('=').ok_or_else(refused)?;
            let (per_hour, at_start) = numbers.split_once(':').map_or((numbers, None), |(own, rest)| (own, Some(rest)));
            let per_hour = per_hour.trim().parse().map_err(|_| refused())?;
            let at_start = at_start.map(|own| own.trim().parse().map_err(|_| refused())).transpose()?;
            let name = name.trim().replace('-', "_");
            let (kind, name) = match name.strip_prefix("offset_of_") {
                Some(output) => (DriftingKind::Offset, output.to_owned()),
                None if description.inputs.iter().any(|own| own.name == name) => (DriftingKind::Input, name),
                None => (DriftingKind::Parameter, name),
            };
            drifting.push(Drifting { kind, name, per_hour: Some(per_hour), at_start, ..Drifting::default() });
        }
        let of = |option: &str, name: &str| -> Result<usize, Failure> {
            let own = name.replace('-', "_");
            let plain = own.strip_prefix("offset_of_").unwrap_or(&own);
            let place = drifting.iter().position(|drifting| drifting.name == plain);
            place.ok_or_else(|| Failure(format!("{option} {name}: no --drift names it")))
        };
        let mut bounds = Vec::new();
        for text in &self.bound {
            let (name, range) = text.split_once('=').unwrap_or((text, ""));
            bounds.push((of("--bound", name.trim())?, pair("--bound", range, "NAME=LOW:HIGH")?));
        }
        let mut limits = Vec::new();
        for text in &self.limit {
            let (name, limit) = amount("--limit", text)?;
            limits.push((of("--limit", &name)?, limit));
        }
        for (place, (low, high)) in bounds {
            (drifting[place].low, drifting[place].high) = (Some(low), Some(high));
        }
        limits.into_iter().for_each(|(place, limit)| drifting[place].limit = Some(limit));
        Ok(drifting)
    }
}

/// Leads a physical model along a record.
pub(crate) fn track(options: &TrackOptions) -> Result<(), Failure> {
    let path = &options.file.record;
    let model: Model = read_document(&options.model)?;
    let in_model = |error: antistasis_core::Error| Failure::of(&options.model, error);
    let physical = model.physical().map_err(in_model)?;
    let (op, pv, resolved) = options.file.roles()?;
    let (disturbances, outputs) = physical.fitted.further_tags(&op, &pv);
    let data = data_set(&options.file.read_with(&disturbances, &outputs)?);
    let noise = options.noise.iter().map(|text| {
        let (column, deviation) = amount("--noise", text)?;
        Ok((resolved(&column), deviation))
    });
    let tracking = TrackingOptions {
        method: match options.method {
            TrackName::Extended => TrackingMethod::Extended,
            TrackName::Unscented => TrackingMethod::Unscented,
            TrackName::MovingHorizon => TrackingMethod::MovingHorizon,
        },
        drifting: options.drifting(physical)?,
        noise: noise.collect::<Result<_, Failure>>()?,
        unrest: options.unrest,
        states: options.state.iter().map(|text| amount("--state", text)).collect::<Result<_, _>>()?,
        every: options.every,
        window: options.window,
        dead_band: options.dead_band,
    };
    let windows = Windows { from: options.from, to: options.to, validation: ValidationWindow::None };
    let in_record = |error: antistasis_core::Error| Failure::of(path, error);
    let cut = windows.cut(&data, 0.0).map_err(in_record)?.estimation.data;
    print(&track_model(&model, &cut, &tracking).map_err(in_record)?)
}

/// The signals of a fit in the file's own units: nothing here knows those of a loop.
fn data_set(record: &Record) -> DataSet {
    let series = |channel: &Channel| Series::new(&channel.tag, &channel.unit, channel.values.clone());
    let of = |role: Role| record.channels.iter().filter(move |channel| channel.role == role).map(series);
    DataSet {
        axis: record.axis.clone(),
        inputs: of(Role::Op).chain(of(Role::Dv)).collect(),
        outputs: of(Role::Pv).chain(of(Role::Other)).collect(),
    }
}

/// The cells of a matrix that are named, the others being first order plus dead time.
fn cells(named: &[String], data: &DataSet, structure: Structure) -> Result<Vec<Vec<Option<Structure>>>, Failure> {
    if named.is_empty() {
        return Ok(Vec::new());
    }
    if structure != Structure::Matrix {
        return Err(Failure("--cell is for --structure matrix alone".to_owned()));
    }
    let mut cells = vec![vec![Some(Structure::Fopdt); data.inputs.len()]; data.outputs.len()];
    for text in named {
        let refused = || {
            Failure(format!("--cell is {text}: it must be OUTPUT:INPUT=STRUCTURE, for example LIC-1.PV:FIC-2.OP=none"))
        };
        let (pair, kind) = text.rsplit_once('=').ok_or_else(refused)?;
        // A tag may have a colon of its own.
        let place = |list: &[Series], tag: &str| list.iter().position(|series| series.tag == tag.trim());
        let found = pair
            .match_indices(':')
            .find_map(|(at, _)| Some((place(&data.outputs, &pair[..at])?, place(&data.inputs, &pair[at + 1..])?)));
        let Some((output, input)) = found else {
            let tags = |list: &[Series]| list.iter().map(|series| series.tag.clone()).collect::<Vec<_>>().join(", ");
            return Err(Failure(format!(
                "--cell is {text}: outputs are {}, inputs are {}",
                tags(&data.outputs),
                tags(&data.inputs)
            )));
        };
        cells[output][input] = if kind == "none" { None } else { Some(Structure::parse(kind).map_err(Failure::new)?) };
    }
    Ok(cells)
}

#[derive(Debug, Args)]
pub(crate) struct InspectOptions {
    #[command(flatten)]
    file: RecordFile,
    /// Span of the PV as LOW:HIGH, in its unit.
    #[arg(long, allow_hyphen_values = true)]
    pv_span: Option<String>,
}

pub(crate) fn inspect(options: &InspectOptions) -> Result<(), Failure> {
    let span =
        options.pv_span.as_deref().map(|text| pair("--pv-span", text, "LOW:HIGH, for example 0:150")).transpose()?;
    let span = span.map(|(low, high)| Span::new(low, high, ""));
    if let Some(span) = &span {
        span.validate("--pv-span").map_err(Failure::new)?;
    }
    let record = options.file.read(&[])?;
    print(
        &inspect_record(&record, &Spans { pv: span.as_ref(), op: None })
            .map_err(|error| Failure::of(&options.file.record, error))?,
    )
}

#[derive(Debug, Args)]
pub(crate) struct ExperimentOptions {
    /// What is known and allowed, and the signal; `antistasis schema experiment` prints the schema.
    experiment: PathBuf,
    /// File that the OP sequence and the expected PV are written to; the ending tells the format.
    #[arg(long)]
    out: Option<PathBuf>,
    /// Trial whose plant the experiment is carried out on; the record then holds what the plant answered.
    #[arg(long, requires = "out")]
    run: Option<PathBuf>,
}

pub(crate) fn experiment(options: &ExperimentOptions) -> Result<(), Failure> {
    let spec: ExperimentSpec = read_document(&options.experiment)?;
    let plan = spec.plan().map_err(|error| Failure::of(&options.experiment, error))?;
    if let Some(out) = &options.out {
        let record = match &options.run {
            Some(path) => {
                let trial: Trial = read_document(path)?;
                let trial = plan.trial(&trial.plant, spec.sample_time, spec.seed);
                let trace = trial.and_then(|trial| trial.run()).map_err(|error| Failure::of(path, error))?;
                trace.as_record().map_err(Failure::new)?
            }
            None => plan.record("OP", "PV", &spec.pv_unit).map_err(Failure::new)?,
        };
        save(&record, out, format_of(out)?)?;
    }
    print(&plan)
}
