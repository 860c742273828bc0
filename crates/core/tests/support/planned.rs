//! Plants of transfer functions in % and predictive controllers over them.

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{ControlledVariable, ManipulatedVariable, PredictiveSettings};
use antistasis_core::instrument::{ActuatorSpec, SensorSpec};
use antistasis_core::process::{DetailedSpec, Element, NamedValue, ProcessSpec, TransferFunctionsSpec};
use antistasis_core::simulation::{
    Candidate, Event, Manipulated, Measured, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
    Wire, Wired,
};
use antistasis_core::units::Span;
use std::collections::BTreeMap;

/// Gain, time constant and dead time of each cell.
pub type Cells = Vec<Vec<[f64; 3]>>;

/// The column of Wood & Berry (Chemical Engineering Science 28, 1973), its minutes taken for seconds.
pub fn wood_berry() -> Cells {
    vec![vec![[12.8, 16.7, 1.0], [-18.9, 21.0, 3.0]], vec![[6.6, 10.9, 7.0], [-19.4, 14.4, 3.0]]]
}

pub fn process(cells: &Cells) -> ProcessSpec {
    let named = |name: String| NamedValue { name, unit: "%".into(), value: 50.0, low: None, high: None };
    let columns = cells[0].len();
    let elements = cells.iter().enumerate().flat_map(|(i, row)| {
        row.iter().enumerate().map(move |(j, [gain, time_constant, dead_time])| Element {
            output: format!("y{}", i + 1),
            input: format!("u{}", j + 1),
            numerator: vec![*gain],
            denominator: vec![*time_constant, 1.0],
            dead_time: *dead_time,
        })
    });
    ProcessSpec::from(DetailedSpec::TransferFunctions(TransferFunctionsSpec {
        inputs: (1..=columns).map(|k| named(format!("u{k}"))).collect(),
        outputs: (1..=cells.len()).map(|k| named(format!("y{k}"))).collect(),
        elements: elements.collect(),
    }))
}

/// A plant with as many loops as its process has outputs; what inputs there are beyond is disturbances.
pub fn plant(cells: &Cells, loops: usize) -> Plant {
    let whole = || Span::new(0.0, 100.0, "%");
    let own = |tag: &str| Signal { tag: tag.into(), span: whole() };
    Plant {
        further_measured: (2..=cells.len())
            .map(|k| Measured {
                tag: format!("Y{k}.PV"),
                span: whole(),
                output: format!("y{k}"),
                rest: None,
                sensor: SensorSpec::default(),
            })
            .collect(),
        further_driven: (2..=loops)
            .map(|k| Manipulated {
                tag: format!("Y{k}.OP"),
                input: format!("u{k}"),
                at_0: 0.0,
                at_100: 100.0,
                at_start: 50.0,
                actuator: ActuatorSpec::Direct {},
            })
            .collect(),
        ..Plant::plain(process(cells), own("Y1.PV"), own("Y1.OP"), OperatingPoint::new(50.0, 50.0))
    }
}

pub fn cv(k: usize) -> ControlledVariable {
    ControlledVariable {
        tag: format!("Y{k}.PV"),
        output: format!("y{k}"),
        estimated: None,
        follows_set_point: true,
        set_point_known_ahead: false,
        low: None,
        high: None,
        bands: Vec::new(),
        response_time: 0.0,
        weight: 1.0,
        disturbance: None,
        believed_after: None,
    }
}

pub fn mv(k: usize, usual_move: f64) -> ManipulatedVariable {
    ManipulatedVariable {
        tag: format!("Y{k}.OP"),
        input: format!("u{k}"),
        low: 0.0,
        high: 100.0,
        rate: None,
        usual_move,
        follows_within: None,
        rests_at: None,
        cost: 0.0,
        drives: None,
    }
}

pub fn settings(cells: &Cells, loops: usize, horizon: f64, moves: Vec<u32>) -> PredictiveSettings {
    PredictiveSettings {
        model: process(cells),
        cvs: (1..=cells.len()).map(cv).collect(),
        mvs: (1..=loops).map(|k| mv(k, 1.0)).collect(),
        inputs: Default::default(),
        dvs: Vec::new(),
        horizon,
        moves,
        beyond_horizon: true,
        learns: None,
        most_steps: 400,
    }
}

/// The trial of a predictive controller over all loops of a plant.
pub fn trial(plant: Plant, settings: PredictiveSettings, scan: f64, duration: f64) -> Trial {
    let seats = (2..=plant.further_measured.len() + 1).map(|k| Wired {
        name: format!("Y{k}"),
        measures: format!("Y{k}.PV"),
        sets: if k <= plant.further_driven.len() + 1 { vec![Wire::to(format!("Y{k}.OP"))] } else { Vec::new() },
        controller: ControllerSpec::Seat,
        set_point_tracking: false,
    });
    let candidate =
        Candidate { further: seats.collect(), ..Candidate::new(ControllerSpec::Predictive(Box::new(settings))) };
    let scenario = Scenario { duration, scan, seed: 1, events: Vec::new(), further: BTreeMap::new() };
    Trial { version: TRIAL_VERSION, plant, candidate, scenario }
}

pub fn column<'a>(trace: &'a Trace, tag: &str) -> &'a [f64] {
    let found = trace.columns.iter().find(|column| column.tag == tag);
    let known = || trace.columns.iter().map(|column| column.tag.as_str()).collect::<Vec<_>>().join(", ");
    &found.unwrap_or_else(|| panic!("no {tag} among {}", known())).values
}

/// The set point of a further loop.
pub fn further(trial: &mut Trial, name: &str, events: Vec<Event>) {
    trial.scenario.further.insert(name.to_owned(), events);
}

pub fn predictive(trial: &mut Trial) -> &mut PredictiveSettings {
    match &mut trial.candidate.controller {
        ControllerSpec::Predictive(settings) => settings,
        _ => panic!("not predictive"),
    }
}
