//! How good any controller could be: minimum variance from a record in operation, by the dead time alone.

use crate::numerics::{NORMAL_95, covariances, dot};
use crate::verdict::readable_duration;
use crate::{Error, Result, check};
use nalgebra::{DMatrix, SymmetricEigen};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Samples that are needed at least.
const LEAST_SAMPLES: usize = 200;
/// Samples that are looked at, at most: the last ones.
const MOST_SAMPLES: usize = 20_000;
/// Samples that a dead time must last, with the one that the hold adds: what is sampled more seldom does not tell what a controller
/// that acts between the samples could do.
const LEAST_AHEAD: usize = 3;
/// Dead times that a record must hold at least.
const LEAST_DEAD_TIMES: usize = 20;
/// How many past values of PV and OP the forecast can be made of.
const LAGS: [usize; 12] = [1, 2, 3, 4, 5, 6, 8, 10, 12, 16, 20, 24];
/// Past values are taken so many to a dead time.
const LAGS_A_DEAD_TIME: usize = 6;
/// Directions of past values that are weaker than this, relatively, tell nothing.
const WEAKEST: f64 = 1e-10;
/// An index is never said to be nearer to 1 than this, but for 1 itself.
const NEAREST: f64 = 0.999;

/// The variance of a PV about its set point in operation, and the least that feedback could leave.
///
/// With a dead time of `b` scans no controller acts on what came in within the last `b`: that part of the variance is out of reach of
/// feedback, and its share is the index (Harris, Canadian J. Chemical Engineering 67, 1989). It is what is left of a forecast over
/// `b` scans from past PV and OP (the forecast from the PV alone: Desborough & Harris, same journal 70, 1992; with the OP beside it a
/// few past values tell what the integral of the controller holds, so that no long autoregression is needed).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LeastVariance {
    /// Share of the variance that no feedback could remove: 1 is as good as it gets.
    pub index: f64,
    /// Its 95 % interval.
    pub interval: [f64; 2],
    /// Standard deviation of the PV about its set point, PV unit.
    pub deviation: f64,
    /// The least standard deviation that feedback could leave, PV unit.
    pub least_deviation: f64,
    /// Samples that it was made from.
    pub samples: usize,
    /// Dead time in samples, with the one that the hold adds.
    pub dead_samples: usize,
}

impl LeastVariance {
    /// Of the error, PV less set point, and the OP of a loop in automatic, sampled evenly every `interval` seconds. Errors where the
    /// record is too short for that dead time, or nothing moves.
    pub fn of(error: &[f64], op: &[f64], interval: f64, dead_time: f64) -> Result<Self> {
        check::not_negative("dead_time", dead_time, "s")?;
        let count = error.len().min(op.len());
        let begin = count.saturating_sub(MOST_SAMPLES);
        let (error, op) = (&error[begin..count], &op[begin..count]);
        let count = count - begin;
        let ahead = ahead(interval, dead_time)?;
        if count < LEAST_SAMPLES || count < LEAST_DEAD_TIMES * ahead {
            let needed = LEAST_SAMPLES.max(LEAST_DEAD_TIMES * ahead);
            let what = format!("{count} samples without a set point move, a dead time of {ahead} of them");
            return Err(Error::unfit(what, format!("take a longer stretch in operation: {needed} samples")));
        }
        if [error, op].iter().any(|series| series.windows(2).all(|pair| pair[0] == pair[1])) {
            return Err(Error::unfit("PV or OP stands still", "take a stretch in which the loop works"));
        }
        let mean = op.iter().sum::<f64>() / count as f64;
        let op: Vec<f64> = op.iter().map(|value| value - mean).collect();
        Ok(Forecast::new(error, &op, ahead).judged())
    }
}

/// Samples over which no feedback acts: what is set at one sample is seen at the next at the earliest. An error where the samples are
/// too far apart for the dead time.
pub(super) fn ahead(interval: f64, dead_time: f64) -> Result<usize> {
    let ahead = (dead_time / interval + 1e-6).floor() as usize + 1;
    if ahead >= LEAST_AHEAD {
        return Ok(ahead);
    }
    let most = readable_duration(dead_time / (LEAST_AHEAD - 1) as f64);
    let (every, dead_time) = (readable_duration(interval), readable_duration(dead_time));
    Err(Error::unfit(
        format!("a sample every {every} is too seldom for a dead time of {dead_time}"),
        format!("take a record with a sample every {most} or more often"),
    ))
}

