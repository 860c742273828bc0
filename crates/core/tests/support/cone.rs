//! A conical tank under a predictive controller with its equations.

use crate::planned::{cv, mv};
use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{DisturbanceAt, Drives, PredictiveSettings};
use antistasis_core::process::ProcessSpec;
use antistasis_core::simulation::{
    Candidate, ColumnRole, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trace, Trial,
};
use antistasis_core::units::Span;

pub const LEVELS: (f64, f64) = (0.0, 4.0);

/// A conical tank drained by gravity, its inflow 0 to 40 m³/h, at rest at a level.
pub fn cone(level: f64) -> Plant {
    let own = |tag: &str, span: Span| Signal { tag: tag.into(), span };
    Plant::plain(
        ProcessSpec::library("cone_tank", &[]),
        own("Y1.PV", Span::new(LEVELS.0, LEVELS.1, "m")),
        own("Y1.OP", Span::new(0.0, 100.0, "%")),
        OperatingPoint::new(level, 50.0),
    )
}

pub fn settings(horizon: f64, moves: Vec<u32>) -> PredictiveSettings {
    let mut moved = mv(1, 0.5);
    (moved.input, moved.drives) = ("inflow".into(), Some(Drives { at_0: 0.0, at_100: 40.0 }));
    let mut led = cv(1);
    led.output = "level".into();
    // A load on a slow tank acts where it is filled.
    led.disturbance = Some(DisturbanceAt::Input("inflow".into()));
    PredictiveSettings {
        model: ProcessSpec::library("cone_tank", &[]),
        cvs: vec![led],
        mvs: vec![moved],
        inputs: Default::default(),
        dvs: Vec::new(),
        horizon,
        moves,
        beyond_horizon: false,
        learns: None,
        most_steps: 400,
    }
}

pub fn trial(plant: Plant, settings: PredictiveSettings, scan: f64, duration: f64, events: Vec<Event>) -> Trial {
    let candidate = Candidate::new(ControllerSpec::Predictive(Box::new(settings)));
    let scenario = Scenario { duration, scan, seed: 1, events, further: Default::default() };
    Trial { version: TRIAL_VERSION, plant, candidate, scenario }
}

pub fn pv(trace: &Trace) -> Vec<f64> {
    trace.values(ColumnRole::ProcessVariable).to_vec()
}
