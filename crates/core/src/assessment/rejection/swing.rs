//! A load that swings regularly, as where something upstream cycles: a line that stands out of the spectrum of its moves.

use super::loads::WORTH;
use crate::numerics::{deviation_by_median, median, peak_in};
use num_complex::Complex64;
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
use std::f64::consts::TAU;
use utoipa::ToSchema;

/// Periods that the record must hold.
const PERIODS: usize = 5;
/// A line counts where its power is so many times the median of those within an octave either way, of so many at least: by chance one in
/// a million of the lines of white noise is (exponential distribution of their power).
const STANDS_OUT: f64 = 20.0;
const NEIGHBOURS: usize = 40;
/// Both halves of the record must show this share of it, with the same phase.
const SHARE: f64 = 0.5;
/// A single move counts up to so many standard deviations: a step is no swing.
const LARGEST_MOVE: f64 = 6.0;

/// A regular swing of the load.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct LoadSwing {
    /// Its period, s.
    pub period: f64,
    /// How far it swings to either side, % of OP.
    pub by: f64,
}

/// The swing of a load and its values at each sample. None where there is none of at least this period that stands out.
///
/// A load that walks moves by what is white: in the spectrum of its moves a swing is a line.
pub(super) fn swing(load: &[f64], interval: f64, least_period: f64) -> Option<(LoadSwing, Vec<f64>)> {
    let moves = moves(load);
    let count = moves.len();
    let power = spectrum(&moves);
    let last = ((count as f64 * interval / least_period) as usize).min(power.len().saturating_sub(2));
    let stands_out = |k: usize| {
        let around = (k / 2).max(1)..(2 * k).max(k + NEIGHBOURS).min(power.len());
        let mut others: Vec<f64> = around.filter(|other| other.abs_diff(k) > 2).map(|other| power[other]).collect();
        let usual = median(&mut others);
        if usual > 0.0 { power[k] / usual } else { 0.0 }
    };
    let tops = (PERIODS..=last).filter(|k| power[*k] >= power[k - 1] && power[*k] >= power[k + 1]);
    let lines = tops.map(|k| (k, stands_out(k)));
    let (line, height) = lines.max_by(|a, b| a.1.total_cmp(&b.1))?;
    if height < STANDS_OUT {
        return None;
    }
    let at = |line: f64| TAU * line / count as f64;
    let whole = 0..count;
    let (line, _) =
        peak_in(40, line as f64 - 1.0, line as f64 + 1.0, |line| fitted(&moves, whole.clone(), at(line)).norm_sqr());
    let omega = at(line);
    let all = fitted(&moves, whole, omega);
    let halves = [0..count / 2, count / 2..count].map(|half| fitted(&moves, half, omega));
    let in_phase = |half: &Complex64| (half * all.conj()).re >= SHARE * all.norm_sqr();
    let by = all.norm() / (2.0 * (0.5 * omega).sin());
    if by < WORTH || !halves.iter().all(in_phase) {
        return None;
    }
    let turned = all / (2.0 * (0.5 * omega).sin());
    let values = (0..load.len()).map(|k| (turned * Complex64::cis(omega * k as f64)).im).collect();
    Some((LoadSwing { period: TAU / omega * interval, by }, values))
}

/// What the load does from sample to sample; of steps no more than a walk would do.
fn moves(load: &[f64]) -> Vec<f64> {
    let mut moves: Vec<f64> = load.windows(2).map(|pair| pair[1] - pair[0]).collect();
    let most = LARGEST_MOVE * deviation_by_median(&mut moves.iter().map(|value| value.abs()).collect::<Vec<f64>>());
    if most > 0.0 {
        moves.iter_mut().for_each(|value| *value = value.clamp(-most, most));
    }
    moves
}

/// Power over frequency, from a window that fades in and out (Hann).
fn spectrum(moves: &[f64]) -> Vec<f64> {
    let count = moves.len();
    let window = |k: usize| 0.5 - 0.5 * (TAU * (k as f64 + 0.5) / count as f64).cos();
    let mut buffer: Vec<Complex64> =
        moves.iter().enumerate().map(|(k, value)| Complex64::new(value * window(k), 0.0)).collect();
    FftPlanner::new().plan_fft_forward(count).process(&mut buffer);
    buffer[..count / 2 + 1].iter().map(Complex64::norm_sqr).collect()
}

/// The sine of this frequency among some of the moves by least squares: `a` of `Re(a e^{iω(k+½)})`.
fn fitted(moves: &[f64], range: std::ops::Range<usize>, omega: f64) -> Complex64 {
    let (mut cc, mut ss, mut cs, mut c, mut s) = (0.0, 0.0, 0.0, 0.0, 0.0);
    for k in range {
        let (sine, cosine) = (omega * (k as f64 + 0.5)).sin_cos();
        cc += cosine * cosine;
        ss += sine * sine;
        cs += cosine * sine;
        c += moves[k] * cosine;
        s += moves[k] * sine;
    }
    let determinant = cc * ss - cs * cs;
    Complex64::new(ss * c - cs * s, -(cc * s - cs * c)) / determinant
}

#[cfg(test)]
#[allow(clippy::unwrap_used)]
mod tests {
    use super::*;
    use crate::instrument::Noise;
    use proptest::prelude::*;

    /// A load that walks by this much a sample, with a step, and a sine.
    fn load(count: usize, walks: f64, step: f64, (by, period): (f64, f64), seed: u64) -> Vec<f64> {
        let mut random = Noise::new("load", seed);
        let mut walk = 0.0;
        (0..count)
            .map(|k| {
                walk += walks * random.normal() + if k == count / 3 { step } else { 0.0 };
                walk + by * (TAU * k as f64 / period + 0.7).sin()
            })
            .collect()
    }

    #[test]
    fn what_walks_and_steps_does_not_swing() {
        let found = (0..400).filter(|seed| swing(&load(1500, 0.3, 20.0, (0.0, 1.0), *seed), 2.0, 20.0).is_some());
        assert!(found.count() <= 4);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        /// A sine that comes to more than the walk does in its period is found with its size and its period, and taken off whole.
        #[test]
        fn a_sine_is_found_as_it_is(
            by in 1.0..8.0f64,
            period in 20.0..280.0f64,
            share in 0.005..0.05f64,
            step in -15.0..15.0f64,
            seed in 0u64..1000,
        ) {
            // Of the move that the sine makes in a sample, and of its size over a period.
            let walks = share * by * (1.0 / period.sqrt()).min(1.0);
            let all = load(1500, walks, step, (by, period), seed);
            let (found, values) = swing(&all, 2.0, 20.0).unwrap();
            prop_assert!((found.period / (2.0 * period) - 1.0).abs() < 0.01, "{found:?} for {by} every {}", 2.0 * period);
            prop_assert!((found.by / by - 1.0).abs() < 0.1, "{found:?} for {by}");
            let left = load(1500, walks, step, (0.0, 1.0), seed);
            let off = all.iter().zip(&values).zip(&left).map(|((all, swing), left)| all - swing - left);
            prop_assert!(off.map(f64::abs).fold(0.0, f64::max) < 0.2 * by);
        }
    }

    #[test]
    fn what_stops_half_way_is_no_swing() {
        let mut stops = load(1500, 0.02, 0.0, (3.0, 60.0), 3);
        let stands = stops[700];
        stops[700..].iter_mut().for_each(|value| *value = stands);
        assert_eq!(swing(&stops, 2.0, 20.0), None);
    }
}
