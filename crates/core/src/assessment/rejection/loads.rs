//! The load that a record shows: what must have entered where the OP acts, for the PV to have gone as the model does not owe to the OP.

use super::swing::{LoadSwing, swing};
use crate::estimation::SteadyKalman;
use crate::identification::{DataSet, Model};
use crate::lti::StateSpace;
use crate::numerics::{deviation_by_median, eigenvalues, peak_in};
use crate::units::Unit;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most samples that are worked on: of more, several are averaged.
const MOST_SAMPLES: usize = 20_000;
/// Samples that it takes at least.
const LEAST_SAMPLES: usize = 60;
/// A change counts from so many of its standard errors on, and from so many % of OP.
const SURE: f64 = 4.0;
pub(super) const WORTH: f64 = 0.5;
/// Changes that are listed, at most.
const MOST_CHANGES: usize = 50;
/// Memories of the filter that a swing takes at least: of quicker ones it passes on a part.
const SLOW: f64 = 6.0;
/// Samples at the start by which nothing is judged.
const WARMING_UP: usize = 20;

/// A change of the load.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadChange {
    /// When it was half done, s of the record.
    pub at: f64,
    /// By how much, % of OP.
    pub by: f64,
    /// Within which time four fifths of it came, as far as the record can tell, s.
    pub over: f64,
}

/// The load over a record.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadsFound {
    /// When the first value was, s of the record.
    pub begins: f64,
    /// Seconds between the values.
    pub interval: f64,
    /// The load where the OP acts, %; from an unknown level.
    pub load: Vec<f64>,
    /// Its standard error away from the ends, %.
    pub error: f64,
    /// A change is spread over about this time by the noise, s: quicker ones cannot be told from slower.
    pub resolution: f64,
    /// How far it walks in an hour beside its changes, % (standard deviation).
    pub walk: f64,
    /// Its changes that stand out of that, the largest first.
    pub changes: Vec<LoadChange>,
    /// How it swings regularly besides, where it does: neither a change nor a walk.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub swing: Option<LoadSwing>,
}

impl LoadsFound {
    /// Of the longest whole stretch of a record, by a model from the OP to the PV.
    ///
    /// The load is a random walk that enters with the OP, the rest of what the model does not explain is white noise of the sensor; how
    /// much the one walks beside the other is the most likely, and a fixed-interval smoother (Rauch, Tung & Striebel, AIAA Journal 3,
    /// 1965) looks at each moment from before and after. Errors where the model has no process to be a load of, and where the record is
    /// too short or uneven.
    pub fn of(data: &DataSet, model: &Model) -> Result<Self> {
        let (left, interval, start) = super::left(data, model)?;
        let process = model.process().map_err(|_| {
            let remedy = "take a model with a gain, time constants and a dead time";
            Error::unfit("this model has no place where a load could enter", remedy)
        })?;
        let dead_time = process.dead_time();
        let percent = Unit::conversion("model", &model.inputs[0].unit, "%")?.map_or(1.0, |(factor, _)| factor);
        let together = left.len().div_ceil(MOST_SAMPLES);
        let averaged: Vec<f64> =
            left.chunks_exact(together).map(|chunk| chunk.iter().sum::<f64>() / together as f64).collect();
        let step = interval * together as f64;
        let mut found = Self::behind(&averaged, step, &process.state_space()?.scaled(percent.recip()))?;
        // What enters is felt a dead time later; an average stands for its middle.
        found.begins = start + 0.5 * (step - interval) - dead_time;
        found.changes.iter_mut().for_each(|change| change.at += found.begins);
        Ok(found)
    }

