//! What a residual costs: squares, or something that outliers and drift pull at less.

use crate::numerics::deviation_by_median;
use crate::{Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The cost of a residual. Widths are in standard deviations of the noise, which is estimated from the residuals of the
/// least-squares fit by their median absolute deviation.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Loss {
    /// `e²/2`: best for noise without outliers.
    #[default]
    Squares,
    /// Squares up to the width, linear beyond (Huber, Annals of Mathematical Statistics 35, 1964): loses 5 % of the
    /// precision on
    /// normal noise with the default width of 1.345.
    Huber {
        /// Width in standard deviations of the noise, 0.1 to 10.
        #[serde(default = "huber_width")]
        width: f64,
    },
    /// `|e|`, rounded off within a hundredth of the noise.
    Absolute,
    /// Nothing up to the width, squares of the excess beyond: what lies within the noise is not chased.
    DeadBand {
        /// Width in standard deviations of the noise, 0 to 10.
        #[serde(default = "dead_band_width")]
        width: f64,
    },
}

fn huber_width() -> f64 {
    1.345
}

fn dead_band_width() -> f64 {
    1.0
}

/// What residuals are beside their outliers.
#[derive(Debug, Clone)]
pub(crate) struct Usual {
    /// The residuals that are no outliers; NaN for the others and for missing ones.
    pub(crate) residuals: Vec<f64>,
    /// Their standard deviation.
    pub(crate) deviation: f64,
    /// How many were set aside.
    pub(crate) outliers: usize,
}

/// A [`Loss`] at a known level of noise.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ScaledLoss {
    loss: Loss,
    /// Standard deviation of the noise.
    scale: f64,
}

impl Loss {
    /// Refuses widths that make no sense.
    pub fn validate(&self) -> Result<()> {
        match *self {
            Self::Squares | Self::Absolute => Ok(()),
            Self::Huber { width } => check::within("loss.width", width, 0.1, 10.0, "").map(drop),
            Self::DeadBand { width } => check::within("loss.width", width, 0.0, 10.0, "").map(drop),
        }
    }

    /// The loss for residuals like these. 1.4826 times the median of the absolute values is the standard deviation of
    /// normal noise (Hampel, J. American Statistical Association 69, 1974).
    pub(crate) fn scaled(self, residuals: &[f64]) -> ScaledLoss {
        let mut sizes: Vec<f64> = residuals.iter().filter(|e| e.is_finite()).map(|e| e.abs()).collect();
        ScaledLoss { loss: self, scale: deviation_by_median(&mut sizes).max(f64::MIN_POSITIVE) }
    }
}

impl ScaledLoss {
    /// Plain least squares.
    pub(crate) const SQUARES: Self = Self { loss: Loss::Squares, scale: 1.0 };

    /// Whether every residual counts by its square alone.
    pub(crate) fn is_squares(&self) -> bool {
        self.loss == Loss::Squares
    }

    /// The residuals beside those that lie beyond four standard deviations of the noise, where the loss is one that leaves
    /// outliers aside; all of them for squares.
    pub(crate) fn without_outliers(&self, residuals: &[f64]) -> Usual {
        const BEYOND: f64 = 4.0;
        let limit = match self.loss {
            Loss::Squares => f64::INFINITY,
            _ => BEYOND * self.scale,
        };
        let kept: Vec<f64> = residuals.iter().map(|e| if e.abs() <= limit { *e } else { f64::NAN }).collect();
        let (squares, count) = kept
            .iter()
            .filter(|e| e.is_finite())
            .fold((0.0, 0usize), |(squares, count), e| (squares + e * e, count + 1));
        let outliers = residuals.iter().filter(|e| e.is_finite()).count() - count;
        Usual { deviation: (squares / count.max(1) as f64).sqrt(), residuals: kept, outliers }
    }

    /// `(√(2ρ)·sign e, ψ/√(2ρ), ψ, ψ')`: the residual whose square is twice the loss, the factor by which the
    /// derivatives of `e`
    /// become those of it, the influence `ψ = ρ'` and its slope.
    #[inline]
    pub(crate) fn of(&self, e: f64) -> (f64, f64, f64, f64) {
        let from_loss = |twice: f64, psi: f64, slope: f64| {
            let root = twice.sqrt();
            (root.copysign(e), if root > 0.0 { psi.abs() / root } else { 1.0 }, psi, slope)
        };
        match self.loss {
            Loss::Squares => (e, 1.0, e, 1.0),
            Loss::Huber { width } => {
                let k = width * self.scale;
                if e.abs() <= k { (e, 1.0, e, 1.0) } else { from_loss(2.0 * k * e.abs() - k * k, k.copysign(e), 0.0) }
            }
            Loss::Absolute => {
                let rounding = 0.01 * self.scale;
                let root = e.hypot(rounding);
                // The slope of the influence, a spike at 0, is taken as its mean over the middle of the noise.
                let slope = if e.abs() < 0.5 * self.scale { 2.0 } else { 0.0 };
                from_loss(2.0 * self.scale * (root - rounding), self.scale * e / root, slope)
            }
            Loss::DeadBand { width } => {
                let excess = (e.abs() - width * self.scale).max(0.0);
                let signed = excess.copysign(e);
                if excess > 0.0 { (signed, 1.0, signed, 1.0) } else { (0.0, 0.0, 0.0, 0.0) }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn influence_is_the_derivative_of_the_loss() {
        for loss in [Loss::Squares, Loss::Huber { width: 1.345 }, Loss::Absolute, Loss::DeadBand { width: 1.0 }] {
            let scaled = ScaledLoss { loss, scale: 0.7 };
            for e in [-5.0, -0.9, -0.2, 0.1, 0.75, 3.0] {
                let half_square = |e: f64| 0.5 * scaled.of(e).0.powi(2);
                let numeric = (half_square(e + 1e-6) - half_square(e - 1e-6)) / 2e-6;
                let (root, factor, psi, _) = scaled.of(e);
                assert!((psi - numeric).abs() < 1e-6, "{loss:?} at {e}: {psi} {numeric}");
                assert!((root * factor - psi).abs() < 1e-12, "{loss:?} at {e}");
            }
        }
    }

    #[test]
    fn widths_are_checked_and_the_noise_is_found_beside_outliers() {
        assert!(
            Loss::Huber { width: 0.0 }.validate().is_err() && Loss::DeadBand { width: f64::NAN }.validate().is_err()
        );
        let mut residuals: Vec<f64> = (0..1001).map(|k| f64::from(k) / 500.0 - 1.0).collect();
        residuals.extend([1e6; 20]);
        assert!((Loss::Squares.scaled(&residuals).scale - 1.4826 * 0.51).abs() < 0.02);
    }
}
