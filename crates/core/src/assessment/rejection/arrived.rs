//! What came in, as a record shows it, over frequency; and what a loop leaves of it.

use super::super::{FrequencyCurves, SampledLoop};
use super::least_variance::ahead;
use crate::numerics::{burg, by_akaike};
use crate::simulation::Trial;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use std::f64::consts::{PI, TAU};
use utoipa::ToSchema;

/// Samples that a spectrum needs at least.
const LEAST_SAMPLES: usize = 100;
/// Longest memory of the autoregression, in samples.
const MOST_ORDER: usize = 60;
/// Frequencies of a spectrum.
const POINTS: usize = 400;
/// Within this factor of 1 a loop does nothing.
const NOTHING: f64 = 1.1;

/// A disturbance at the PV over frequency.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Arrived {
    /// Its standard deviation, PV unit.
    pub deviation: f64,
    /// Angular frequencies in rad/s, evenly over their logarithm, up to half the sampling rate.
    pub omega: Vec<f64>,
    /// Its variance per decade of frequency there, PV unit squared: what lies under the curve over the logarithm of frequency is the
    /// variance.
    pub variance_per_decade: Vec<f64>,
    /// The least standard deviation that feedback could leave of it with the dead time of the process, PV unit; null where the samples
    /// are too far apart to tell.
    pub least_deviation: Option<f64>,
    /// Samples that it was taken from.
    pub samples: usize,
    /// Memory of the autoregression that its spectrum is of, samples.
    pub order: usize,
    #[serde(skip)]
    density: Vec<f64>,
}

/// What a loop does to a disturbance at its PV.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Rejected {
    /// The candidate.
    pub name: String,
    /// |S| at the frequencies of the disturbance: below 1 the loop helps, above it makes worse. Empty where there is none.
    pub sensitivity: Vec<f64>,
    /// Standard deviation that it leaves, PV unit; null where it is none that can be told.
    pub deviation: Option<f64>,
    /// It helps against all that is slower than this period, s; null where it helps against nothing.
    pub helps_slower_than: Option<f64>,
    /// Where it makes worse: from the longest to the shortest such period, s; null where it does so nowhere.
    pub worse: Option<[f64; 2]>,
    /// The largest |S|, and its period in s.
    pub largest: Option<[f64; 2]>,
    /// Share of the variance of the disturbance where it helps.
    pub helped: f64,
    /// Share where it makes worse; what is left to 1 it leaves as it is, within 10 %.
    pub made_worse: f64,
    /// Why nothing is told; empty where something is.
    pub refusal: String,
}

impl Arrived {
    /// Of a disturbance at the PV, sampled every `interval` seconds, behind a process of this dead time in s.
    ///
    /// The spectrum is that of an autoregression (Burg, 1967), its order by Akaike's criterion; the least deviation is of what that
    /// autoregression cannot foresee over the dead time (Åström, Introduction to Stochastic Control Theory, 1970, ch. 6).
    pub fn of(disturbance: &[f64], interval: f64, dead_time: f64) -> Result<Self> {
        let samples = disturbance.len();
        if samples < LEAST_SAMPLES {
            return Err(Error::unfit(format!("{samples} samples"), format!("take at least {LEAST_SAMPLES}")));
        }
        let mean = disturbance.iter().sum::<f64>() / samples as f64;
        let centred: Vec<f64> = disturbance.iter().map(|value| value - mean).collect();
        let orders = burg(&[&centred], MOST_ORDER.min(samples / 10));
        let (coefficients, innovation) = by_akaike(orders, samples).unwrap_or_default();
        if innovation <= 0.0 {
            return Err(Error::unfit(
                "nothing came in: the PV stands still",
                "take a stretch in which something moves",
            ));
        }
        // From slower than the stretch is long, where all that is known is that it was slow, to half the sampling rate.
        let (lowest, highest) = (0.2 * TAU / (samples as f64 * interval), PI / interval);
        let step = (highest / lowest).ln() / (POINTS - 1) as f64;
        let omega: Vec<f64> = (0..POINTS).map(|k| (lowest * (step * k as f64).exp()).min(highest)).collect();
        let density: Vec<f64> = omega
            .iter()
            .map(|omega| {
                let (mut re, mut im) = (1.0, 0.0);
                for (k, a) in coefficients.iter().enumerate() {
                    let angle = omega * interval * (k + 1) as f64;
                    re += a * angle.cos();
                    im -= a * angle.sin();
                }
                innovation * interval / PI / (re * re + im * im)
            })
            .collect();
        let least = ahead(interval, dead_time).ok().map(|ahead| {
            let mut response = vec![1.0];
            for k in 1..ahead.min(samples) {
                let sum: f64 = coefficients.iter().take(k).enumerate().map(|(j, a)| a * response[k - 1 - j]).sum();
                response.push(-sum);
            }
            (innovation * response.iter().map(|value| value * value).sum::<f64>()).sqrt()
        });
        let mut arrived = Self {
            deviation: 0.0,
            variance_per_decade: omega
                .iter()
                .zip(&density)
                .map(|(omega, density)| omega * density * 10f64.ln())
                .collect(),
            omega,
            least_deviation: None,
            samples,
            order: coefficients.len(),
            density,
        };
        arrived.deviation = arrived.integrated(|_| 1.0).sqrt();
        arrived.least_deviation = least.map(|least| least.min(arrived.deviation));
        Ok(arrived)
    }

