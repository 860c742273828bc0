//! Covariance of an estimate, for white residuals and corrected for coloured ones.

use super::loss::ScaledLoss;
use super::noise::{Rows, Whitening};
use super::residuals::Autoregression;
use crate::numerics::{NormalEquations, RowBlock};
use nalgebra::DMatrix;
use statrs::distribution::{ContinuousCDF, StudentsT};

pub(crate) use crate::numerics::NORMAL_95;

/// Covariances of all unknowns: as for white residuals, and corrected for coloured ones.
pub(super) struct Covariances {
    pub(super) white: DMatrix<f64>,
    pub(super) coloured: DMatrix<f64>,
    /// As how many samples without memory the data count, for what varies slowly.
    pub(super) effective: f64,
    /// By how many standard errors the ends of a 95 % interval lie from the estimate.
    pub(super) quantile: f64,
    /// Which unknowns act on the output at all.
    pub(super) acts: Vec<bool>,
}

/// An estimate whose covariance is asked for.
pub(super) struct Estimate<'a> {
    /// Number of unknowns.
    pub(super) count: usize,
    /// Those that do not move: fixed, or at a bound.
    pub(super) held: &'a [usize],
    /// What was minimised.
    pub(super) loss: &'a ScaledLoss,
    /// Measured minus modelled; NaN where missing.
    pub(super) residuals: &'a [f64],
    /// The noise that rows and residuals were freed of by a noise model.
    pub(super) whitening: Option<&'a Whitening>,
}

/// The noise of an estimate.
struct Noise {
    /// Of the autoregression.
    coefficients: Vec<f64>,
    /// Of its innovations.
    variance: f64,
    /// As how many samples without memory the data count.
    effective: f64,
}

/// On longer data what the fit takes out of the noise is nothing beside it.
pub(super) const LONG: usize = 20_000;

/// The two-sided 95 % quantile of Student's distribution; slow noise leaves few degrees of freedom, of which three at least
/// are counted.
pub(super) fn quantile_95(freedom: f64) -> f64 {
    StudentsT::new(0.0, 1.0, freedom.max(3.0)).map_or(NORMAL_95, |distribution| distribution.inverse_cdf(0.975))
}

impl Estimate<'_> {
    /// The noise by what is left, and by what the fit has taken out of it.
    fn noise(&self, influences: &[f64], samples: usize, walk: &impl Fn(&mut dyn FnMut(&mut [f64]))) -> Noise {
        let plain = |variance: f64| Noise { coefficients: Vec::new(), variance, effective: samples as f64 };
        if samples > LONG {
            let Autoregression { coefficients, variance } = Autoregression::of(influences);
            return Noise { coefficients, ..plain(variance) };
        }
        let Some(found) = Whitening::of(influences, false) else { return plain(0.0) };
        let mut rows = Rows { width: self.count + 1, values: Vec::with_capacity((self.count + 1) * influences.len()) };
        let mut left = influences.iter();
        walk(&mut |row| {
            let start = rows.values.len();
            rows.values.extend_from_slice(row);
            self.held.iter().for_each(|place| rows.values[start + place] = 0.0);
            rows.values[start + self.count] = left.next().copied().unwrap_or(f64::NAN);
        });
        let (whitening, variance) = found.restricted(&rows);
        Noise {
            coefficients: whitening.coefficients().to_vec(),
            variance,
            effective: self.whitening.unwrap_or(&whitening).effective_samples(samples),
        }
    }

    /// Covariance of the estimate that minimises `Σ ρ(e)`: `H⁻¹ Ω H⁻¹` with `H = Σ ψ' J Jᵀ` and `Ω = Jᵀ R J`, `R` the
    /// covariance
    /// matrix of `ψ(e)` (Seber & Wild, Nonlinear Regression, 1989, ch. 6; White, Econometrica 48, 1980).
    ///
    /// With `ψ(e)` an autoregression `A(q) ψ(e) = w`, `R = σ² L Lᵀ` where `L` filters by `1/A`. `Ω` needs `Lᵀ` on the
    /// derivatives; as they
    /// are long beside the memory of the noise, their second moments are those of the derivatives filtered by `1/A`, in
    /// one
    /// pass. For white residuals and squares this is `σ² (JᵀJ)⁻¹`.
    ///
    /// `walk` visits every sample with its derivatives by the unknowns, and modelled minus measured last in the row.
    /// None when the data do not
    /// tell the unknowns apart.
    pub(super) fn covariances(&self, walk: impl Fn(&mut dyn FnMut(&mut [f64]))) -> Option<Covariances> {
        let count = self.count;
        let influence = |e: &f64| if e.is_finite() { self.loss.of(-e).2 } else { f64::NAN };
        let influences: Vec<f64> = self.residuals.iter().map(influence).collect();
        let samples = influences.iter().filter(|value| value.is_finite()).count();
        let noise = self.noise(&influences, samples, &walk);
        let order = noise.coefficients.len();
        let mut curvature = NormalEquations::new(count);
        let mut plain = NormalEquations::new(count);
        let mut filtered = NormalEquations::new(count);
        let (mut curved, mut as_they_are, mut after) =
            (RowBlock::new(count + 1), RowBlock::new(count + 1), RowBlock::new(count + 1));
        // Every sample counts alike under squares: the curvature is that of the plain derivatives.
        let squares = self.loss.is_squares();
        // The last filtered rows in a ring.
        let mut past = vec![vec![0.0; count + 1]; order.max(1)];
        let mut at = 0;
        let mut scaled = vec![0.0; count + 1];
        walk(&mut |row| {
            let missing = !row[count].is_finite();
            let slope = if missing { 0.0 } else { self.loss.of(row[count]).3 };
            row[count] = 0.0;
            if missing {
                row.fill(0.0);
            }
            as_they_are.put(row, &mut plain);
            if !squares {
                let root = slope.sqrt();
                scaled.iter_mut().zip(row.iter()).for_each(|(to, from)| *to = root * from);
                curved.put(&scaled, &mut curvature);
            }
            if order == 0 {
                return;
            }
            scaled.copy_from_slice(row);
            for (lag, a) in noise.coefficients.iter().enumerate() {
                let earlier = &past[(at + order - 1 - lag) % order];
                scaled.iter_mut().zip(earlier).for_each(|(to, from)| *to -= a * from);
            }
            after.put(&scaled, &mut filtered);
            past[at % order].copy_from_slice(&scaled);
            at = (at + 1) % order;
        });
        as_they_are.flush(&mut plain);
        curved.flush(&mut curvature);
        after.flush(&mut filtered);
        if squares {
            curvature = plain.clone();
        }
        if order == 0 {
            filtered = plain.clone();
        }
        let freedom = samples.saturating_sub(count - self.held.len()).max(1) as f64 / samples.max(1) as f64;
        let inverse = curvature.inverse(self.held)?;
        let power: f64 = influences.iter().filter(|value| value.is_finite()).map(|value| value * value).sum();
        let effects = curvature.information();
        let acts = (0..count).map(|k| effects[(k, k)] > 0.0 && !self.held.contains(&k)).collect();
        let sandwich = |middle: DMatrix<f64>, variance: f64| &inverse * middle * &inverse * variance;
        Some(Covariances {
            white: sandwich(plain.information(), power / samples.max(1) as f64 / freedom),
            coloured: sandwich(filtered.information(), noise.variance),
            effective: noise.effective,
            quantile: quantile_95(noise.effective - (count - self.held.len()) as f64),
            acts,
        })
    }
}