    /// Of a disturbance at the PV behind a process, times counted from its first sample and without dead time.
    pub(super) fn behind(disturbance: &[f64], interval: f64, process: &StateSpace) -> Result<Self> {
        let samples = disturbance.len();
        if samples < LEAST_SAMPLES {
            return Err(Error::unfit(format!("{samples} samples"), format!("take at least {LEAST_SAMPLES}")));
        }
        let walk = Walk::of(process, interval, samples);
        let cannot = || Error::unfit("a load of this model cannot be told from its PV", "take another model");
        let likeliest =
            |logarithm: f64| walk.filter(logarithm.exp()).map_or(f64::MIN, |own| own.likelihood(disturbance));
        // In two passes: the likelihood may have more than one top.
        let places = (0..=16).map(|k| f64::from(k) / 16.0 * (HIGHEST - LOWEST) + LOWEST);
        let tried = places.map(|place| (place, likeliest(place)));
        let (best, _) = tried.max_by(|a, b| a.1.total_cmp(&b.1)).unwrap_or((LOWEST, 0.0));
        let width = (HIGHEST - LOWEST) / 16.0;
        let (place, _) = peak_in(24, best - width, best + width, likeliest);
        let filter = walk.filter(place.exp()).ok_or_else(cannot)?;
        let (load, error) = filter.smoothed(disturbance).ok_or_else(cannot)?;
        let resolution = filter.memory() * interval;
        // A change is seen whole from three memories before to three after.
        let half = ((3.0 * filter.memory()).round() as usize).clamp(1, samples / 8);
        let (swing, rest) = match swing(&load, interval, SLOW * resolution) {
            Some((swing, values)) => (Some(swing), load.iter().zip(values).map(|(load, value)| load - value).collect()),
            None => (None, load.clone()),
        };
        // What it does most of the time, which a few steps do not change.
        let mut sizes: Vec<f64> = (2 * half..samples).map(|k| (rest[k] - rest[k - 2 * half]).abs()).collect();
        let usual = deviation_by_median(&mut sizes);
        let changes = changes(&rest, interval, half, (SURE * usual.max(2f64.sqrt() * error)).max(WORTH));
        let walk = usual * (3600.0 / (2.0 * half as f64 * interval)).sqrt();
        Ok(Self { begins: 0.0, interval, load, error, resolution: 2.0 * resolution, walk, changes, swing })
    }

    /// Hours that it covers.
    #[must_use]
    pub fn hours(&self) -> f64 {
        self.load.len() as f64 * self.interval / 3600.0
    }

    /// The stretch of so many seconds over which the load varies most: the places of its values.
    #[must_use]
    pub fn liveliest(&self, duration: f64) -> std::ops::Range<usize> {
        let length = ((duration / self.interval).round() as usize).clamp(2, self.load.len());
        let mean = self.load.iter().sum::<f64>() / self.load.len() as f64;
        let mut sums = vec![(0.0, 0.0)];
        for value in &self.load {
            let (sum, square) = sums[sums.len() - 1];
            sums.push((sum + value - mean, square + (value - mean).powi(2)));
        }
        let spread = |from: usize| {
            let ((s0, q0), (s1, q1)) = (sums[from], sums[from + length]);
            (q1 - q0) - (s1 - s0).powi(2) / length as f64
        };
        let from = (0..=self.load.len() - length).max_by(|a, b| spread(*a).total_cmp(&spread(*b))).unwrap_or(0);
        from..from + length
    }
}

/// Logarithms of how far a load walks from sample to sample, in variance beside the sensor's as the PV would show it in the end.
const LOWEST: f64 = -25.0;
const HIGHEST: f64 = 8.0;

/// A load that walks, behind a process: `x⁺ = A x`, the last state being the load.
struct Walk {
    a: DMatrix<f64>,
    c: DMatrix<f64>,
    /// What a step of the load makes of the PV within the record, PV unit per %.
    reach: f64,
}

impl Walk {
    fn of(process: &StateSpace, interval: f64, samples: usize) -> Self {
        let n = process.order();
        let (phi, gamma) = process.discretised(interval);
        let mut a = DMatrix::identity(n + 1, n + 1);
        a.view_mut((0, 0), (n, n)).copy_from(&phi);
        a.view_mut((0, n), (n, 1)).copy_from(&gamma.column(0));
        let mut c = DMatrix::zeros(1, n + 1);
        c.columns_mut(0, n).copy_from(&process.matrices().2.row(0));
        let lag = (3.0 * process.longest_lag() / interval).ceil() as usize;
        let mut x = DVector::zeros(n + 1);
        x[n] = 1.0;
        for _ in 0..lag.clamp(1, samples) {
            x = &a * x;
        }
        let reach = (&c * &x)[0].abs().max(f64::MIN_POSITIVE);
        Self { a, c, reach }
    }

