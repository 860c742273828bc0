//! Dead time, split at the scan into whole scans and an exact remainder.

use crate::{Result, check};
use num_complex::Complex64;

/// A dead time of zero or more seconds.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct DeadTime(f64);

impl DeadTime {
    /// A dead time in s, zero or more.
    pub fn new(seconds: f64) -> Result<Self> {
        check::not_negative("dead time", seconds, "s").map(Self)
    }

    /// In seconds.
    #[must_use]
    pub fn seconds(self) -> f64 {
        self.0
    }

    /// `exp(−jωθ)` at `omega` rad/s.
    #[must_use]
    pub fn response(self, omega: f64) -> Complex64 {
        Complex64::from_polar(1.0, -omega * self.0)
    }

    /// The dead time as whole scans of `scan` seconds and what is left over.
    #[must_use]
    pub fn sampled(self, scan: f64) -> SampledDelay {
        let ratio = self.0 / scan;
        let mut whole = ratio.floor();
        let mut remainder = self.0 - whole * scan;
        // A dead time within rounding of a whole number of scans is that number of scans.
        if remainder > scan * (1.0 - 1e-9) {
            whole += 1.0;
            remainder = 0.0;
        } else if remainder < scan * 1e-9 {
            remainder = 0.0;
        }
        SampledDelay { scans: whole as usize, remainder }
    }
}

/// A dead time of `scans` whole scans and `remainder` seconds, the latter less than a scan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SampledDelay {
    /// Whole scans.
    pub scans: usize,
    /// Seconds beyond them, at least 0 and less than a scan.
    pub remainder: f64,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn split_is_exact_and_robust_to_rounding() {
        let split = |theta: f64, scan: f64| DeadTime::new(theta).unwrap().sampled(scan);
        assert_eq!(split(2.5, 1.0), SampledDelay { scans: 2, remainder: 0.5 });
        // 0.1 · 3 is just above 0.3 and 0.7 / 0.1 just below 7 in binary.
        assert_eq!(split(0.1 * 3.0, 0.1), SampledDelay { scans: 3, remainder: 0.0 });
        assert_eq!(split(0.7, 0.1), SampledDelay { scans: 7, remainder: 0.0 });
        assert_eq!(split(0.0, 1.0), SampledDelay { scans: 0, remainder: 0.0 });
        assert!(DeadTime::new(-1.0).is_err());
    }
}
