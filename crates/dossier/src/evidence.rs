//! The parts for who doubts: proof, candidates, model, record, and where all of it comes from.

use crate::chart::{Curve, Panel, Style, over_time};
use crate::document::{Block, Cell, Fact};
use crate::sources::{ModelSource, ProofSource, RecordSource, Sources};
use antistasis_core::Result;
use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::identification::{Parameter, Structure};
use antistasis_core::preparation;
use antistasis_core::proof::{ProofCell, Share, Uncertainty};
use antistasis_core::series::Role;
use antistasis_core::simulation::{ColumnRole, ENGINE_VERSION, letter};
use antistasis_core::verdict::{readable, readable_duration};

/// Most channels of a record that are listed one by one.
const MOST_CHANNELS: usize = 12;

fn no(what: &str) -> Vec<Block> {
    vec![Block::text(format!("There is no {what}."))]
}

/// Candidates under disturbances with limits.
pub(crate) fn proof(sources: &Sources) -> Vec<Block> {
    let Some(source) = &sources.proof else { return no("proof") };
    let (proof, result) = (&source.proof, &source.result);
    let plants = match &proof.uncertainty {
        Uncertainty::None => "The plant as it is; no other was tried.".to_owned(),
        _ => format!(
            "The plant as it is, and {} that it may be, drawn with seed {}.",
            result.drawn.first().map_or(0, |drawn| drawn.values.len()),
            proof.seed
        ),
    };
    let mut blocks = vec![Block::text(format!(
        "Proof {}, {}. {plants} Every candidate meets the same plants, noise and walks. A cell shows the figure that comes \
         nearest to its limit or passes it by most, at its worst over the plants; what fails is marked.",
        source.number, source.label
    ))];
    if !proof.set.note.is_empty() {
        blocks.push(Block::text(format!("Proving set “{}”: {}", proof.set.name, proof.set.note)));
    }
    let mut columns = vec!["Disturbance".to_owned()];
    columns.extend(result.candidates.iter().cloned());
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for (row, cells) in result.rows.iter().zip(&result.cells) {
        let mut line = vec![Cell::of(row.name.clone())];
        line.extend(cells.iter().map(|cell| Cell { text: said(row, cell), fails: cell.passes == Some(false) }));
        rows.push(line);
    }
    if result.shares.iter().any(Option::is_some) {
        let mut line = vec![Cell::of("Plants on which all limits are kept")];
        line.extend(result.shares.iter().map(|share| share.as_ref().map_or_else(Cell::default, of_plants)));
        rows.push(line);
    }
    blocks.push(Block::Table { caption: format!("Proof {}.", source.number), columns, rows });
    blocks.extend(result.verdicts.iter().map(|one| Block::verdict(&one.verdict)));
    blocks.extend(hardest(source));
    blocks
}

fn said(row: &antistasis_core::proof::Tried, cell: &ProofCell) -> String {
    if let Some(trouble) = &cell.trouble {
        return trouble.clone();
    }
    let (Some(told), Some(figure)) = (row.criteria.get(cell.decides), cell.figures.get(cell.decides)) else {
        return String::new();
    };
    let with_unit = |value: f64| format!("{} {}", readable(value), told.unit).trim_end().to_owned();
    let value = figure.worst.map_or("never".to_owned(), with_unit);
    let limit = told.criterion.most.map_or(String::new(), |most| format!(" (at most {})", with_unit(most)));
    format!("{}: {value}{limit}", told.title)
}

fn of_plants(share: &Share) -> Cell {
    let percent = |value: f64| readable(100.0 * value);
    let text = format!(
        "{} of {} (95 %: {} to {} %)",
        share.passes,
        share.of,
        percent(share.interval[0]),
        percent(share.interval[1])
    );
    Cell { text, fails: share.passes < share.of }
}

