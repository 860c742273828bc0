//! The columns of a trace and what they are filled from; the signals that a controller can read.

use super::Plant;
use super::plant::Started;
use super::schedule::{LimitMove, Schedule};
use super::trace::{Column, ColumnRole, Trace};
use super::trial::Trial;
use super::wiring::Wiring;
use crate::controller::ControllerSpec;
use crate::instrument::ActuatorSpec;
use crate::process::Description;
use crate::{Error, Result};

/// What a column of the trace is filled from.
#[derive(Debug, Clone)]
pub(super) enum Source {
    /// Of the OP of this number.
    Position(usize),
    DrivenInput(usize),
    /// Of the measured signal of this number.
    TrueValue(usize),
    /// Of a further controller, measured signal or OP.
    SetPoint(usize),
    Measurement(usize),
    Op(usize),
    Load(usize),
    /// What a controller puts out, where that is not what is set.
    PutOut(usize),
    Output(usize),
    Input(usize),
    /// An input as its sensor shows it.
    Disturbance(usize),
    Term(usize),
    /// What the terms of a balance come to, each with its sign.
    Stored {
        first: usize,
        signs: Vec<f64>,
    },
    Control(Term),
    Learned(usize),
    /// A limit of a CV that is moved.
    Limit(usize),
}

/// A term of the controller.
#[derive(Debug, Clone, Copy)]
pub(super) enum Term {
    Proportional,
    Integral,
    Derivative,
    FeedForward,
    Unlimited,
}

/// Where a signal that the controller reads comes from.
#[derive(Debug, Clone, Copy)]
pub(super) enum Signal {
    Output(usize),
    Input(usize),
    Load,
    /// A measured signal as measured: 0 is the PV.
    Measured(usize),
    /// An input as its sensor shows it, and as it last did so to be believed.
    Disturbance(usize),
    Believed(usize),
    /// What an OP is set to: 0 is that of the plant. Of one that a later controller sets, what stood since the last scan.
    Op(usize),
}

impl Signal {
    /// The same, without what is not to be believed.
    pub fn believed(self) -> Self {
        if let Self::Disturbance(k) = self { Self::Believed(k) } else { self }
    }
}

/// What a name stands for among the signals that a controller can read: outputs and inputs of the process by name, the signals
/// of a plant of several loops by tag.
pub(super) fn signal(plant: &Plant, description: &Description, name: &str, driven: &[usize]) -> Result<Signal> {
    if name == "load" {
        return Ok(Signal::Load);
    }
    if let Some(k) = plant.measured_disturbances.iter().position(|one| one.tag == name) {
        return Ok(Signal::Disturbance(k));
    }
    let several = !plant.further_measured.is_empty() || !plant.further_driven.is_empty();
    let (measured, ops) = (plant.measured_tags(), plant.op_tags());
    if several {
        if let Some(k) = measured.iter().position(|tag| *tag == name) {
            return Ok(Signal::Measured(k));
        }
        if let Some(k) = ops.iter().position(|tag| *tag == name) {
            return Ok(Signal::Op(k));
        }
    }
    if let Some(k) = description.outputs.iter().position(|output| output.name == name) {
        return Ok(Signal::Output(k));
    }
    match description.inputs.iter().position(|input| input.name == name) {
        Some(k) if !driven.contains(&k) => Ok(Signal::Input(k)),
        _ => {
            let inputs =
                description.inputs.iter().enumerate().filter(|(k, _)| !driven.contains(k)).map(|(_, input)| input);
            let mut names: Vec<&str> =
                description.outputs.iter().chain(inputs).map(|quantity| quantity.name.as_str()).collect();
            if several {
                names.extend(measured.into_iter().chain(ops));
            }
            names.extend(plant.measured_disturbances.iter().map(|one| one.tag.as_str()));
            Err(Error::invalid("controller.signal", format!("“{name}”"), format!("load, {}", names.join(", "))))
        }
    }
}

/// A process may call an output as the loop calls its PV: every column has a tag of its own.
fn name_apart(columns: &mut [Column]) {
    for k in 1..columns.len() {
        let (earlier, rest) = columns.split_at_mut(k);
        let is_taken = |tag: &str| earlier.iter().any(|other| other.tag.eq_ignore_ascii_case(tag));
        if is_taken(&rest[0].tag) {
            let of_process = format!("{} of the process", rest[0].tag);
            let numbered = (2..).map(|n| format!("{of_process} {n}"));
            rest[0].tag =
                std::iter::once(of_process.clone()).chain(numbered).find(|tag| !is_taken(tag)).unwrap_or(of_process);
        }
    }
}

