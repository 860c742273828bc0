//! Numbers that equations are written in: plain ones, or dual ones, which carry exact derivatives along.
//!
//! Dual numbers come from a library (`num-dual`); what is added here are the few functions with corners that the equations of
//! a process use, and those that are only known by value and slope.

use num_dual::{Derivative, DualNumCopy, DualSVec64};

/// Derivatives that a dual number carries.
pub const SEEDS: usize = 8;

/// A number with its derivatives by up to [`SEEDS`] unknowns.
pub type Dual = DualSVec64<SEEDS>;

/// What the equations of a process can be evaluated in.
pub trait Number: DualNumCopy<f64> {
    /// A function of this number by its value and its slope here, which is asked for only where it counts.
    fn through(self, value: f64, slope: impl FnOnce() -> f64) -> Self;

    /// This to the power of another number; of a negative one only with a whole exponent that is known.
    fn power(self, exponent: Self) -> Self;

    /// The higher of two; the one that is a number where the other is none.
    fn higher(self, other: Self) -> Self {
        if self.re() > other.re() || other.re().is_nan() { self } else { other }
    }

    /// The lower of two; the one that is a number where the other is none.
    fn lower(self, other: Self) -> Self {
        if self.re() < other.re() || other.re().is_nan() { self } else { other }
    }

    /// This, but not below `low`.
    fn at_least(self, low: f64) -> Self {
        self.higher(Self::from(low))
    }

    /// This, but not outside `low` to `high`.
    fn kept_within(self, low: f64, high: f64) -> Self {
        if self.re() < low {
            Self::from(low)
        } else if self.re() > high {
            Self::from(high)
        } else {
            self
        }
    }
}

impl Number for f64 {
    fn through(self, value: f64, _slope: impl FnOnce() -> f64) -> Self {
        value
    }

    fn power(self, exponent: Self) -> Self {
        self.powf(exponent)
    }
}

impl Number for Dual {
    fn through(self, value: f64, slope: impl FnOnce() -> f64) -> Self {
        Self::new(value, self.eps * slope())
    }

    fn power(self, exponent: Self) -> Self {
        let value = self.re.powf(exponent.re);
        let of_base = self.eps * (exponent.re * self.re.powf(exponent.re - 1.0));
        let of_exponent =
            exponent.eps * if derivatives(&exponent) == [0.0; SEEDS] { 0.0 } else { value * self.re.ln() };
        Self::new(value, of_base + of_exponent)
    }
}

/// `value` as the unknown with this number, from 0.
#[must_use]
pub fn seeded(value: f64, unknown: usize) -> Dual {
    let mut direction = nalgebra::SVector::<f64, SEEDS>::zeros();
    direction[unknown] = 1.0;
    Dual::new(value, Derivative::some(direction))
}

/// The derivatives of a number.
#[must_use]
pub fn derivatives(number: &Dual) -> [f64; SEEDS] {
    number.eps.unwrap_generic(nalgebra::Const::<SEEDS>, nalgebra::U1).into()
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// What has corners goes along the side on which it is, against central differences.
        #[test]
        fn slopes_beside_corners_are_those_of_differences(x in -3f64..3.0, y in -3f64..3.0) {
            fn of<N: Number>(x: N, y: N) -> [N; 5] {
                let power = (x * x + 1.0).power(y);
                [x.higher(y), x.lower(y) * y, (x * y).at_least(0.5), (x + y * y).kept_within(-1.0, 2.0), power]
            }
            let corners = [x - y, x * y - 0.5, x + y * y + 1.0, x + y * y - 2.0];
            prop_assume!(corners.iter().all(|distance| distance.abs() > 1e-3));
            let exact = of(seeded(x, 0), seeded(y, 1));
            let h = 1e-5;
            for (k, value) in exact.iter().enumerate() {
                let by_x = (of(x + h, y)[k] - of(x - h, y)[k]) / (2.0 * h);
                let by_y = (of(x, y + h)[k] - of(x, y - h)[k]) / (2.0 * h);
                let slopes = derivatives(value);
                prop_assert!((slopes[0] - by_x).abs() < 1e-6 * by_x.abs().max(1.0) && (slopes[1] - by_y).abs() < 1e-6 * by_y.abs().max(1.0));
                prop_assert!((value.re - of(x, y)[k]).abs() < 1e-12 * value.re.abs().max(1.0));
            }
        }
    }

    #[test]
    fn a_constant_has_no_derivatives_and_what_is_no_number_gives_way() {
        assert_eq!(derivatives(&Dual::from(3.0)), [0.0; SEEDS]);
        assert_eq!(f64::NAN.at_least(0.0), 0.0);
        assert_eq!(f64::NAN.lower(2.0), 2.0);
        assert_eq!(derivatives(&seeded(2.0, 3).through(8.0, || 12.0))[3], 12.0);
        // A whole power of a negative number.
        let cube = seeded(-2.0, 0).power(Dual::from(3.0));
        assert_eq!((cube.re, derivatives(&cube)[0]), (-8.0, 12.0));
    }
}
