//! The estimate of maximum likelihood, from that of the subspaces on.
//!
//! With `x⁺ = A x + B u + K e`, `y = C x + e` and normal innovations the likelihood is largest where the determinant of
//! the covariance of the one-step errors is least (Ljung, System Identification, 2nd ed. 1999, section 7.4). Gauss–Newton steps
//! go there. The states can be chosen in many ways, so that some directions of the entries change nothing: the
//! pseudo-inverse leaves them alone (McKelvey, Helmersson & Ribarits, Automatica 40, 2004; from memory).

use super::{Signals, System, radius};
use crate::numerics::MOST_SWEEPS;
use nalgebra::{DMatrix, DVector, SymmetricEigen};

/// More entries than this are left as the subspaces have them.
pub(super) const MOST_ENTRIES: usize = 300;
const MOST_STEPS: usize = 12;
/// From an estimate that is consistent one step is as good as all of them when the data are many: where steps cost much
/// (samples times the square of the entries), two are taken, or one.
const COSTLY: usize = 20_000_000;
const VERY_COSTLY: usize = 100_000_000;
/// A step that raises the logarithm of the likelihood by less is the last.
const LEAST_GAIN: f64 = 1e-4;
/// Directions with less than this share of the largest information are those that change nothing.
const NOTHING: f64 = 1e-9;
/// Rows that are multiplied together.
const BATCH: usize = 256;

/// How a stretch begins: the state, and by how much the outputs at rest differ from their means.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Start {
    pub(super) state: DVector<f64>,
    pub(super) levels: Vec<f64>,
}

impl System {
    /// Number of entries of `A`, `B`, `C` and `K`.
    fn entries(&self) -> usize {
        self.a.len() + self.b.len() + self.c.len() + self.k.len()
    }

    /// Moves `A`, `B`, `C`, `K`, each row by row.
    fn moved(&self, by: &[f64]) -> Self {
        let mut moved = self.clone();
        let mut rest = by;
        for matrix in [&mut moved.a, &mut moved.b, &mut moved.c, &mut moved.k] {
            let (own, after) = rest.split_at(matrix.len());
            *matrix += DMatrix::from_row_slice(matrix.nrows(), matrix.ncols(), own);
            rest = after;
        }
        moved
    }

    /// Calls `visit` at each sample without a gap with the one-step errors and, where they are asked for, their derivatives by
    /// the entries, the state at the start and the levels, a row an output.
    ///
    /// A derivative is what a signal that enters at one state leaves in the outputs under `A − K C`: of each signal (states,
    /// inputs, errors, a constant) all of these are carried along. Where an output is missing `K C` rests for it.
    fn walk(
        &self,
        signals: &Signals,
        start: &Start,
        derive: bool,
        mut visit: impl FnMut(&DVector<f64>, &DMatrix<f64>),
    ) {
        let (n, m, l) = (self.a.nrows(), self.b.ncols(), self.c.nrows());
        let (of_b, of_c, of_k) = (n * n, n * (n + m), n * (n + m + l));
        let of_start = self.entries();
        let driving = n + m + l + 1;
        let mut rows = DMatrix::<f64>::zeros(l, if derive { of_start + n + l } else { 0 });
        // For each driving signal, and last for the state at the start, what it has left in the states.
        let mut left = DMatrix::<f64>::zeros(n, if derive { n * (driving + 1) } else { 0 });
        if derive {
            left.columns_mut(n * driving, n).fill_with_identity();
        }
        let mut next_left = left.clone();
        let mut in_outputs = DMatrix::<f64>::zeros(l, left.ncols());
        let (mut state, mut next) = (start.state.clone(), DVector::zeros(n));
        let mut errors = DVector::zeros(l);
        for t in 0..signals.outputs.nrows() {
            let mut whole = true;
            for j in 0..l {
                let shown: f64 = (0..n).map(|i| self.c[(j, i)] * state[i]).sum();
                errors[j] = signals.outputs[(t, j)] - start.levels[j] - shown;
                whole &= errors[j].is_finite();
            }
            if derive {
                product(&self.c, &left, &mut in_outputs);
            }
            if whole {
                if derive {
                    for j in 0..l {
                        for i in 0..n {
                            for k in 0..n {
                                rows[(j, i * n + k)] = -in_outputs[(j, k * n + i)];
                            }
                            for k in 0..m {
                                rows[(j, of_b + i * m + k)] = -in_outputs[(j, (n + k) * n + i)];
                            }
                            for k in 0..l {
                                rows[(j, of_k + i * l + k)] = -in_outputs[(j, (n + m + k) * n + i)];
                            }
                            rows[(j, of_start + i)] = -in_outputs[(j, driving * n + i)];
                        }
                        for q in 0..l {
                            let through = |signal: usize| -> f64 {
                                (0..n).map(|i| in_outputs[(j, signal * n + i)] * self.k[(i, q)]).sum()
                            };
                            let own = if j == q { 1.0 } else { 0.0 };
                            for k in 0..n {
                                rows[(j, of_c + q * n + k)] = through(k) - own * state[k];
                            }
                            rows[(j, of_start + n + q)] = through(driving - 1) - own;
                        }
                    }
                }
                visit(&errors, &rows);
            }
            let seen = |j: usize| errors[j].is_finite();
            for i in 0..n {
                next[i] = (0..n).map(|k| self.a[(i, k)] * state[k]).sum::<f64>()
                    + (0..m).map(|k| self.b[(i, k)] * signals.inputs[(t, k)]).sum::<f64>()
                    + (0..l).filter(|j| seen(*j)).map(|j| self.k[(i, j)] * errors[j]).sum::<f64>();
            }
            if derive {
                product(&self.a, &left, &mut next_left);
                for j in (0..l).filter(|j| seen(*j)) {
                    next_left.ger(-1.0, &self.k.column(j), &in_outputs.row(j).transpose(), 1.0);
                }
                for i in 0..n {
                    for k in 0..n {
                        next_left[(i, k * n + i)] += state[k];
                    }
                    for k in 0..m {
                        next_left[(i, (n + k) * n + i)] += signals.inputs[(t, k)];
                    }
                    for k in (0..l).filter(|k| seen(*k)) {
                        next_left[(i, (n + m + k) * n + i)] += errors[k];
                    }
                    next_left[(i, (driving - 1) * n + i)] += 1.0;
                }
                std::mem::swap(&mut left, &mut next_left);
            }
            std::mem::swap(&mut state, &mut next);
        }
    }