/// The columns of the trace, the first four being those of a [`Row`], and what the others are filled from.
pub(super) fn columns(
    trial: &Trial,
    started: &Started,
    schedule: &Schedule,
    wiring: &Wiring,
    with_balances: bool,
) -> (Trace, Vec<Source>) {
    let plant = &trial.plant;
    let description = started.process.description();
    let driven = driven_inputs(started);
    let column = |tag: &str, unit: &str, role| Column {
        tag: tag.to_owned(),
        unit: unit.to_owned(),
        role,
        of: None,
        values: Vec::new(),
    };
    let (pv, op) = (&plant.pv, &plant.op);
    let loop_tag = plant.loop_tag();
    let mut columns = vec![
        column(&format!("{loop_tag}.SP"), &pv.span.unit, ColumnRole::SetPoint),
        column(&pv.tag, &pv.span.unit, ColumnRole::ProcessVariable),
        column(&op.tag, "%", ColumnRole::Output),
        column("load", "%", ColumnRole::Load),
    ];
    let mut sources = Vec::new();
    if !matches!(plant.actuator, ActuatorSpec::Direct {}) {
        columns.push(column("position", "%", ColumnRole::Position));
        sources.push(Source::Position(0));
    }
    if trial.plant.process.as_linear().is_none() {
        let input = &description.inputs[driven[0]];
        columns.push(column(&input.name, &input.unit, ColumnRole::DrivenInput));
        sources.push(Source::DrivenInput(0));
    }
    if plant.sensor != crate::instrument::SensorSpec::default() || !schedule.sensors[0].is_empty() {
        columns.push(column("true value", &pv.span.unit, ColumnRole::TrueValue));
        sources.push(Source::TrueValue(0));
    }
    let further = further_columns(trial, started, schedule, wiring);
    columns.extend(further.iter().map(|(column, _)| column.clone()));
    sources.extend(further.into_iter().map(|(_, source)| source));
    for (k, input) in description.inputs.iter().enumerate() {
        if !driven.contains(&k) && !schedule.inputs[k].is_constant() {
            columns.push(column(&input.name, &input.unit, ColumnRole::Disturbance));
            sources.push(Source::Input(k));
        }
    }
    for (k, signal) in plant.measured_disturbances.iter().enumerate() {
        columns.push(column(&signal.tag, &signal.span.unit, ColumnRole::MeasuredDisturbance));
        sources.push(Source::Disturbance(k));
    }
    for (k, quantity) in description.outputs.iter().enumerate() {
        if k != started.output && !started.further_outputs.contains(&k) {
            columns.push(column(&quantity.name, &quantity.unit, ColumnRole::ProcessOutput));
            sources.push(Source::Output(k));
        }
    }
    for (k, column) in moved_limits(trial, schedule).into_iter().enumerate() {
        columns.push(column);
        sources.push(Source::Limit(k));
    }
    let spec = &trial.candidate.controller;
    for (k, (name, unit)) in spec.learns(&pv.span).into_iter().enumerate() {
        columns.push(column(&name, &unit, ColumnRole::ControllerTerm));
        sources.push(Source::Learned(k));
    }
    // Of a cascade the inner controller makes the output, and its terms explain it.
    let (explained, of) = match spec {
        ControllerSpec::Cascade(cascade) => (Some(&cascade.inner), "inner "),
        other => (other.main_pid(), ""),
    };
    if with_balances && let Some(pid) = explained {
        let mut terms = vec![("proportional term", Term::Proportional), ("integral term", Term::Integral)];
        if pid.derivative_time > 0.0 {
            terms.push(("derivative term", Term::Derivative));
        }
        if pid.feed_forward.is_some() {
            terms.push(("feed-forward", Term::FeedForward));
        }
        terms.push(("unlimited output", Term::Unlimited));
        for (name, term) in terms {
            columns.push(column(&format!("{of}{name}"), "%", ColumnRole::ControllerTerm));
            sources.push(Source::Control(term));
        }
    }
    if with_balances {
        let mut k = 0;
        for balance in &description.balances {
            let unit = format!("{}/s", balance.unit);
            let (first, signs) = (k, balance.terms.iter().map(|term| term.kind.sign()).collect());
            for term in &balance.terms {
                columns.push(column(&format!("{}: {}", balance.name, term.name), &unit, ColumnRole::BalanceTerm));
                sources.push(Source::Term(k));
                k += 1;
            }
            columns.push(column(&format!("{}: stored", balance.name), &unit, ColumnRole::BalanceStored));
            sources.push(Source::Stored { first, signs });
        }
    }
    name_apart(&mut columns);
    let template = Trace {
        scan: trial.scenario.scan,
        output_limits: trial.candidate.output_limits(&trial.candidate.controller, &plant.op.tag),
        columns,
        ..Trace::default()
    };
    (template, sources)
}

/// The inputs that OPs drive, that of the plant's own first.
pub(super) fn driven_inputs(started: &Started) -> Vec<usize> {
    std::iter::once(&started.driven).chain(&started.further_drives).map(|drive| drive.input).collect()
}

