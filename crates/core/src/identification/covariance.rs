//! Covariance of an estimate, for white residuals and corrected for coloured ones.

use super::loss::ScaledLoss;
use super::residuals::Autoregression;
use crate::numerics::NormalEquations;
use nalgebra::DMatrix;

/// Two-sided 95 % quantile of the normal distribution.
pub(crate) const NORMAL_95: f64 = 1.959_963_984_540_054;

/// Covariances of all unknowns: as for white residuals, and corrected for coloured ones.
pub(super) struct Covariances {
    pub(super) white: DMatrix<f64>,
    pub(super) coloured: DMatrix<f64>,
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
}

impl Estimate<'_> {
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
        let noise = Autoregression::of(&influences);
        let order = noise.coefficients.len();
        let mut curvature = NormalEquations::new(count);
        let mut plain = NormalEquations::new(count);
        let mut filtered = NormalEquations::new(count);
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
            plain.add(row);
            let root = slope.sqrt();
            scaled.iter_mut().zip(row.iter()).for_each(|(to, from)| *to = root * from);
            curvature.add(&scaled);
            scaled.copy_from_slice(row);
            for (lag, a) in noise.coefficients.iter().enumerate() {
                let earlier = &past[(at + order - 1 - lag) % order];
                scaled.iter_mut().zip(earlier).for_each(|(to, from)| *to -= a * from);
            }
            filtered.add(&scaled);
            if order > 0 {
                past[at % order].copy_from_slice(&scaled);
                at = (at + 1) % order;
            }
        });
        let samples = influences.iter().filter(|value| value.is_finite()).count();
        let freedom = samples.saturating_sub(count - self.held.len()).max(1) as f64 / samples.max(1) as f64;
        let inverse = curvature.inverse(self.held)?;
        let power: f64 = influences.iter().filter(|value| value.is_finite()).map(|value| value * value).sum();
        let effects = curvature.information();
        let acts = (0..count).map(|k| effects[(k, k)] > 0.0 && !self.held.contains(&k)).collect();
        let sandwich = |middle: DMatrix<f64>, variance: f64| &inverse * middle * &inverse * variance;
        let coloured = filtered.information();
        // What the fit has taken out of the noise: tr(H⁻¹ Ω), which for slow noise is far more than its share of the
        // samples. For white noise
        // this is the usual N/(N − p).
        let absorbed = (&inverse * &coloured).trace() * noise.variance / power.max(f64::MIN_POSITIVE);
        Some(Covariances {
            white: sandwich(plain.information(), power / samples.max(1) as f64 / freedom),
            coloured: sandwich(coloured, noise.variance / (1.0 - absorbed.min(0.8))),
            acts,
        })
    }
}
