//! A share of plants that pass, and how well it is known.

use crate::numerics::NORMAL_95;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// How many of the plants that were drawn pass.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Share {
    /// Plants that pass.
    pub passes: usize,
    /// Plants that were drawn.
    pub of: usize,
    /// 95 % interval of the share among all plants that may be, 0 to 1 (Wilson, J. Am. Stat. Assoc. 22, 1927, p. 209).
    pub interval: [f64; 2],
    /// How many plants more would halve the width of the interval, about.
    pub to_halve: usize,
}

impl Share {
    /// So many of so many, at least one.
    #[must_use]
    pub fn new(passes: usize, of: usize) -> Self {
        let share = passes as f64 / of.max(1) as f64;
        let interval = wilson(share, of as f64);
        let width = interval[1] - interval[0];
        // The width falls as n rises, whatever the share.
        let (mut low, mut high) = (of.max(1) as f64, 16.0 * of.max(1) as f64);
        while high - low > 0.5 {
            let n = 0.5 * (low + high);
            let ends = wilson(share, n);
            if ends[1] - ends[0] > 0.5 * width { low = n } else { high = n }
        }
        Self { passes, of, interval, to_halve: high.ceil() as usize - of.max(1) }
    }

    /// Whether all plants pass.
    #[must_use]
    pub fn is_whole(&self) -> bool {
        self.passes == self.of
    }

    /// The share, 0 to 1.
    #[must_use]
    pub fn value(&self) -> f64 {
        self.passes as f64 / self.of.max(1) as f64
    }
}

/// Wilson's score interval.
fn wilson(share: f64, n: f64) -> [f64; 2] {
    let z2 = NORMAL_95 * NORMAL_95 / n;
    let middle = (share + 0.5 * z2) / (1.0 + z2);
    let half = (share * (1.0 - share) * z2 + 0.25 * z2 * z2).sqrt() / (1.0 + z2);
    // At the ends rounding would leave a hair.
    let low = if share == 0.0 { 0.0 } else { middle - half };
    let high = if share == 1.0 { 1.0 } else { middle + half };
    [low, high]
}

#[cfg(test)]
mod tests {
    use super::*;

    /// These are the
    /// worked examples of Newcombe, Statistics in Medicine 17, 1998, table I, method 3 (81 of 263, 15 of 148, 0 of 20, 1 of 29).
    #[test]
    fn intervals_are_those_of_the_published_table() {
        for (passes, of, low, high) in
            [(81, 263, 0.2553, 0.3662), (15, 148, 0.0624, 0.1605), (0, 20, 0.0000, 0.1611), (1, 29, 0.0061, 0.1718)]
        {
            let [from, to] = Share::new(passes, of).interval;
            assert!((from - low).abs() < 5e-5 && (to - high).abs() < 5e-5, "{passes} of {of}: {from} to {to}");
        }
    }

    #[test]
    fn as_many_plants_more_halve_the_interval() {
        for (passes, of) in [(100, 200), (190, 200), (200, 200), (0, 20), (3, 7)] {
            let share = Share::new(passes, of);
            let more = of + share.to_halve;
            let [low, high] = wilson(share.value(), more as f64);
            let ratio = (high - low) / (share.interval[1] - share.interval[0]);
            assert!((0.48..=0.5).contains(&ratio) || of < 10, "{passes} of {of}: {ratio}");
        }
        assert!(Share::new(200, 200).is_whole() && !Share::new(199, 200).is_whole());
    }
}