/// The columns of further controllers, each with what it measures and sets, and of further signals that no controller has.
fn further_columns(trial: &Trial, started: &Started, schedule: &Schedule, wiring: &Wiring) -> Vec<(Column, Source)> {
    let plant = &trial.plant;
    let description = started.process.description();
    let mut all: Vec<(Column, Source)> = Vec::new();
    let mut add = |of: &str, tag: String, unit: &str, role, source| {
        let of = Some(of.to_owned());
        all.push((Column { tag, unit: unit.to_owned(), role, of, values: Vec::new() }, source));
    };
    let spans = plant.measured_spans();
    let (mut shown_measured, mut shown_ops) = (vec![0], vec![0]);
    let show_measured = |k: usize, of: &str, add: &mut dyn FnMut(&str, String, &str, ColumnRole, Source)| {
        let signal = &plant.further_measured[k - 1];
        let unit = &signal.span.unit;
        add(of, signal.tag.clone(), unit, ColumnRole::ProcessVariable, Source::Measurement(k));
        if signal.sensor != crate::instrument::SensorSpec::default() || !schedule.sensors[k].is_empty() {
            add(of, format!("{} true value", signal.tag), unit, ColumnRole::TrueValue, Source::TrueValue(k));
        }
    };
    let show_op = |k: usize, of: &str, add: &mut dyn FnMut(&str, String, &str, ColumnRole, Source)| {
        let signal = &plant.further_driven[k - 1];
        add(of, signal.tag.clone(), "%", ColumnRole::Output, Source::Op(k));
        if !schedule.drives[k].load.is_constant() {
            add(of, format!("{of} load"), "%", ColumnRole::Load, Source::Load(k));
        }
        if !matches!(signal.actuator, ActuatorSpec::Direct {}) {
            add(of, format!("{} position", signal.tag), "%", ColumnRole::Position, Source::Position(k));
        }
        if plant.process.as_linear().is_none() {
            let input = &description.inputs[started.further_drives[k - 1].input];
            add(of, input.name.clone(), &input.unit, ColumnRole::DrivenInput, Source::DrivenInput(k));
        }
    };
    for (c, name) in wiring.names.iter().enumerate() {
        let measured = wiring.measures[c];
        if c > 0 && !wiring.only_moves(&trial.candidate, c) {
            add(name, format!("{name}.SP"), &spans[measured].unit, ColumnRole::SetPoint, Source::SetPoint(c));
        }
        if !shown_measured.contains(&measured) {
            shown_measured.push(measured);
            show_measured(measured, name, &mut add);
        }
        if wiring.puts_out_another(c) {
            add(name, format!("{name} puts out"), "%", ColumnRole::ControllerTerm, Source::PutOut(c));
        }
        for op in wiring.ops_of(c) {
            if !shown_ops.contains(&op) {
                shown_ops.push(op);
                show_op(op, name, &mut add);
            }
        }
    }
    for k in (1..=plant.further_measured.len()).filter(|k| !shown_measured.contains(k)) {
        show_measured(k, &plant.further_measured[k - 1].tag, &mut add);
    }
    for k in (1..=plant.further_driven.len()).filter(|k| !shown_ops.contains(k)) {
        show_op(k, &plant.further_driven[k - 1].tag, &mut add);
    }
    all
}

/// The columns of the limits that are moved, as their first moves are in time.
fn moved_limits(trial: &Trial, schedule: &Schedule) -> Vec<Column> {
    let Some(settings) = trial.candidate.predictive() else { return Vec::new() };
    let plant = &trial.plant;
    let unit = |cv: &str| {
        let measured = plant.measured_tags().into_iter().position(|tag| tag == cv);
        let estimated = settings.cvs.iter().find(|own| own.tag == cv).and_then(|own| own.estimated.as_ref());
        match (measured, estimated) {
            (Some(k), _) => plant.measured_spans()[k].unit.clone(),
            (None, Some(estimated)) => estimated.span.unit.clone(),
            (None, None) => String::new(),
        }
    };
    let mut columns: Vec<Column> = Vec::new();
    for LimitMove { cv, side, rank, .. } in &schedule.limits {
        let tag = format!("{cv} {} limit, rank {rank}", side.in_words());
        if columns.iter().all(|known| known.tag != tag) {
            let (role, of) = (ColumnRole::Limit, Some(cv.clone()));
            columns.push(Column { tag, unit: unit(cv), role, of, values: Vec::new() });
        }
    }
    columns
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_output_that_is_called_as_the_loop_calls_its_own_gets_a_tag_of_its_own() {
        let tagged = |tag: &str| Column {
            tag: tag.to_owned(),
            unit: String::new(),
            role: ColumnRole::ProcessOutput,
            of: None,
            values: Vec::new(),
        };
        let mut columns: Vec<Column> = ["SP", "PV", "OP", "load", "pv", "load", "PV", "level"].map(tagged).into();
        name_apart(&mut columns);
        let tags: Vec<&str> = columns.iter().map(|column| column.tag.as_str()).collect();
        let of = "of the process";
        assert_eq!(tags[..4], ["SP", "PV", "OP", "load"]);
        assert_eq!(tags[4..], [&format!("pv {of}"), &format!("load {of}"), &format!("PV {of} 2"), "level"]);
    }
}
