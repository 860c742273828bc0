//! What is fed forward from one loop to another, so that it is not felt there.

use super::Decoupler;
use crate::assessment::loop_channel;
use crate::controller::{FeedForward, PidSettings};
use crate::lti::StateSpace;
use crate::numerics::rounded;
use crate::process::LinearSpec;
use crate::simulation::Plant;

/// What loop `k` is fed forward: of the loops that move its PV the one that moves it most.
pub(super) fn forward(
    decoupler: Decoupler,
    k: usize,
    plant: &Plant,
    elements: &[Vec<StateSpace>],
    names: &[String],
    remarks: &mut Vec<String>,
) -> Option<FeedForward> {
    if decoupler == Decoupler::None {
        return None;
    }
    let slow = |i: usize, j: usize| (!elements[i][j].integrates()).then(|| elements[i][j].response(0.0).re);
    let mut others: Vec<(usize, f64)> = (0..elements.len())
        .filter(|j| *j != k)
        .filter_map(|j| Some((j, slow(k, j)?)))
        .filter(|one| one.1 != 0.0)
        .collect();
    others.sort_by(|a, b| b.1.abs().total_cmp(&a.1.abs()));
    let Some(own) = slow(k, k) else {
        remarks.push(format!("{} integrates: it has no gain at rest, and is not decoupled.", names[k]));
        return None;
    };
    let (j, gain) = *others.first()?;
    if others.len() > 1 {
        remarks.push(format!("{} is decoupled from {} only, which moves it most.", names[k], names[j]));
    }
    let signal = if j == 0 { plant.op.tag.clone() } else { plant.further_driven[j - 1].tag.clone() };
    let ratio = rounded(-gain / own, 4);
    let fixed = FeedForward { signal, gain: ratio, lead: 0.0, lag: 0.0, delay: 0.0 };
    if decoupler == Decoupler::Static {
        return Some(fixed);
    }
    let nearest = |i: usize, j: usize| {
        let channel = plant.seen_at(i, j).and_then(|seen| loop_channel(&seen)).ok()?;
        match channel.nearest?.process {
            LinearSpec::Fopdt { time_constant, dead_time, .. } => Some((time_constant, dead_time)),
            _ => None,
        }
    };
    match (nearest(k, k), nearest(k, j)) {
        (Some((own_lag, own_late)), Some((lag, late))) => {
            if late < own_late {
                remarks.push(format!(
                    "{} answers later than it is disturbed by {}: what comes before is not decoupled.",
                    names[k], names[j]
                ));
            }
            Some(FeedForward {
                lead: rounded(own_lag, 3),
                lag: rounded(lag, 3),
                delay: rounded((late - own_late).max(0.0), 3),
                ..fixed
            })
        }
        _ => {
            remarks
                .push(format!("No low-order model comes near {}: its decoupler is the ratio of the gains.", names[k]));
            Some(fixed)
        }
    }
}

/// Decouplers that feed each other multiply: their ring answers `1/(1 − d₁₂ d₂₁)` times, and runs away from 1 on. Beyond this product one of
/// the two is left out (common practice: no more than twice).
const BOTH_WAYS: f64 = 0.5;

/// Leaves out the second of two decouplers that would drive each other.
pub(super) fn one_way_where_needed(
    pids: &mut [PidSettings],
    plant: &Plant,
    names: &[String],
    remarks: &mut Vec<String>,
) {
    let ops: Vec<&str> =
        std::iter::once(plant.op.tag.as_str()).chain(plant.further_driven.iter().map(|one| one.tag.as_str())).collect();
    // At once a lead-lag gives more than its gain where it leads.
    let strength = |forward: &FeedForward| {
        forward.gain.abs() * if forward.lag > 0.0 { (forward.lead / forward.lag).max(1.0) } else { 1.0 }
    };
    let fed_by = |pid: &PidSettings, op: &str| pid.feed_forward.as_ref().filter(|one| one.signal == op).map(strength);
    for i in 0..pids.len() {
        for j in i + 1..pids.len() {
            let (Some(a), Some(b)) = (fed_by(&pids[i], ops[j]), fed_by(&pids[j], ops[i])) else { continue };
            if a * b > BOTH_WAYS {
                pids[j].feed_forward = None;
                remarks.push(format!(
                    "Both ways the decouplers of {} and {} would drive each other: only {} is decoupled.",
                    names[i], names[j], names[i]
                ));
            }
        }
    }
}
