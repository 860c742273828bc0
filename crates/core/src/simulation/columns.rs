//! The columns of a trace and what they are filled from; the signals that a controller can read.

use super::schedule::Schedule;
use super::trace::{Column, ColumnRole, Trace};
use super::trial::Trial;
use crate::controller::ControllerSpec;
use crate::instrument::ActuatorSpec;
use crate::process::Description;
use crate::{Error, Result};

/// What a column of the trace is filled from.
#[derive(Debug, Clone)]
pub(super) enum Source {
    Position,
    DrivenInput,
    TrueValue,
    Output(usize),
    Input(usize),
    Term(usize),
    /// What the terms of a balance come to, each with its sign.
    Stored {
        first: usize,
        signs: Vec<f64>,
    },
    Control(Term),
    Learned(usize),
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
}

/// What a name stands for among the signals that a controller can read.
pub(super) fn signal(description: &Description, name: &str, driven: usize) -> Result<Signal> {
    if name == "load" {
        return Ok(Signal::Load);
    }
    if let Some(k) = description.outputs.iter().position(|output| output.name == name) {
        return Ok(Signal::Output(k));
    }
    match description.inputs.iter().position(|input| input.name == name) {
        Some(k) if k != driven => Ok(Signal::Input(k)),
        _ => {
            let inputs = description.inputs.iter().enumerate().filter(|(k, _)| *k != driven).map(|(_, input)| input);
            let names: Vec<&str> =
                description.outputs.iter().chain(inputs).map(|quantity| quantity.name.as_str()).collect();
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
    description: &Description,
    schedule: &Schedule,
    output: usize,
    driven: usize,
    with_balances: bool,
) -> (Trace, Vec<Source>) {
    let plant = &trial.plant;
    let column =
        |tag: &str, unit: &str, role| Column { tag: tag.to_owned(), unit: unit.to_owned(), role, values: Vec::new() };
    let (pv, op) = (&plant.pv, &plant.op);
    let loop_tag = pv.tag.strip_suffix(".PV").unwrap_or(&pv.tag);
    let mut columns = vec![
        column(&format!("{loop_tag}.SP"), &pv.span.unit, ColumnRole::SetPoint),
        column(&pv.tag, &pv.span.unit, ColumnRole::ProcessVariable),
        column(&op.tag, "%", ColumnRole::Output),
        column("load", "%", ColumnRole::Load),
    ];
    let mut sources = Vec::new();
    if !matches!(plant.actuator, ActuatorSpec::Direct {}) {
        columns.push(column("position", "%", ColumnRole::Position));
        sources.push(Source::Position);
    }
    if trial.plant.process.as_linear().is_none() {
        let input = &description.inputs[driven];
        columns.push(column(&input.name, &input.unit, ColumnRole::DrivenInput));
        sources.push(Source::DrivenInput);
    }
    if plant.sensor != crate::instrument::SensorSpec::default() || !schedule.sensor_failing.is_empty() {
        columns.push(column("true value", &pv.span.unit, ColumnRole::TrueValue));
        sources.push(Source::TrueValue);
    }
    for (k, input) in description.inputs.iter().enumerate() {
        if k != driven && !schedule.inputs[k].is_constant() {
            columns.push(column(&input.name, &input.unit, ColumnRole::Disturbance));
            sources.push(Source::Input(k));
        }
    }
    for (k, quantity) in description.outputs.iter().enumerate() {
        if k != output {
            columns.push(column(&quantity.name, &quantity.unit, ColumnRole::ProcessOutput));
            sources.push(Source::Output(k));
        }
    }
    let spec = &trial.candidate.controller;
    for (k, (name, unit)) in spec.learns(&pv.span).into_iter().enumerate() {
        columns.push(column(name, &unit, ColumnRole::ControllerTerm));
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
        output_limits: trial.candidate.controller.output_limits(),
        columns,
        ..Trace::default()
    };
    (template, sources)
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