    /// For a walk of this variance beside that of the sensor, seen in the end. None where no filter settles.
    fn filter(&self, beside: f64) -> Option<Filter<'_>> {
        let n = self.a.nrows() - 1;
        let mut unrest = DMatrix::zeros(n + 1, n + 1);
        unrest[(n, n)] = beside / (self.reach * self.reach);
        let steady = SteadyKalman::new(&self.a, &self.c, &unrest, &DMatrix::identity(1, 1))?;
        let variance = (&self.c * &steady.expected * self.c.transpose())[0] + 1.0;
        Some(Filter { walk: self, steady, variance })
    }
}

/// The filter for one walk.
struct Filter<'a> {
    walk: &'a Walk,
    steady: SteadyKalman,
    /// Of what is new at a sample, beside that of the sensor.
    variance: f64,
}

impl Filter<'_> {
    /// Where it begins: all at rest with the load that the first value asks for, where the process comes to rest at all.
    fn begins(&self, first: f64) -> DVector<f64> {
        let n = self.walk.a.nrows() - 1;
        let mut x = DVector::zeros(n + 1);
        let at_rest = (DMatrix::identity(n, n) - self.walk.a.view((0, 0), (n, n))).lu();
        let states = at_rest.solve(&self.walk.a.view((0, n), (n, 1)).column(0).into_owned());
        let shown = states.as_ref().map_or(0.0, |states| (self.walk.c.columns(0, n) * states)[0]);
        match states {
            Some(states) if shown.is_finite() && shown.abs() > 1e-9 && shown.abs() < 1e9 => {
                x.rows_mut(0, n).copy_from(&(&states * (first / shown)));
                x[n] = first / shown;
            }
            _ => {
                let c = self.walk.c.columns(0, n).transpose();
                x.rows_mut(0, n).copy_from(&(&c * (first / c.norm_squared())));
            }
        }
        x
    }

    /// Calls with the estimate at each sample, what was new in it, and what is expected of the next.
    fn run(&self, values: &[f64], mut at: impl FnMut(&DVector<f64>, f64, &DVector<f64>)) {
        let mut x = self.begins(values[0]);
        let mut next = x.clone();
        for value in values {
            let new = value - (&self.walk.c * &x)[0];
            x.axpy(new, &self.steady.gain.column(0), 1.0);
            next.gemv(1.0, &self.walk.a, &x, 0.0);
            at(&x, new, &next);
            std::mem::swap(&mut x, &mut next);
        }
    }

    /// Mean square of what is new at the samples, beside what it should be: the variance of the sensor.
    fn noise(&self, values: &[f64]) -> f64 {
        let (mut sum, mut k) = (0.0, 0);
        self.run(values, |_, new, _| {
            sum += if k >= WARMING_UP { new * new } else { 0.0 };
            k += 1;
        });
        sum / (values.len() - WARMING_UP) as f64 / self.variance
    }

    /// The logarithm of the likelihood, but for what is the same for all, with the likeliest variance of the sensor.
    fn likelihood(&self, values: &[f64]) -> f64 {
        let count = (values.len() - WARMING_UP) as f64;
        -0.5 * count * (self.noise(values).max(f64::MIN_POSITIVE).ln() + self.variance.ln())
    }

    /// Samples in which what it believes of the load follows a change.
    fn memory(&self) -> f64 {
        let n = self.walk.a.nrows();
        let left = &self.walk.a * (DMatrix::identity(n, n) - &self.steady.gain * &self.walk.c);
        let slowest = eigenvalues(left).iter().map(|root| root.norm()).fold(0.0, f64::max);
        -slowest.clamp(1e-6, 1.0 - 1e-9).ln().recip()
    }

    /// The load at each sample by all samples, and its standard error away from the ends. None where the covariance is not positive.
    fn smoothed(&self, values: &[f64]) -> Option<(Vec<f64>, f64)> {
        let n = self.walk.a.nrows();
        let mut estimates: Vec<(DVector<f64>, DVector<f64>)> = Vec::with_capacity(values.len());
        self.run(values, |x, _, next| estimates.push((x.clone(), next.clone())));
        let gain = &self.steady.gain;
        let expected = &self.steady.expected;
        let corrected = expected - gain * gain.transpose() * self.variance;
        let back = expected.clone().cholesky()?.solve(&(&self.walk.a * &corrected)).transpose();
        let mut load = vec![0.0; values.len()];
        let mut later = estimates.last()?.0.clone();
        load[values.len() - 1] = later[n - 1];
        for k in (0..values.len() - 1).rev() {
            let (x, next) = &estimates[k];
            later = x + &back * (&later - next);
            load[k] = later[n - 1];
        }
        // Its covariance far from both ends.
        let mut covariance = corrected.clone();
        for _ in 0..(20.0 * self.memory()).clamp(10.0, 5000.0) as usize {
            covariance = &corrected + &back * (&covariance - expected) * back.transpose();
        }
        let error = (covariance[(n - 1, n - 1)].max(0.0) * self.noise(values)).sqrt();
        Some((load, error))
    }
}

