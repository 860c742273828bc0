//! Stick-slip of a valve, from PV and OP.

use super::{Finding, Topic};
use crate::numerics::{NormalEquations, range};
use crate::verdict::{Tone, readable};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Sticking bands that are tried.
const BANDS: usize = 40;
/// Fewest moves of the OP from which a valve is judged.
const FEWEST_MOVES: usize = 20;
/// By how much the misfit must fall for a verdict.
const LEAST_GAIN: f64 = 0.15;

/// How much a valve sticks.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Stiction {
    /// Band in which the OP may move without moving the valve, in %.
    pub band: f64,
    /// By which share the misfit (sum of squares) falls against a valve that follows.
    pub improvement: f64,
    /// Whether the valve is taken to stick.
    pub found: bool,
}

/// The valve's position where it sticks until the OP is further than `band` from it, and then jumps to the OP
/// (one-parameter model; He, Wang, Pottmann &
/// Qin, Industrial & Engineering Chemistry Research 46, 2007).
fn stuck(op: &[f64], band: f64) -> Vec<f64> {
    let mut position = op[0];
    let follow = |value: &f64| {
        if (value - position).abs() > band {
            position = *value;
        }
        position
    };
    op.iter().map(follow).collect()
}

/// Time constants of the lags that stand for the process, in samples.
const LAGS: [f64; 6] = [1.0, 3.0, 8.0, 20.0, 60.0, 200.0];

/// Misfit of the PV as a sum of lags of the valve's position, a linear process simulated from its input alone: noise of
/// the PV does not enter it
/// twice, as it would in a difference equation.
fn misfit(position: &[f64], pv: &[f64]) -> f64 {
    let columns = LAGS.len() + 2;
    let mut sums = NormalEquations::new(columns);
    let mut row = vec![0.0; columns + 1];
    let middle = position.iter().sum::<f64>() / position.len() as f64;
    let mut states = [position[0] - middle; LAGS.len()];
    for k in 1..pv.len() {
        let input = position[k - 1] - middle;
        for ((state, lag), entry) in states.iter_mut().zip(LAGS).zip(row.iter_mut()) {
            *state += (input - *state) * (1.0 - (-1.0 / lag).exp());
            *entry = *state;
        }
        row[LAGS.len()] = input;
        row[LAGS.len() + 1] = 1.0;
        row[columns] = pv[k] - pv[0];
        sums.add(&row);
    }
    sums.linear_solution().map_or(f64::MAX, |(_, squares)| squares)
}

/// The band with which the PV is explained best: stick-slip in front of a linear process (a Hammerstein model over a
/// grid of bands; Srinivasan, Rengaswamy,
/// Narasimhan & Miller, Industrial & Engineering Chemistry Research 44, 2005). None where the OP moves too seldom to
/// tell.
pub(super) fn detect(op: &[f64], pv: &[f64], moves: usize) -> Option<(Stiction, Option<Finding>)> {
    let (low, high) = range(op);
    if moves < FEWEST_MOVES || high <= low || pv.len() < 100 {
        return None;
    }
    let plain = misfit(op, pv);
    if plain <= 0.0 || plain == f64::MAX {
        return None;
    }
    let largest = 0.8 * (high - low);
    let bands = (1..=BANDS).map(|k| largest * (k as f64 / BANDS as f64).powi(2));
    let (band, least) = bands
        .map(|band| (band, misfit(&stuck(op, band), pv)))
        .min_by(|a, b| a.1.total_cmp(&b.1))
        .unwrap_or((0.0, plain));
    let improvement = 1.0 - least / plain;
    let found = improvement > LEAST_GAIN;
    let stiction = Stiction { band: if found { band } else { 0.0 }, improvement: improvement.max(0.0), found };
    let finding = found.then(|| {
        Finding::new(
            Topic::Stiction,
            Tone::Bad,
            format!(
                "The valve sticks: the OP moves by about {} % before the PV follows, which explains the PV {} % better than a valve that follows. Mend it before tuning.",
                readable(band),
                readable(100.0 * improvement)
            ),
            "stick-slip in front of a linear process, by a grid over its band (Srinivasan et al. 2005; He et al. 2007)",
        )
    });
    Some((stiction, finding))
}
