//! What can be simulated, each with values to begin with.

use super::equations::{Equation, EquationsSpec, NamedValue, OwnOutput};
use super::library::{catalogue, kind};
use super::matrices::{Element, StateSpaceSpec, TransferFunctionsSpec};
use super::{DetailedSpec, LinearSpec, ProcessSpec};
use serde::Serialize;
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// A process to begin with.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct Offer {
    /// Its kind: `linear`, `tanks`, `heat`, `reactors`, `mixing` or `own`.
    pub kind: String,
    /// What it is, in a line.
    pub title: String,
    /// The process with usual values.
    pub process: ProcessSpec,
}

fn offer(kind: &str, title: &str, process: impl Into<ProcessSpec>) -> Offer {
    Offer { kind: kind.to_owned(), title: title.to_owned(), process: process.into() }
}

fn named(name: &str, unit: &str, value: f64) -> NamedValue {
    NamedValue { name: name.to_owned(), unit: unit.to_owned(), value, low: None, high: None }
}

/// Everything that can be simulated: linear processes, the library, and an example of equations of one's own.
#[must_use]
pub fn offers() -> Vec<Offer> {
    let (gain, time_constant, dead_time) = (1.0, 60.0, 15.0);
    let rate = gain / time_constant;
    let mut offers = vec![
        offer("linear", "First order plus dead time", LinearSpec::Fopdt { gain, time_constant, dead_time }),
        offer(
            "linear",
            "Two lags with lead and dead time",
            LinearSpec::TwoLags {
                gain,
                time_constant_1: time_constant,
                time_constant_2: 20.0,
                lead_time_constant: 0.0,
                dead_time,
            },
        ),
        offer(
            "linear",
            "Second order with dead time",
            LinearSpec::SecondOrder { gain, time_constant, damping: 0.5, dead_time },
        ),
        offer("linear", "Integrating with dead time", LinearSpec::Integrating { gain: rate, dead_time }),
        offer(
            "linear",
            "Integrating with lag and dead time",
            LinearSpec::IntegratingLag { gain: rate, time_constant: 20.0, dead_time },
        ),
        offer("linear", "Transfer functions, several inputs and outputs", transfer_functions()),
        offer("linear", "State space, several inputs and outputs", state_space()),
    ];
    offers.extend(catalogue().into_iter().enumerate().map(|(k, description)| {
        let process = DetailedSpec::Library { process: description.name, parameters: BTreeMap::new() };
        offer(kind(k), &description.title, process)
    }));
    offers.push(offer("own", "Equations of your own", equations()));
    offers
}

fn transfer_functions() -> DetailedSpec {
    let element = |output: &str, input: &str, gain: f64, lags: [f64; 2], dead_time: f64| Element {
        output: output.to_owned(),
        input: input.to_owned(),
        numerator: vec![gain],
        denominator: vec![lags[0] * lags[1], lags[0] + lags[1], 1.0],
        dead_time,
    };
    DetailedSpec::TransferFunctions(TransferFunctionsSpec {
        inputs: vec![named("valve", "%", 50.0), named("load", "%", 0.0)],
        outputs: vec![named("level", "%", 50.0), named("temperature", "%", 50.0)],
        elements: vec![
            element("level", "valve", 1.0, [60.0, 10.0], 5.0),
            element("level", "load", 0.5, [30.0, 10.0], 0.0),
            element("temperature", "valve", 0.6, [40.0, 15.0], 10.0),
        ],
    })
}

fn state_space() -> DetailedSpec {
    DetailedSpec::StateSpace(StateSpaceSpec {
        inputs: vec![named("drive", "%", 50.0)],
        outputs: vec![named("position", "%", 50.0)],
        a: vec![vec![0.0, 1.0], vec![-0.01, -0.1]],
        b: vec![vec![0.0], vec![0.01]],
        c: vec![vec![1.0, 0.0]],
        d: Vec::new(),
        dead_times: vec![2.0],
    })
}

/// A tank that runs out by gravity.
fn equations() -> DetailedSpec {
    let equation = |name: &str, equals: &str| Equation { name: name.to_owned(), equals: equals.to_owned() };
    DetailedSpec::Equations(EquationsSpec {
        title: "Tank with a free outlet".to_owned(),
        states: vec![named("level", "m", 1.0)],
        inputs: vec![named("inflow", "m³/h", 20.0), named("leak", "m³/h", 0.0)],
        parameters: vec![named("area", "m²", 2.0), named("outlet", "m³/h/√m", 20.0)],
        definitions: vec![equation("outflow", "outlet * sqrt(max(level, 0))")],
        rates: vec![equation("level", "(inflow - leak - outflow) / 3600 / area")],
        outputs: vec![OwnOutput { name: "level".to_owned(), unit: "m".to_owned(), equals: "level".to_owned() }],
    })
}