/// Where a signal changes by at least `least` within `half` samples either way, the largest first.
fn changes(load: &[f64], interval: f64, half: usize, least: f64) -> Vec<LoadChange> {
    let by = |k: usize| load[k + half] - load[k - half];
    let mut places: Vec<usize> = (half..load.len().saturating_sub(half)).filter(|k| by(*k).abs() >= least).collect();
    places.sort_by(|a, b| by(*b).abs().total_cmp(&by(*a).abs()));
    let mut taken: Vec<usize> = Vec::new();
    for k in places {
        if taken.len() < MOST_CHANGES && taken.iter().all(|other| other.abs_diff(k) > 2 * half) {
            taken.push(k);
        }
    }
    let change = |k: usize| {
        let (from, whole) = (load[k - half], by(k));
        let passes = |share: f64| {
            let beyond = |j: &usize| (load[*j] - from) / whole >= share;
            (k - half..=k + half).find(beyond).unwrap_or(k)
        };
        let (begun, middle, done) = (passes(0.1), passes(0.5), passes(0.9));
        LoadChange { at: middle as f64 * interval, by: whole, over: (done - begun) as f64 * interval }
    };
    taken.into_iter().map(change).collect()
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;
    use crate::instrument::Noise;
    use crate::process::LinearSpec;

    fn process() -> StateSpace {
        let spec = LinearSpec::TwoLags {
            gain: 1.5,
            time_constant_1: 20.0,
            time_constant_2: 6.0,
            lead_time_constant: 0.0,
            dead_time: 4.0,
        };
        spec.state_space().unwrap()
    }

    /// The PV that a load makes behind the process, from rest, with noise.
    fn shown(load: &[f64], noise: f64, seed: u64) -> Vec<f64> {
        let walk = Walk::of(&process(), 2.0, load.len());
        let n = walk.a.nrows() - 1;
        let mut random = Noise::new("sensor", seed);
        let mut x = DVector::zeros(n + 1);
        let mut values = Vec::new();
        for load in load {
            x[n] = *load;
            values.push((&walk.c * &x)[0] + noise * random.normal());
            x = &walk.a * &x;
        }
        values
    }

    /// What a normal distribution says of the load given all samples, by one matrix: no filter, no recursion (exact mathematics). Far
    /// from the ends, where nothing is owed to how it began, smoother and matrix agree.
    #[test]
    fn the_smoother_is_the_conditional_mean() {
        let (samples, beside) = (160, 0.02);
        let walk = Walk::of(&process(), 2.0, samples);
        let filter = walk.filter(beside).unwrap();
        let step = beside / (walk.reach * walk.reach);
        // From the moves of the load to the samples; the first move is of any size.
        let n = walk.a.nrows() - 1;
        let mut effect = DMatrix::zeros(samples, samples);
        for at in 0..samples {
            let mut x = DVector::zeros(n + 1);
            x[n] = 1.0;
            for k in at..samples {
                effect[(k, at)] = (&walk.c * &x)[0];
                x = &walk.a * &x;
            }
        }
        let mut moves = DMatrix::identity(samples, samples) * step;
        moves[(0, 0)] = 1e4;
        let summed = DMatrix::from_fn(samples, samples, |i, j| if j <= i { 1.0 } else { 0.0 });
        let of_samples = &effect * &moves * effect.transpose() + DMatrix::identity(samples, samples);
        let gain = &summed * &moves * effect.transpose() * of_samples.clone().try_inverse().unwrap();
        let load: Vec<f64> = (0..samples).map(|k| if k < 70 { 0.0 } else { 5.0 }).collect();
        let values = shown(&load, 1.0, 3);
        let exact = &gain * DVector::from_column_slice(&values);
        let (own, error) = filter.smoothed(&values).unwrap();
        let left = &summed * &moves * summed.transpose() - &gain * &effect * &moves * summed.transpose();
        for k in 70..110 {
            assert!((own[k] - exact[k]).abs() < 1e-3, "{k}: {} {}", own[k], exact[k]);
        }
        let deviation = (left[(80, 80)] * filter.noise(&values)).sqrt();
        assert!((error / deviation - 1.0).abs() < 0.01, "{error} {deviation}");
    }

    /// The share of true loads within two standard errors, over many random walks: about 95 %.
    #[test]
    fn standard_errors_of_a_walking_load_are_what_they_claim() {
        let (mut inside, mut all, mut single) = (0, 0, 0);
        for seed in 0..30 {
            let mut random = Noise::new("load", 100 + seed);
            let mut value = 0.0;
            let load: Vec<f64> = (0..600)
                .map(|_| {
                    value += 0.3 * random.normal();
                    value
                })
                .collect();
            let found = LoadsFound::behind(&shown(&load, 0.5, seed), 2.0, &process()).unwrap();
            single += found.changes.len();
            // 0.3 % at each of 1800 samples of an hour.
            assert!((found.walk / (0.3 * 1800f64.sqrt()) - 1.0).abs() < 0.5, "{}", found.walk);
            for (own, truth) in found.load.iter().zip(&load).skip(100).take(400) {
                inside += usize::from((own - truth).abs() < 1.96 * found.error);
                all += 1;
            }
        }
        // None of what a walk does stands out of it, or hardly ever.
        assert!(single <= 6, "{single}");
        let share = f64::from(inside as u32) / f64::from(all as u32);
        assert!((0.91..0.98).contains(&share), "{share}");
    }

    #[test]
    fn steps_are_found_where_they_were_and_quiet_has_none() {
        let load: Vec<f64> = (0..3000)
            .map(|k| {
                if k < 700 {
                    0.0
                } else if k < 1600 {
                    6.0
                } else if k < 2300 {
                    -3.0
                } else {
                    -2.8
                }
            })
            .collect();
        let found = LoadsFound::behind(&shown(&load, 0.3, 5), 2.0, &process()).unwrap();
        assert_eq!(found.changes.len(), 2, "{:?}", found.changes);
        for (change, (at, by)) in found.changes.iter().zip([(3200.0, -9.0), (1400.0, 6.0)]) {
            assert!((change.at - at).abs() < 20.0 && (change.by - by).abs() < 0.8, "{change:?}");
            assert!(change.over <= found.resolution + 20.0, "{change:?} {}", found.resolution);
        }
        let range = found.liveliest(1000.0);
        assert!(range.contains(&1600) && range.len() == 500, "{range:?}");
        for seed in 0..5 {
            let quiet = LoadsFound::behind(&shown(&[0.0; 1500], 0.3, seed), 2.0, &process()).unwrap();
            assert!(quiet.walk < 0.5, "{}", quiet.walk);
            assert!(quiet.changes.is_empty() && quiet.load.iter().all(|load| load.abs() < 0.5), "{:?}", quiet.changes);
        }
        assert!(LoadsFound::behind(&[0.0; 59], 2.0, &process()).is_err());
        // A level that shows only as a slope has its load, too.
        let level = LinearSpec::Integrating { gain: 0.02, dead_time: 5.0 }.state_space().unwrap();
        let mut pv = 3.0;
        let values: Vec<f64> = (0..1000)
            .map(|k| {
                pv += 0.02 * 2.0 * if k < 400 { 0.0 } else { 4.0 };
                pv + 0.05 * f64::from(k % 7 - 3)
            })
            .collect();
        let found = LoadsFound::behind(&values, 2.0, &level).unwrap();
        assert!((found.load[700] - found.load[200] - 4.0).abs() < 0.2, "{} {}", found.load[200], found.load[700]);
    }
}
