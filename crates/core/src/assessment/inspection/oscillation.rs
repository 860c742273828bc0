//! An oscillation of the PV while the OP stands still: it comes from the valve, the transmitter or upstream, not from
//! the loop.

use super::{ENOUGH, Finding, REST_SAMPLES, Topic};
use crate::identification::held;
use crate::series::Record;
use crate::verdict::{Tone, readable, readable_duration};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Least number of zero crossings of the autocovariance that a period is read from.
const CROSSINGS: usize = 6;
/// Most lags of the autocovariance.
const MOST_LAGS: usize = 4000;

/// A regular oscillation.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Oscillation {
    /// Period in s.
    pub period: f64,
    /// Amplitude in PV units: half of the swing.
    pub amplitude: f64,
    /// Mean of the intervals between zero crossings over three times their standard deviation; above 1 it is regular.
    pub regularity: f64,
    /// Whether it is taken for an oscillation.
    pub found: bool,
}

/// Looks at the longest stretch in which the OP stands still. The autocovariance of the PV there, which noise hardly
/// touches, must cross zero at
/// regular intervals: their mean over three times their standard deviation above 1 (Thornhill, Huang & Zhang, J.
/// Process Control 13, 2003).
pub(super) fn while_at_rest(
    record: &Record,
    pv: &[f64],
    op: &[f64],
    noise: f64,
) -> Option<(Oscillation, Option<Finding>)> {
    let steady = held(op);
    let mut longest = 0..0;
    let mut start = 0;
    for k in 1..=steady.len() {
        if k == steady.len() || steady[k] != steady[start] {
            if k - start > longest.len() {
                longest = start..k;
            }
            start = k;
        }
    }
    // The response to the move before dies down in the first third.
    let calm = if longest.start == 0 { longest.clone() } else { longest.start + longest.len() / 3..longest.end };
    if calm.len() < REST_SAMPLES {
        return None;
    }
    // Of a long rest its middle is enough, at full resolution.
    let spare = calm.len().saturating_sub(ENOUGH) / 2;
    let calm = calm.start + spare..calm.end - spare;
    let interval = record.axis.mean_interval();
    let (from, to) = (record.axis.at(calm.start), record.axis.at(calm.end - 1));
    let series = detrended(&held(&pv[calm]));
    let oscillation = oscillation(&series, interval, noise)?;
    let finding = oscillation.found.then(|| {
        Finding::new(
            Topic::Oscillation,
            Tone::Bad,
            format!(
                "The PV oscillates while the OP stands still: period {}, amplitude {} (regularity {}). Look at valve, positioner and transmitter first, or for a source upstream; tuning will not cure it.",
                readable_duration(oscillation.period),
                readable(oscillation.amplitude),
                readable(oscillation.regularity)
            ),
            "zero crossings of the autocovariance at regular intervals (Thornhill, Huang & Zhang 2003)",
        )
        .at(vec![[from, to]])
    });
    Some((oscillation, finding))
}

/// The series less its straight line.
fn detrended(series: &[f64]) -> Vec<f64> {
    let count = series.len() as f64;
    let mean = series.iter().sum::<f64>() / count;
    let middle = 0.5 * (count - 1.0);
    let (cross, power) = series.iter().enumerate().fold((0.0, 0.0), |(cross, power), (k, value)| {
        let from = k as f64 - middle;
        (cross + from * (value - mean), power + from * from)
    });
    series.iter().enumerate().map(|(k, value)| value - mean - cross / power * (k as f64 - middle)).collect()
}

fn oscillation(series: &[f64], interval: f64, noise: f64) -> Option<Oscillation> {
    let lags = (series.len() / 2).min(MOST_LAGS);
    let power: f64 = series.iter().map(|value| value * value).sum();
    if power <= 0.0 {
        return None;
    }
    let covariance: Vec<f64> =
        (0..lags).map(|lag| series[lag..].iter().zip(series).map(|(a, b)| a * b).sum::<f64>() / power).collect();
    // Crossings by linear interpolation.
    let crossings: Vec<f64> = (1..lags)
        .filter(|k| covariance[k - 1] * covariance[*k] < 0.0)
        .map(|k| k as f64 - covariance[k] / (covariance[k] - covariance[k - 1]))
        .take(21)
        .collect();
    if crossings.len() < CROSSINGS {
        return None;
    }
    let halves: Vec<f64> = crossings.windows(2).map(|pair| pair[1] - pair[0]).collect();
    let mean = halves.iter().sum::<f64>() / halves.len() as f64;
    let spread = (halves.iter().map(|half| (half - mean).powi(2)).sum::<f64>() / (halves.len() - 1) as f64).sqrt();
    let regularity = mean / (3.0 * spread.max(1e-6 * mean));
    // At the lag of one period the covariance is that of the periodic part alone.
    let at_period = covariance.get((2.0 * mean).round() as usize).copied().unwrap_or(0.0).max(0.0);
    let amplitude = (2.0 * at_period * power / series.len() as f64).sqrt();
    let found = regularity > 1.0 && mean > 2.0 && at_period > 0.2 && amplitude > noise;
    Some(Oscillation { period: 2.0 * mean * interval, amplitude, regularity, found })
}
