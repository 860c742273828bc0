//! How a sampled signal approaches a level: one reading of rise and settling for every view of a response.

/// The row, counted with its fraction, at which the values come within ±`band` of 0 for the last time; None where the
/// last one is still outside. 0 where they never are.
///
/// Between rows the signal runs straight.
pub(crate) fn settles(rows: usize, band: f64, value: impl Fn(usize) -> f64) -> Option<f64> {
    let Some(k) = (0..rows).rev().find(|k| value(*k).abs() > band || value(*k).is_nan()) else { return Some(0.0) };
    if k + 1 >= rows {
        return None;
    }
    let (outside, inside) = (value(k), value(k + 1));
    Some(k as f64 + (outside.abs() - band) / (outside - inside).abs())
}

/// The row, counted with its fraction, at which the values first rise to `level`; None where they never do, 0 where
/// they begin there.
pub(crate) fn reaches(rows: usize, level: f64, value: impl Fn(usize) -> f64) -> Option<f64> {
    let k = (0..rows).find(|k| value(*k) >= level)?;
    if k == 0 {
        return Some(0.0);
    }
    let (below, above) = (value(k - 1), value(k));
    Some(k as f64 - (above - level) / (above - below))
}

/// Rows from 10 to 90 % of the way, for values that run from 0 to 1; None where 90 % is never reached.
pub(crate) fn rises(rows: usize, share: impl Fn(usize) -> f64) -> Option<f64> {
    Some(reaches(rows, 0.9, &share)? - reaches(rows, 0.1, &share)?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn of_a_lag_they_are_the_logarithms() {
        // 1 − exp(−t): rises in ln 9, within 5 % after ln 20 (exact mathematics); rows of 0.01 s run straight.
        let value = |k: usize| 1.0 - (-0.01 * k as f64).exp();
        assert!((0.01 * rises(1000, value).unwrap() - 9f64.ln()).abs() < 1e-4);
        assert!((0.01 * settles(1000, 0.05, |k| value(k) - 1.0).unwrap() - 20f64.ln()).abs() < 1e-4);
        assert!(settles(200, 0.05, |k| value(k) - 1.0).is_none() && rises(100, value).is_none());
    }

    proptest! {
        /// The answer of a straight-line signal that is looked at closely enough: found by walking it in fine steps.
        #[test]
        fn they_are_those_of_the_straight_lines(points in prop::collection::vec(-2.0..2.0f64, 2..30), band in 0.05..1.0f64) {
            let between = |t: f64| {
                let k = (t.floor() as usize).min(points.len() - 2);
                points[k] + (t - k as f64) * (points[k + 1] - points[k])
            };
            let fine = 2000 * (points.len() - 1);
            let mut times = (0..=fine).map(|k| k as f64 / 2000.0);
            let last_outside = times.clone().rfind(|t| between(*t).abs() > band + 1e-12);
            match settles(points.len(), band, |k| points[k]) {
                None => prop_assert!(points[points.len() - 1].abs() > band),
                Some(found) => prop_assert!((found - last_outside.unwrap_or(0.0)).abs() < 2e-3),
            }
            let first = times.find(|t| between(*t) >= band);
            match reaches(points.len(), band, |k| points[k]) {
                None => prop_assert!(first.is_none()),
                Some(found) => prop_assert!((found - first.unwrap()).abs() < 2e-3),
            }
        }
    }
}