/// A forecast of the error over a dead time, by least squares.
struct Forecast<'a> {
    error: &'a [f64],
    op: &'a [f64],
    /// Samples ahead.
    ahead: usize,
    /// Samples between the past values that it is made of.
    spacing: usize,
    /// The first sample that is forecast.
    first: usize,
    /// Most past values of each signal.
    most: usize,
}

/// The directions of past values that a forecast uses, orthonormal, and what it leaves.
struct Fitted {
    directions: Vec<Vec<f64>>,
    left: Vec<f64>,
}

impl<'a> Forecast<'a> {
    fn new(error: &'a [f64], op: &'a [f64], ahead: usize) -> Self {
        let spacing = (ahead / LAGS_A_DEAD_TIME).max(1);
        // At most a fifth of the samples go into the beginning, and forty are there for each past value.
        let room = error.len() / 5;
        let most = LAGS.into_iter().rev().find(|lags| ahead + lags * spacing <= room && 40 * lags <= error.len());
        let most = most.unwrap_or(LAGS[0]);
        Self { error, op, ahead, spacing, first: ahead + most * spacing, most }
    }

    fn target(&self) -> &[f64] {
        &self.error[self.first..]
    }

    /// A past value of each forecast: of the PV, then of the OP, by turns.
    fn past(&self, column: usize) -> &[f64] {
        let back = self.ahead + column / 2 * self.spacing;
        let series = if column.is_multiple_of(2) { self.error } else { self.op };
        &series[self.first - back..series.len() - back]
    }

    /// What `2 lags` past values tell, from the products of all of them: the coefficients of orthonormal directions, and of what each
    /// takes of the target.
    fn solve(products: &DMatrix<f64>, with_target: &[f64], lags: usize) -> (DMatrix<f64>, Vec<f64>) {
        let size = 2 * lags;
        let scale: Vec<f64> = (0..size).map(|k| products[(k, k)].sqrt().max(f64::MIN_POSITIVE).recip()).collect();
        let scaled = DMatrix::from_fn(size, size, |i, j| products[(i, j)] * scale[i] * scale[j]);
        let Some(eigen) = SymmetricEigen::try_new(scaled, 1e-14, crate::numerics::MOST_SWEEPS) else {
            return (DMatrix::zeros(size, 0), Vec::new());
        };
        let largest = eigen.eigenvalues.max();
        let kept: Vec<usize> = (0..size).filter(|k| eigen.eigenvalues[*k] > WEAKEST * largest).collect();
        let directions = DMatrix::from_fn(size, kept.len(), |i, j| {
            scale[i] * eigen.eigenvectors[(i, kept[j])] / eigen.eigenvalues[kept[j]].sqrt()
        });
        let takes = (0..kept.len()).map(|j| (0..size).map(|i| directions[(i, j)] * with_target[i]).sum()).collect();
        (directions, takes)
    }

    /// The forecast of so many past values as Akaike's criterion takes; none where nothing can be foreseen.
    fn fitted(&self) -> Fitted {
        let (target, size) = (self.target(), 2 * self.most);
        let products = DMatrix::from_fn(size, size, |i, j| if j < i { 0.0 } else { dot(self.past(i), self.past(j)) });
        let products = DMatrix::from_fn(size, size, |i, j| products[(i.min(j), i.max(j))]);
        let with_target: Vec<f64> = (0..size).map(|k| dot(self.past(k), target)).collect();
        let (count, power) = (target.len() as f64, dot(target, target));
        let mut best = (count * power.ln(), DMatrix::zeros(0, 0), Vec::new());
        for lags in LAGS.into_iter().take_while(|lags| *lags <= self.most) {
            let (directions, takes) = Self::solve(&products, &with_target, lags);
            let left = (power - dot(&takes, &takes)).max(1e-12 * power);
            let criterion = count * left.ln() + 2.0 * takes.len() as f64;
            if criterion < best.0 {
                best = (criterion, directions, takes);
            }
        }
        let (_, coefficients, takes) = best;
        let directions: Vec<Vec<f64>> = (0..takes.len())
            .map(|j| {
                let mut direction = vec![0.0; target.len()];
                for i in 0..coefficients.nrows() {
                    let weight = coefficients[(i, j)];
                    direction.iter_mut().zip(self.past(i)).for_each(|(sum, value)| *sum += weight * value);
                }
                direction
            })
            .collect();
        let mut left = target.to_vec();
        for (direction, take) in directions.iter().zip(&takes) {
            left.iter_mut().zip(direction).for_each(|(left, value)| *left -= take * value);
        }
        Fitted { directions, left }
    }