    /// The covariance of the one-step errors, and of how many; None where they are not finite or do not tell.
    fn covariance(&self, stretches: &[Signals], starts: &[Start]) -> Option<(DMatrix<f64>, usize)> {
        let l = self.c.nrows();
        let (mut sum, mut count) = (DMatrix::zeros(l, l), 0usize);
        for (signals, start) in stretches.iter().zip(starts) {
            self.walk(signals, start, false, |errors, _| {
                sum.ger(1.0, errors, errors, 1.0);
                count += 1;
            });
        }
        let covariance = sum / count.max(1) as f64;
        (count > 0 && covariance.iter().all(|value| value.is_finite())).then_some((covariance, count))
    }

    /// Information of all unknowns (entries; then state and levels of each stretch) and the slope of the likelihood, errors
    /// being weighed by `whiten`, the inverse of a square root of their covariance.
    fn information(
        &self,
        stretches: &[Signals],
        starts: &[Start],
        whiten: &DMatrix<f64>,
    ) -> (DMatrix<f64>, DVector<f64>) {
        let (n, l) = (self.a.nrows(), self.c.nrows());
        let (entries, own) = (self.entries(), n + l);
        let unknowns = entries + stretches.len() * own;
        let (mut information, mut slope) = (DMatrix::zeros(unknowns, unknowns), DVector::zeros(unknowns));
        for (s, (signals, start)) in stretches.iter().zip(starts).enumerate() {
            let width = entries + own;
            let mut batch = DMatrix::<f64>::zeros(width + 1, BATCH);
            let mut sums = DMatrix::<f64>::zeros(width + 1, width + 1);
            let mut filled = 0;
            self.walk(signals, start, true, |errors, rows| {
                let (errors, rows) = (whiten * errors, whiten * rows);
                for j in 0..l {
                    for k in 0..width {
                        batch[(k, filled)] = rows[(j, k)];
                    }
                    batch[(width, filled)] = errors[j];
                    filled += 1;
                    if filled == BATCH {
                        sums.gemm(1.0, &batch, &batch.transpose(), 1.0);
                        filled = 0;
                    }
                }
            });
            let rest = batch.columns(0, filled);
            sums += rest * rest.transpose();
            let place = |k: usize| if k < entries { k } else { k + s * own };
            for a in 0..width {
                for b in 0..width {
                    information[(place(a), place(b))] += sums[(a, b)];
                }
                slope[place(a)] += sums[(a, width)];
            }
        }
        (information, slope)
    }