    /// The variance with each frequency counted by a weight; what is slower than the lowest one counts as that.
    fn integrated(&self, weight: impl Fn(usize) -> f64) -> f64 {
        let value = |k: usize| self.density[k] * weight(k);
        let inner: f64 =
            (1..self.omega.len()).map(|k| 0.5 * (value(k - 1) + value(k)) * (self.omega[k] - self.omega[k - 1])).sum();
        inner + value(0) * self.omega[0]
    }

    /// What a candidate leaves of it. Beyond half its own scanning rate a controller does nothing.
    #[must_use]
    pub fn through(&self, name: &str, trial: &Trial) -> Rejected {
        let found = curves(trial).map_err(|error| error.to_string()).and_then(|found| match found {
            Some(curves) => Ok(curves),
            None => Err(format!(
                "A {} has no linear law to be looked at over frequency.",
                trial.candidate.controller.title()
            )),
        });
        match found {
            Ok(curves) => self.rejected(name, &curves),
            Err(refusal) => Rejected { name: name.to_owned(), refusal, ..Rejected::default() },
        }
    }

    fn rejected(&self, name: &str, curves: &FrequencyCurves) -> Rejected {
        let sensitivity: Vec<f64> =
            self.omega.iter().map(|omega| interpolated(&curves.omega, &curves.sensitivity, *omega)).collect();
        let variance = self.deviation * self.deviation;
        let share = |holds: &dyn Fn(f64) -> bool| {
            (self.integrated(|k| if holds(sensitivity[k]) { 1.0 } else { 0.0 }) / variance).clamp(0.0, 1.0)
        };
        let period = |k: usize| TAU / self.omega[k];
        let first_without_help = sensitivity.iter().position(|s| *s >= 1.0 / NOTHING);
        let worst = (0..sensitivity.len()).max_by(|a, b| sensitivity[*a].total_cmp(&sensitivity[*b]));
        let is_worse = |s: &f64| *s > NOTHING;
        Rejected {
            name: name.to_owned(),
            deviation: Some(self.integrated(|k| sensitivity[k] * sensitivity[k]).sqrt()),
            helps_slower_than: match first_without_help {
                Some(0) => None,
                Some(k) => Some(period(k)),
                None => Some(period(sensitivity.len() - 1)),
            },
            worse: sensitivity
                .iter()
                .position(is_worse)
                .zip(sensitivity.iter().rposition(is_worse))
                .map(|(from, to)| [period(from), period(to)]),
            largest: worst.map(|k| [sensitivity[k], period(k)]),
            helped: share(&|s| s < 1.0 / NOTHING),
            made_worse: share(&|s| s > NOTHING),
            sensitivity,
            refusal: String::new(),
        }
    }
}

/// The curves of the first loop of a trial; none where its controller is not linear. Errors where its loop is not stable: nothing is
/// rejected then.
fn curves(trial: &Trial) -> Result<Option<FrequencyCurves>> {
    trial.check_stands_alone()?;
    let Some(sampled) = SampledLoop::of(trial)? else {
        return Err(Error::unfit("its plant does not start at rest", "let it begin where it can rest"));
    };
    if super::super::trial_margins(trial)?.is_some_and(|margins| !margins.stable) {
        return Err(Error::unfit("its loop is not stable", "lower the gain"));
    }
    FrequencyCurves::new(&sampled, &trial.candidate.controller)
}

/// A value between points whose places rise, straight over the logarithm of both; below the first one as there in proportion to the
/// frequency where it rises, beyond the last one 1.
fn interpolated(places: &[f64], values: &[f64], at: f64) -> f64 {
    let after = places.partition_point(|place| *place < at);
    if after == places.len() {
        return if places.last().is_some_and(|last| at <= last * (1.0 + 1e-9)) { values[after - 1] } else { 1.0 };
    }
    // Of the next pair, too, the line goes on.
    let k = after.max(1);
    let share = (at / places[k - 1]).ln() / (places[k] / places[k - 1]).ln();
    let (low, high) = (values[k - 1].max(f64::MIN_POSITIVE).ln(), values[k].max(f64::MIN_POSITIVE).ln());
    (low + share * (high - low)).exp()
}