/// All candidates under the disturbance that most fail, on the plant as it is; under the first where none fails.
fn hardest(source: &ProofSource) -> Vec<Block> {
    let result = &source.result;
    let failing = |row: &usize| result.cells[*row].iter().filter(|cell| cell.passes == Some(false)).count();
    // The first of those that are alike.
    let Some(row) = (0..result.rows.len()).rev().max_by_key(failing) else { return Vec::new() };
    let mut traces = Vec::new();
    for column in 0..source.proof.candidates.len() {
        // What cannot be tried at all has no course; the table says why.
        if let Ok(trace) = source.proof.trial_of_cell(row, column, None).and_then(|trial| trial.run()) {
            traces.push((source.result.candidates[column].clone(), trace));
        }
    }
    let times: Vec<Vec<f64>> =
        traces.iter().map(|(_, trace)| (0..trace.len()).map(|k| trace.time(k)).collect()).collect();
    let of = |role: ColumnRole, holds: bool| -> Vec<Curve<'_>> {
        let curves = traces.iter().zip(&times).map(|((name, trace), times)| Curve {
            name: name.clone(),
            times,
            values: if role == ColumnRole::TrueValue { trace.controlled() } else { trace.values(role) },
            style: Style::Plain,
            holds,
        });
        curves.collect()
    };
    let unit = &source.proof.plant.pv.span.unit;
    let panels = [
        Panel { title: format!("PV, {unit}"), curves: of(ColumnRole::TrueValue, false) },
        Panel { title: "OP, %".to_owned(), curves: of(ColumnRole::Output, true) },
    ];
    let name = &result.rows[row].name;
    vec![Block::Chart {
        caption: format!("All candidates under “{name}”, on the plant as it is: PV without noise, and OP."),
        description: format!("PV and OP of {} under “{name}”.", result.candidates.join(", ")),
        drawing: over_time(&panels, None),
    }]
}

/// The candidates that were compared.
pub(crate) fn candidates(sources: &Sources) -> Vec<Block> {
    let Some(source) = &sources.proof else {
        return vec![Block::text("Without a proof no candidates were compared on the same disturbances.")];
    };
    let columns = ["Candidate", "Controller", "Keeps all limits, plant as it is", "Place"].map(str::to_owned).to_vec();
    let result = &source.result;
    let rows = source.proof.candidates.iter().enumerate().map(|(k, contender)| {
        let holds = match result.holds[k] {
            Some(true) => Cell::of("yes"),
            Some(false) => {
                Cell { text: format!("under {} of {} disturbances", result.kept[k], result.limited), fails: true }
            }
            None => Cell::of("no limits"),
        };
        let place =
            result.order.iter().position(|own| *own == k).map_or(String::new(), |place| (place + 1).to_string());
        vec![
            Cell::of(contender.name.clone()),
            Cell::of(in_words(&contender.candidate.controller, contender.candidate.further.len())),
            holds,
            Cell::of(place),
        ]
    });
    vec![Block::Table {
        caption: "Candidates of the proof, the best at place 1.".to_owned(),
        columns,
        rows: rows.collect(),
    }]
}

fn in_words(controller: &ControllerSpec, further: usize) -> String {
    let first = match controller {
        ControllerSpec::Pid(pid) => of_pid(pid),
        other => other.title().to_owned(),
    };
    match further {
        0 => first,
        1 => format!("{first}; one more controller"),
        more => format!("{first}; {more} more controllers"),
    }
}

fn of_pid(pid: &PidSettings) -> String {
    let mut text = format!("PID, gain {} %/%", readable(pid.gain));
    if let Some(time) = pid.integral_time {
        text += &format!(", integral time {} s", readable(time));
    }
    if pid.derivative_time > 0.0 {
        text += &format!(", derivative time {} s", readable(pid.derivative_time));
    }
    text
}