    /// Goes to the estimate of maximum likelihood; where a step does not help, or makes the predictor unstable, it is halved
    /// and at last left.
    pub(super) fn refine(&mut self, stretches: &[Signals], starts: &mut [Start]) {
        if self.entries() > MOST_ENTRIES {
            return;
        }
        let (n, l) = (self.a.nrows(), self.c.nrows());
        let widest = radius(self.a.clone()).max(1.0);
        let Some((mut covariance, count)) = self.covariance(stretches, starts) else { return };
        let most = match count * self.entries().pow(2) {
            VERY_COSTLY.. => 1,
            COSTLY.. => 2,
            _ => MOST_STEPS,
        };
        for _ in 0..most {
            let Some(whiten) = whitening(&covariance) else { return };
            let (information, slope) = self.information(stretches, starts, &whiten);
            let Some(inverse) = pseudo_inverse(&information) else { return };
            let step = -(inverse * &slope);
            let now = count as f64 * covariance.determinant().ln();
            let mut gained = None;
            for halvings in 0..8 {
                let by = &step * 0.5f64.powi(halvings);
                let tried = self.moved(&by.as_slice()[..self.entries()]);
                let mut tried_starts = starts.to_vec();
                for (start, own) in tried_starts.iter_mut().zip(by.as_slice()[self.entries()..].chunks(n + l)) {
                    start.state += DVector::from_column_slice(&own[..n]);
                    start.levels.iter_mut().zip(&own[n..]).for_each(|(level, by)| *level += by);
                }
                if radius(tried.predictor()) >= 1.0 || radius(tried.a.clone()) > widest {
                    continue;
                }
                let Some((next, _)) = tried.covariance(stretches, &tried_starts) else { continue };
                let gain = now - count as f64 * next.determinant().ln();
                if gain > 0.0 {
                    *self = tried;
                    starts.clone_from_slice(&tried_starts);
                    covariance = next;
                    gained = Some(0.5 * gain);
                    break;
                }
            }
            if gained.is_none_or(|gain| gain < LEAST_GAIN) {
                break;
            }
        }
        self.initial = starts[0].state.clone();
    }

    /// Covariance of the entries of `A`, `B`, `C`, `K` at the estimate of maximum likelihood, what the state at the start and
    /// the levels take part in counted in.
    pub(super) fn entry_covariance(&self, signals: &Signals, share: f64) -> Option<DMatrix<f64>> {
        let start = Start { state: self.initial.clone(), levels: vec![0.0; self.c.nrows()] };
        let (stretches, starts) = (std::slice::from_ref(signals), std::slice::from_ref(&start));
        let (covariance, _) = self.covariance(stretches, starts)?;
        let (information, _) = self.information(stretches, starts, &whitening(&covariance)?);
        let inverse = pseudo_inverse(&(information / share))?;
        Some(inverse.view((0, 0), (self.entries(), self.entries())).into_owned())
    }
}

/// `a b` into `to`. For a few rows a plain sum is several times as fast as a blocked product, which packs its factors first.
fn product(a: &DMatrix<f64>, b: &DMatrix<f64>, to: &mut DMatrix<f64>) {
    let (rows, inner) = a.shape();
    let (a, b) = (a.as_slice(), b.as_slice());
    for (to, b) in to.as_mut_slice().chunks_exact_mut(rows).zip(b.chunks_exact(inner)) {
        to.fill(0.0);
        for (a, b) in a.chunks_exact(rows).zip(b) {
            to.iter_mut().zip(a).for_each(|(to, a)| *to += a * b);
        }
    }
}

/// The inverse of the lower square root of a covariance.
fn whitening(covariance: &DMatrix<f64>) -> Option<DMatrix<f64>> {
    covariance.clone().cholesky()?.l().try_inverse().filter(|inverse| inverse.iter().all(|value| value.is_finite()))
}

/// The inverse in the directions that the data tell, after each unknown was scaled by its own information.
fn pseudo_inverse(information: &DMatrix<f64>) -> Option<DMatrix<f64>> {
    let scale = information.diagonal().map(|value| if value > 0.0 { value.sqrt().recip() } else { 0.0 });
    let diagonal = DMatrix::from_diagonal(&scale);
    let scaled = &diagonal * information * &diagonal;
    if scaled.iter().any(|value| !value.is_finite()) {
        return None;
    }
    let parts = SymmetricEigen::try_new(scaled, f64::EPSILON, MOST_SWEEPS)?;
    let least = NOTHING * parts.eigenvalues.max();
    let inverted = parts.eigenvalues.map(|value| if value > least { value.recip() } else { 0.0 });
    let inverse = &parts.eigenvectors * DMatrix::from_diagonal(&inverted) * parts.eigenvectors.transpose();
    Some(&diagonal * inverse * &diagonal)
}
