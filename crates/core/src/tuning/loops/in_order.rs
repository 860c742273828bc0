//! The controllers of a trial tuned one after the other in the order of their wires: of a cascade the inner one first, the outer one on
//! what it then sees.

use super::TunedLoop;
use crate::assessment::Network;
use crate::controller::{Action, ControllerSpec, PidSettings};
use crate::numerics::{bisect, rounded};
use crate::simulation::Trial;
use crate::{Error, Result};
use num_complex::Complex64;
use serde::Serialize;
use std::f64::consts::PI;
use utoipa::ToSchema;

/// A trial whose controllers were tuned one after the other.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct InOrder {
    /// The trial with the settings.
    pub trial: Trial,
    /// What is said of each controller, in the order in which they were tuned.
    pub loops: Vec<TunedLoop>,
    /// What was left as it was, and why.
    pub remarks: Vec<String>,
}

/// Tunes all PID controllers of a trial, the inner ones first and of those that can be next the quickest, each with those before it
/// closed, by Tyreus & Luyben (Ind. Eng. Chem. Res. 31 (1992) 2625): `Ku/3.2` and `2.2 Pu`, with derivative action where it had some
/// `Ku/2.2`, `2.2 Pu` and `Pu/6.3`.
///
/// Errors where a controller is no PID, the plant does not start at rest, or runs away by itself.
pub fn tune_in_order(trial: &Trial) -> Result<InOrder> {
    trial.validate()?;
    let mut network = Network::of(trial)?.ok_or_else(|| {
        Error::unfit(
            "the loops are not linear, do not start at rest, or the plant runs away by itself",
            "tune PID controllers at a steady state, or set them by hand",
        )
    })?;
    let mut tuned = trial.clone();
    let names: Vec<String> = std::iter::once(trial.plant.loop_tag().to_owned())
        .chain(trial.candidate.further.iter().map(|wired| wired.name.clone()))
        .collect();
    let (mut loops, mut remarks) = (Vec::new(), Vec::new());
    let mut waiting = network.at_work();
    for (k, name) in names.iter().enumerate().filter(|(k, _)| !waiting.contains(k)) {
        let why = if network.settings(k).is_none() { "it is in manual" } else { "it stands by to override" };
        remarks.push(format!("{name} was left as it is: {why}."));
    }
    let mut closed: Vec<usize> = Vec::new();
    while !waiting.is_empty() {
        // What is tuned first is what no waiting controller lies within; a ring of set points has no such end.
        let free = |k: &usize| !network.inner_of(*k).iter().any(|inner| waiting.contains(inner));
        let ready: Vec<usize> = waiting.iter().copied().filter(free).collect();
        let points = ready.iter().map(|k| (*k, ultimate(&network, *k, &closed)));
        let next = points.min_by(|a, b| period(a.1).total_cmp(&period(b.1)));
        let Some((k, point)) = next else {
            return Err(Error::unfit("the set points of these controllers move each other", "open the ring of wires"));
        };
        waiting.retain(|other| *other != k);
        match (point, network.settings(k).cloned()) {
            (Some(point), Some(before)) => {
                let settings = by_rule(&before, point);
                network.set(k, settings.clone());
                loops.push(TunedLoop {
                    name: names[k].clone(),
                    ultimate_gain: point.gain,
                    ultimate_period: point.period,
                    gain: settings.gain,
                    integral_time: settings.integral_time.unwrap_or_default(),
                });
                put(&mut tuned, k, settings);
            }
            _ => remarks.push(format!(
                "{} was left as it is: what it sees never lags by half a turn at this scan, so that it has no ultimate gain.",
                names[k]
            )),
        }
        if !network.margins_with(k, &closed).stable {
            remarks.push(format!(
                "With these settings {} is not stable: look at the pairing, or set it by hand.",
                names[k]
            ));
        }
        closed.push(k);
    }
    tuned.validate()?;
    Ok(InOrder { trial: tuned, loops, remarks })
}

/// Where a loop begins to oscillate for good under a gain alone.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ultimate {
    /// Gain in %/%, above 0.
    gain: f64,
    /// Period in s.
    period: f64,
    /// Whether the process answers in the other direction.
    is_direct: bool,
}

fn period(point: Option<Ultimate>) -> f64 {
    point.map_or(f64::MAX, |point| point.period)
}

/// The first lag of half a turn of what a controller sees.
pub(super) fn ultimate(network: &Network, k: usize, closed: &[usize]) -> Option<Ultimate> {
    let grid = network.grid();
    let first = network.seen_by(k, closed, *grid.first()?);
    // Of what integrates, the answer to slow changes lags by a quarter of a turn.
    let slow = if first.im.abs() > first.re.abs() { -first.im } else { first.re };
    let seen = |omega: f64| -> Complex64 { slow.signum() * network.seen_by(k, closed, omega) };
    let crossed = |pair: &&[f64]| seen(pair[0]).im < 0.0 && seen(pair[1]).im >= 0.0;
    let pair = grid.windows(2).find(crossed)?;
    let at = bisect(pair[0], pair[1], |omega| seen(omega).im);
    Some(Ultimate { gain: seen(at).norm().recip(), period: 2.0 * PI / at, is_direct: slow < 0.0 })
}

pub(super) fn by_rule(before: &PidSettings, point: Ultimate) -> PidSettings {
    let has_derivative = before.derivative_time > 0.0;
    PidSettings {
        gain: rounded(point.gain / if has_derivative { 2.2 } else { 3.2 }, 3),
        integral_time: Some(rounded(2.2 * point.period, 3)),
        derivative_time: if has_derivative { rounded(point.period / 6.3, 3) } else { 0.0 },
        action: if point.is_direct { Action::Direct } else { Action::Reverse },
        ..before.clone()
    }
}

/// Puts settings into a trial, the first controller being 0.
fn put(trial: &mut Trial, controller: usize, settings: PidSettings) {
    let place = match controller.checked_sub(1) {
        None => &mut trial.candidate.controller,
        Some(k) => &mut trial.candidate.further[k].controller,
    };
    *place = ControllerSpec::Pid(settings);
}