/// The model, with its uncertainty and tests.
pub(crate) fn model(sources: &Sources) -> Result<Vec<Block>> {
    let Some(source) = &sources.model else { return Ok(no("model of a record behind this trial")) };
    let model = &source.model;
    let from = format!("model {}", letter(source.number));
    let stretch = |[from, to]: [f64; 2]| format!("{} to {}", readable_duration(from), readable_duration(to));
    let mut rows = vec![
        Fact::new("Structure", structure(&model.structure), from.clone()),
        Fact::new("Estimated by", model.method.clone(), from.clone()),
        Fact::new("Fitted to", stretch(source.window), from.clone()),
        Fact::new(
            "Fit there, simulated",
            format!("{} %, {} samples", readable(model.estimation.fit_simulated), model.estimation.samples),
            "100 (1 − ‖e‖/‖y − ȳ‖)",
        ),
    ];
    if let (Some(window), Some(validation)) = (source.validation_window, &source.validation) {
        rows.push(Fact::new("Held against", stretch(window), from.clone()));
        let text = format!("{} %", readable(validation.performance.fit_simulated));
        rows.push(Fact::new("Fit on these new data, simulated", text, "100 (1 − ‖e‖/‖y − ȳ‖)"));
        let whiteness = format!("p = {}", readable(validation.tests.whiteness));
        rows.push(Fact::new("Residuals are white", whiteness, "Ljung & Box, Biometrika 65, 1978"));
    }
    let mut blocks = vec![Block::Facts { rows }];
    let own: Vec<&Parameter> = if model.rows.is_empty() {
        model.parameters.iter().collect()
    } else {
        model.rows.iter().flat_map(|row| &row.parameters).collect()
    };
    if !own.is_empty() {
        let columns = ["Number", "Estimate", "Standard error", "95 % interval"].map(str::to_owned).to_vec();
        let rows = own.into_iter().map(|parameter| of_parameter(parameter, source)).collect();
        blocks.push(Block::Table { caption: format!("Numbers of model {}.", letter(source.number)), columns, rows });
    }
    let verdicts = model.verdicts.iter().chain(source.validation.iter().flat_map(|validation| &validation.verdicts));
    blocks.extend(verdicts.map(Block::verdict));
    if !source.reason.is_empty() {
        blocks.push(Block::text(format!("Why this model: {}", source.reason)));
    }
    blocks.extend(modelled(sources)?);
    Ok(blocks)
}

fn structure(structure: &Structure) -> String {
    let same = |offer: &antistasis_core::identification::StructureOffer| {
        std::mem::discriminant(&offer.structure) == std::mem::discriminant(structure)
    };
    Structure::offers().into_iter().find(same).map_or_else(|| format!("{structure:?}"), |offer| offer.title.to_owned())
}

fn of_parameter(parameter: &Parameter, source: &ModelSource) -> Vec<Cell> {
    let unit = &parameter.unit;
    let with_unit = |text: String| if unit.is_empty() { text } else { format!("{text} {unit}") };
    let input = parameter.input.as_ref().filter(|_| source.model.inputs.len() > 1);
    let name = parameter.name.replace('_', " ");
    let error = match parameter.standard_error {
        _ if parameter.fixed => "given, not estimated".to_owned(),
        Some(error) => with_unit(readable(error)),
        None => "the data do not tell".to_owned(),
    };
    let interval = parameter
        .interval
        .map_or(String::new(), |[low, high]| with_unit(format!("{} to {}", readable(low), readable(high))));
    vec![
        Cell::of(input.map_or(name.clone(), |tag| format!("{name} of {tag}"))),
        Cell::of(with_unit(readable(parameter.value))),
        Cell::of(error),
        Cell::of(interval),
    ]
}

/// Measured and modelled course.
fn modelled(sources: &Sources) -> Result<Vec<Block>> {
    let Some(found) = sources.modelled()? else { return Ok(Vec::new()) };
    let curve = |name: &str, values, style: Style| Curve {
        name: name.to_owned(),
        times: &found.times,
        values,
        style,
        holds: false,
    };
    let panel = Panel {
        title: format!("{}, {}", found.tag, found.unit),
        curves: vec![
            curve("measured", &found.measured, Style::Measured),
            curve("simulated", &found.modelled, Style::Plain),
        ],
    };
    let mark = found.new_data_from.map(|from| (from, "new data from here"));
    Ok(vec![Block::Chart {
        caption: "Measured, and simulated from the inputs alone.".to_owned(),
        description: format!("{} as measured and as the model simulates it.", found.tag),
        drawing: over_time(&[panel], mark),
    }])
}

