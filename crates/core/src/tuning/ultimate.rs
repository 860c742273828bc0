//! The ultimate gain and period: of a model, and from a relay experiment.

use super::controlled::Controlled;
use crate::controller::ControllerSpec;
use crate::identification::{DataSet, FitOptions, Model, Series, Structure, fit};
use crate::numerics::bisect;
use crate::process::LinearSpec;
use crate::series::TimeAxis;
use crate::simulation::{ColumnRole, Trace, Trial};
use crate::verdict::{readable, readable_duration};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
use utoipa::ToSchema;

/// Where a loop under proportional control swings for ever.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct UltimatePoint {
    /// The gain, in % of OP per unit of the process's output.
    pub gain: f64,
    /// The period in s.
    pub period: f64,
}

/// The ultimate point of a model in continuous time, from its first crossing of −180°; None where it never lags so much.
#[must_use]
pub fn ultimate_point(process: &LinearSpec) -> Option<UltimatePoint> {
    let sign = process.gain().signum();
    let imaginary = |omega: f64| (sign * process.response(omega)).im;
    let scale = process.time_scale().max(f64::MIN_POSITIVE);
    let mut omega = 1e-3 / scale;
    while omega < 1e5 / scale {
        // The dead time must not turn past the crossing in one step.
        let next = omega + (0.02 * omega).min(0.1 / process.dead_time().max(1e-12));
        if imaginary(omega) < 0.0 && imaginary(next) >= 0.0 {
            let crossing = bisect(omega, next, imaginary);
            let response = process.response(crossing);
            return Some(UltimatePoint { gain: response.norm().recip(), period: 2.0 * PI / crossing });
        }
        omega = next;
    }
    None
}

/// What a relay experiment tells.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct RelayReading {
    /// Ultimate gain in % of OP per % of span: that of the process identified from the whole experiment, where one explains
    /// it; else by the describing function.
    pub ultimate_gain: f64,
    /// Ultimate period in s, of the same origin.
    pub ultimate_period: f64,
    /// Ultimate gain by the describing function, `4d/(π √(a² − ε²))` (Åström & Hägglund, Automatica 20, 1984): it takes the
    /// limit cycle for a sine, which it is not.
    pub describing_function_gain: f64,
    /// Period of the limit cycle in s.
    pub cycle_period: f64,
    /// The process that was identified from OP and PV of the experiment; null where none of low order explains it.
    pub process: Option<LinearSpec>,
    /// Amplitude a of the PV in % of span.
    pub amplitude: f64,
    /// Whole periods that were read.
    pub periods: usize,
    /// Static gain in % of span per % of OP, from the means over whole periods; null without a bias that tells it.
    pub static_gain: Option<f64>,
}

/// The process of low order that explains OP and PV of the experiment best, and its ultimate point under a controller that
/// is scanned as often: the hold counts as half a scan of dead time.
fn identified(trial: &Trial, trace: &Trace) -> Option<(LinearSpec, UltimatePoint)> {
    /// A fit in % below which a process of low order does not explain the experiment.
    const EXPLAINED: f64 = 80.0;
    let series = |role: ColumnRole, unit: &str| Series::new("", unit, trace.values(role).to_vec());
    let (output, measured) = (series(ColumnRole::Output, "%"), series(ColumnRole::ProcessVariable, ""));
    let axis = TimeAxis::uniform(trace.scan, trace.len()).ok()?;
    let data = DataSet::single(axis, output, measured);
    let fits = [Structure::Fopdt, Structure::TwoLags, Structure::Integrating, Structure::IntegratingLag];
    let models = fits.into_iter().filter_map(|structure| fit(&data, &FitOptions::new(structure)).ok());
    let best = models.filter(|model| model.estimation.fit_simulated > EXPLAINED).min_by(|a, b| {
        let bic = |model: &Model| model.criteria.as_ref().map_or(f64::INFINITY, |criteria| criteria.bic);
        bic(a).total_cmp(&bic(b))
    })?;
    let process = best.process().ok()?;
    let held = Controlled::plain(process.clone()).as_seen(trial.scenario.scan);
    Some((process, ultimate_point(&held)?))
}

/// Periods that are read, from the end of the experiment.
const READ: usize = 4;

/// Reads the limit cycle at the end of a relay experiment. Errors when it has not swung often enough, or the trial is none.
pub fn read_relay(trial: &Trial, trace: &Trace) -> Result<RelayReading> {
    let ControllerSpec::Relay(relay) = &trial.candidate.controller else {
        return Err(Error::unfit("the controller of the trial is no relay", "choose the relay"));
    };
    let output = trace.values(ColumnRole::Output);
    let percent = 100.0 / trial.plant.pv.span.width();
    let upward: Vec<usize> = (1..output.len()).filter(|k| output[*k] > output[k - 1]).collect();
    if upward.len() < 4 {
        return Err(Error::unfit(
            format!("the relay has switched up {} times only", upward.len()),
            "give the experiment more time, or a larger amplitude than the hysteresis needs",
        ));
    }
    let periods = READ.min(upward.len() - 2);
    let (from, to) = (upward[upward.len() - 1 - periods], upward[upward.len() - 1]);
    let lengths: Vec<f64> =
        upward[upward.len() - 1 - periods..].windows(2).map(|pair| (pair[1] - pair[0]) as f64).collect();
    let period = (to - from) as f64 * trace.scan / periods as f64;
    if lengths
        .iter()
        .any(|length| (length * trace.scan / period - 1.0).abs() > 0.1 && (length - lengths[0]).abs() > 2.0)
    {
        return Err(Error::unfit(
            "the periods still differ by more than a tenth",
            format!("give the experiment more time than {}", readable_duration(trial.scenario.duration)),
        ));
    }
    let measured = &trace.values(ColumnRole::ProcessVariable)[from..to];
    let (low, high) =
        measured.iter().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), y| (low.min(*y), high.max(*y)));
    let amplitude = 0.5 * (high - low) * percent;
    let inside = amplitude * amplitude - relay.hysteresis * relay.hysteresis;
    if inside <= 0.0 {
        return Err(Error::unfit(
            format!("the PV swings by {} % only, within the hysteresis", readable(amplitude)),
            "a smaller hysteresis or a larger amplitude of the relay",
        ));
    }
    let mean = |values: &[f64]| values.iter().sum::<f64>() / values.len() as f64;
    let rest = &trial.plant.operating_point;
    let moved = mean(&output[from..to]) - rest.op;
    let answered = (mean(measured) - rest.pv) * percent;
    let describing_function_gain = 4.0 * relay.amplitude / (PI * inside.sqrt());
    let identified = identified(trial, trace);
    let (ultimate_gain, ultimate_period) = match &identified {
        Some((_, point)) => (point.gain / percent, point.period),
        None => (describing_function_gain, period),
    };
    Ok(RelayReading {
        ultimate_gain,
        ultimate_period,
        describing_function_gain,
        cycle_period: period,
        process: identified.map(|(process, _)| process),
        amplitude,
        periods,
        static_gain: (relay.bias != 0.0 && moved.abs() > 1e-3 * relay.amplitude).then(|| answered / moved),
    })
}