    fn judged(&self) -> LeastVariance {
        let target = self.target();
        let count = target.len();
        let Fitted { directions, left } = self.fitted();
        let (power, remains) = (dot(target, target), dot(&left, &left));
        // What is left looks smaller than it is by what the fit took of it. It is correlated over the dead time, so that this is not
        // its variance times the number of coefficients: tr(Qᵀ Σ Q), Σ from its covariances within the dead time.
        let own = covariances(&left, &left, self.ahead - 1);
        let taken: f64 = directions
            .iter()
            .map(|direction| {
                let products = covariances(direction, direction, self.ahead - 1);
                dot(&products, &own) * count as f64
            })
            .sum();
        let index = ((remains + taken) / power).min(1.0);
        // Whether anything could be foreseen at all: against what the best of so many fits to nothing would take, in its own spread.
        let by_chance = taken * (1.0 + 3.0 * (2.0 / directions.len().max(1) as f64).sqrt());
        let foreseen = power - remains > by_chance;
        let spread = spread(target, &left);
        let least = index.min(NEAREST);
        let logit = (least / (1.0 - least)).ln();
        let within = NORMAL_95 * spread / (1.0 - least);
        let at = |logit: f64| 1.0 / (1.0 + (-logit).exp());
        let interval = [at(logit - within), if foreseen { at(logit + within) } else { 1.0 }];
        let deviation = (dot(self.error, self.error) / self.error.len() as f64).sqrt();
        LeastVariance {
            index: if foreseen { index } else { 1.0 },
            interval: if directions.is_empty() { [chance_of_nothing(count, self.ahead), 1.0] } else { interval },
            deviation,
            least_deviation: deviation * if foreseen { index.sqrt() } else { 1.0 },
            samples: self.error.len(),
            dead_samples: self.ahead,
        }
    }
}

/// Where nothing can be foreseen: how much less than 1 the index may still be, so many samples not showing it.
fn chance_of_nothing(count: usize, ahead: usize) -> f64 {
    // A forecast by one direction takes this much by chance once in twenty times, its errors correlated over the dead time (the 95 %
    // point of χ² with one degree of freedom; that they count as so many fewer samples is this project's choice).
    (1.0 - 3.841 * ahead as f64 / count as f64).max(0.0)
}

/// Standard error of the logarithm of the ratio of two variances, that of `left` to that of `target`, whose samples are correlated with
/// themselves and each other: for Gaussian series the covariance of two sample variances is `2/N Σ γ²(k)` (Bartlett, 1946), by which
/// `2/N Σ (ρ²_left + ρ²_target − 2 ρ²_both)`.
fn spread(target: &[f64], left: &[f64]) -> f64 {
    let count = target.len();
    let most = (count / 4).min(600);
    let pairs = [covariances(left, left, most), covariances(target, target, most), covariances(left, target, most)];
    let power = [pairs[0][most], pairs[1][most]];
    let sum: f64 = (0..=2 * most)
        .map(|k| {
            let share = 1.0 - (k as f64 - most as f64).abs() / count as f64;
            let squared = |of: usize, scale: f64| pairs[of][k] * pairs[of][k] / scale.max(f64::MIN_POSITIVE);
            let own = squared(0, power[0] * power[0]) + squared(1, power[1] * power[1]);
            share * (own - 2.0 * squared(2, power[0] * power[1]))
        })
        .sum();
    (2.0 / count as f64 * sum).max(0.0).sqrt()
}