/// The record that the model stands on.
pub(crate) fn record(sources: &Sources) -> Result<Vec<Block>> {
    let Some(source) = &sources.record else { return Ok(no("record behind this trial")) };
    let record = &source.record;
    let samples = record.axis.len();
    let mut rows = vec![
        Fact::new("Record", source.name.clone(), source.origin.clone()),
        Fact::new("Length", format!("{}, {samples} samples", readable_duration(record.axis.duration())), "record"),
    ];
    if let Some(started) = &source.started {
        rows.push(Fact::new("Begins", started.clone(), source.origin.clone()));
    }
    for channel in record.channels.iter().take(MOST_CHANNELS) {
        rows.push(Fact::new(channel.tag.clone(), format!("{}, in {}", channel.role.symbol(), channel.unit), "record"));
    }
    let more = record.channels.len().saturating_sub(MOST_CHANNELS);
    if more > 0 {
        rows.push(Fact::new("Further channels", more.to_string(), "record"));
    }
    let mut blocks = vec![Block::Facts { rows }];
    if !source.remark.is_empty() {
        blocks.push(Block::text(source.remark.clone()));
    }
    blocks.extend(prepared(source)?);
    let times: Vec<f64> = (0..samples).map(|k| record.axis.at(k)).collect();
    let of_role = |role: Role, style: Style| {
        let channel = record.channels.iter().find(|channel| channel.role == role)?;
        let curve =
            Curve { name: channel.tag.clone(), times: &times, values: &channel.values, style, holds: role != Role::Pv };
        Some((channel.unit.clone(), curve))
    };
    let mut panels = Vec::new();
    if let Some((unit, curve)) = of_role(Role::Pv, Style::Plain) {
        panels.push(Panel {
            title: format!("PV, {unit}"),
            curves: std::iter::once(curve).chain(of_role(Role::Sp, Style::Reference).map(|(_, curve)| curve)).collect(),
        });
    }
    if let Some((unit, curve)) = of_role(Role::Op, Style::Plain) {
        panels.push(Panel { title: format!("OP, {unit}"), curves: vec![curve] });
    }
    if !panels.is_empty() {
        blocks.push(Block::Chart {
            caption: format!("“{}” as it was recorded.", source.name),
            description: format!("PV and OP of “{}”.", source.name),
            drawing: over_time(&panels, None),
        });
    }
    Ok(blocks)
}

/// What was done to the record before it was used.
fn prepared(source: &RecordSource) -> Result<Vec<Block>> {
    let steps: Vec<_> = source.preparation.iter().filter(|step| step.enabled).collect();
    if steps.is_empty() {
        return Ok(vec![Block::text("It is used as it was recorded.")]);
    }
    let notes = preparation::prepare(&source.record, &source.preparation)?.notes;
    let enabled = source.preparation.iter().zip(notes).filter(|(step, _)| step.enabled);
    let items = enabled.map(|(step, note)| {
        let document = serde_json::to_value(&step.operation).unwrap_or_default();
        let kind = document["kind"].as_str().unwrap_or("step").replace('_', " ");
        note.map_or(kind.clone(), |note| format!("{kind}: {note}"))
    });
    Ok(vec![Block::text("Before it was used:"), Block::List { items: items.collect() }])
}

/// Versions, hashes, dates.
pub(crate) fn origins(sources: &Sources, author: &str) -> Vec<Block> {
    let trial = &sources.trial;
    let mut rows = vec![Fact::new("Program", format!("Antistasis {}", env!("CARGO_PKG_VERSION")), "this program")];
    rows.push(Fact::new("Engine", ENGINE_VERSION.to_string(), "this program"));
    if !author.trim().is_empty() {
        rows.push(Fact::new("Handed over by", author.trim(), "as typed"));
    }
    if !sources.written_at.is_empty() {
        rows.push(Fact::new("Texts last changed", sources.written_at.clone(), "dossier"));
    }
    let hash = |name: String, hash: &str| Fact::new(name, hash.to_owned(), "SHA-256");
    rows.push(Fact::new(
        format!("Trial {} made", letter(trial.number)),
        trial.made_at.clone(),
        format!("engine {}", trial.engine),
    ));
    rows.push(hash(format!("Trial {}", letter(trial.number)), &trial.trial.digest()));
    if let Some(proof) = &sources.proof {
        rows.push(Fact::new(
            format!("Proof {} made", proof.number),
            proof.made_at.clone(),
            format!("engine {}", proof.engine),
        ));
        rows.push(hash(format!("Proof {}", proof.number), &proof.digest));
    }
    if let Some(model) = &sources.model {
        rows.push(Fact::new(format!("Model {} made", letter(model.number)), model.made_at.clone(), "models"));
        rows.push(hash(format!("Record as model {} knew it", letter(model.number)), &model.record_hash));
    }
    if let Some(record) = &sources.record {
        rows.push(hash(format!("“{}” now", record.name), &record.content_hash));
    }
    vec![Block::Facts { rows }]
}
