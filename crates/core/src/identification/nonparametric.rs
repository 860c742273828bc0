//! Step and frequency response without a structure, with confidence bands.

use super::covariance::{Estimate, NORMAL_95};
use super::data::{DataSet, held};
use super::loss::ScaledLoss;
use super::response::{FrequencyResponse, StepResponse, spaced};
use crate::numerics::NormalEquations;
use crate::{Error, Result};
use num_complex::Complex64;
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Coefficients of the impulse response that are estimated.
const TAPS: usize = 60;
/// Frequencies of the spectral estimate.
const FREQUENCIES: usize = 160;
/// Below this coherence a frequency tells nothing.
const LEAST_COHERENCE: f64 = 0.05;

/// What is estimated.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NonparametricOptions {
    /// Length of the step response in s; by default a fifth of the data.
    #[serde(default)]
    pub horizon: Option<f64>,
    /// Lags of the window by which the spectra are smoothed, 4 to a third of the samples: more show finer detail with
    /// wider bands. By default a
    /// tenth of the samples, at most 200.
    #[serde(default)]
    pub lags: Option<usize>,
}

/// Responses of the PV to the OP as the data show them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Nonparametric {
    /// From a finite impulse response by least squares, its covariance corrected for coloured residuals.
    pub step: StepResponse,
    /// From smoothed spectra.
    pub frequency: FrequencyResponse,
    /// Coherence of OP and PV at the frequencies, 0 to 1: how much of the PV follows the OP.
    pub coherence: Vec<f64>,
    /// Seconds between the coefficients of the impulse response; longer than the sample time where samples were
    /// averaged.
    pub block: f64,
    /// Lags of the window.
    pub lags: usize,
}

/// Estimates both responses of the PV to the OP; the other inputs take part in the impulse response.
///
/// Errors when the samples are uneven or too few.
pub fn nonparametric(data: &DataSet, options: &NonparametricOptions) -> Result<Nonparametric> {
    let interval = data.sample_time()?;
    data.validate(60)?;
    let duration = data.axis.duration();
    let horizon = options.horizon.unwrap_or(0.2 * duration);
    if !(4.0 * interval..=0.5 * duration).contains(&horizon) {
        return Err(Error::invalid(
            "horizon",
            format!("{horizon} s"),
            format!("{} to {} s, half of the data", 4.0 * interval, 0.5 * duration),
        ));
    }
    let samples = data.axis.len();
    let lags = options.lags.unwrap_or((samples / 10).clamp(4, 200));
    if !(4..=samples / 3).contains(&lags) {
        return Err(Error::invalid("lags", lags, format!("4 to {}", samples / 3)));
    }
    let (step, block) = impulse_response(data, interval, horizon)?;
    let (frequency, coherence) = spectral(data, interval, lags);
    Ok(Nonparametric { step, frequency, coherence, block, lags })
}

/// The step response as the sum of a finite impulse response: `y(t) = level + Σ h_k u(t − k)` by linear least squares
/// on data averaged in
/// blocks, so that at most [`TAPS`] coefficients reach over the horizon.
fn impulse_response(data: &DataSet, interval: f64, horizon: f64) -> Result<(StepResponse, f64)> {
    let per_block = ((horizon / interval / TAPS as f64).ceil() as usize).max(1);
    let block = per_block as f64 * interval;
    let taps = ((horizon / block).round() as usize).max(2);
    let averaged = |values: &[f64]| -> Vec<f64> {
        let mean = |chunk: &[f64]| chunk.iter().sum::<f64>() / chunk.len() as f64;
        values.chunks_exact(per_block).map(mean).collect()
    };
    let inputs: Vec<Vec<f64>> = data.inputs.iter().map(|series| averaged(&held(&series.values))).collect();
    let output = averaged(&data.output().values);
    let means: Vec<f64> = inputs.iter().map(|series| series.iter().sum::<f64>() / series.len() as f64).collect();
    let count = inputs.len() * (taps + 1) + 1;
    if output.len() < 2 * count {
        return Err(Error::unfit(
            format!("{} blocks of {block} s are too few for {taps} coefficients of the impulse response", output.len()),
            "take a shorter horizon or a longer stretch",
        ));
    }
    let level = data.output().mean();
    let walk = |coefficients: Option<&[f64]>, visit: &mut dyn FnMut(&mut [f64])| {
        let mut row = vec![0.0; count + 1];
        for k in taps..output.len() {
            for (i, input) in inputs.iter().enumerate() {
                for lag in 0..=taps {
                    row[i * (taps + 1) + lag] = input[k - lag] - means[i];
                }
            }
            row[count - 1] = 1.0;
            let modelled = coefficients.map(|known| known.iter().zip(&row).map(|(a, b)| a * b).sum::<f64>());
            row[count] = modelled.map_or(output[k] - level, |modelled| modelled - (output[k] - level));
            visit(&mut row);
        }
    };
    let mut sums = NormalEquations::new(count);
    walk(None, &mut |row| {
        if row[count].is_finite() {
            sums.add(row);
        }
    });
    let few = || {
        Error::unfit(
            format!("the OP moves too little to tell {taps} coefficients of the impulse response apart"),
            "take a shorter horizon, or excite the process at more times",
        )
    };
    let (coefficients, _) = sums.linear_solution().ok_or_else(few)?;
    let mut residuals = Vec::new();
    walk(Some(&coefficients), &mut |row| residuals.push(-row[count]));
    let estimate = Estimate { count, held: &[], loss: &ScaledLoss::SQUARES, residuals: &residuals, whitening: None };
    let covariances = estimate.covariances(|visit| walk(Some(&coefficients), visit)).ok_or_else(few)?;
    let (mut values, mut half_widths) = (Vec::new(), Vec::new());
    let mut sum = 0.0;
    for (k, coefficient) in coefficients.iter().enumerate().take(taps + 1) {
        sum += coefficient;
        values.push(sum);
        let variance: f64 = covariances.coloured.view((0, 0), (k + 1, k + 1)).sum();
        half_widths.push(NORMAL_95 * variance.max(0.0).sqrt());
    }
    // The sum up to coefficient k is the step response averaged over the samples of block k: it stands for their
    // middle.
    let middle = 0.5 * (per_block - 1) as f64 * interval;
    let times = (0..=taps).map(|k| k as f64 * block + middle).collect();
    Ok((StepResponse { times, values, half_widths }, block))
}

/// The smoothed spectral estimate `Φ_yu/Φ_u` with a Hann lag window (Blackman & Tukey, 1958; Ljung, System
/// Identification, 2nd ed. 1999, section
/// 6.4), and the coherence.
///
/// The variance of the gain is `½ (ε/N) |G|² (1 − κ²)/κ²`, with `ε = Σ w²` of the window and `κ²` the coherence; that
/// of the phase in rad the
/// same without `|G|²` (Ljung 1999, eq. 6.59 and following; Bendat & Piersol, Random Data, section 9.2).
fn spectral(data: &DataSet, interval: f64, lags: usize) -> (FrequencyResponse, Vec<f64>) {
    let samples = data.axis.len();
    let about = |series: &[f64]| -> Vec<f64> {
        let finite = series.iter().filter(|value| value.is_finite());
        let (sum, count) = finite.fold((0.0, 0.0), |(sum, count), value| (sum + value, count + 1.0));
        series.iter().map(|value| if value.is_finite() { value - sum / count } else { 0.0 }).collect()
    };
    let (u, y) = (about(&held(&data.inputs[0].values)), about(&data.output().values));
    let (uu, yy, yu) = (covariances(&u, &u, lags), covariances(&y, &y, lags), covariances(&y, &u, lags));
    let window: Vec<f64> =
        (0..=lags).map(|k| 0.5 * (1.0 + (std::f64::consts::PI * k as f64 / lags as f64).cos())).collect();
    let spectrum = |positive: &[f64], negative: &[f64], omega: f64| {
        (1..=lags).fold(Complex64::from(positive[0]), |sum, k| {
            let turn = Complex64::from_polar(window[k], -omega * interval * k as f64);
            sum + positive[k] * turn + negative[k] * turn.conj()
        })
    };
    let nyquist = std::f64::consts::PI / interval;
    let lowest = (2.0 * nyquist / samples as f64).max(nyquist / lags as f64 * 0.5);
    let all = spaced(lowest, nyquist, FREQUENCIES);
    let energy: f64 = window[0] * window[0] + 2.0 * window[1..].iter().map(|w| w * w).sum::<f64>();
    let (mut omegas, mut values, mut deviations, mut coherence) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for omega in all {
        let (own, other) = (spectrum(&uu.0, &uu.1, omega).re, spectrum(&yy.0, &yy.1, omega).re);
        let cross = spectrum(&yu.0, &yu.1, omega);
        let squared = (cross.norm_sqr() / (own * other).max(f64::MIN_POSITIVE)).clamp(0.0, 1.0);
        if own <= 0.0 || squared < LEAST_COHERENCE {
            continue;
        }
        let value = cross / own;
        let phase = (0.5 * energy / samples as f64 * (1.0 - squared) / squared).sqrt();
        omegas.push(omega);
        values.push(value);
        deviations.push((phase * value.norm(), phase));
        coherence.push(squared);
    }
    (FrequencyResponse::new(omegas, &values, &deviations), coherence)
}

/// `Σ y(t + k) u(t) / N` for `k = 0 … lags`, and for `−k`; by FFT.
fn covariances(y: &[f64], u: &[f64], lags: usize) -> (Vec<f64>, Vec<f64>) {
    let size = (y.len() + lags + 1).next_power_of_two();
    let mut planner = FftPlanner::new();
    let (forward, backward) = (planner.plan_fft_forward(size), planner.plan_fft_inverse(size));
    let transformed = |series: &[f64]| {
        let mut buffer: Vec<Complex64> = series.iter().copied().map(Complex64::from).collect();
        buffer.resize(size, Complex64::ZERO);
        forward.process(&mut buffer);
        buffer
    };
    let mut product: Vec<Complex64> = transformed(y).iter().zip(transformed(u)).map(|(a, b)| a * b.conj()).collect();
    backward.process(&mut product);
    let scale = 1.0 / (size as f64 * y.len() as f64);
    let at = |index: usize| product[index % size].re * scale;
    ((0..=lags).map(at).collect(), (0..=lags).map(|k| at(size - k)).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::Series;
    use crate::series::TimeAxis;
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    /// `y(t) = 0.9 y(t−1) + 0.2 u(t−3)` with coloured noise: gain 2.
    fn data(seed: u64) -> DataSet {
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let mut draw = || -> f64 { StandardNormal.sample(&mut generator) };
        let (mut level, mut x, mut v) = (1.0, 0.0, 0.0);
        let (mut u, mut y) = (Vec::new(), Vec::new());
        for k in 0..3000 {
            if k % 5 == 0 {
                level = if draw() > 0.0 { 1.0 } else { -1.0 };
            }
            u.push(50.0 + level);
            x = 0.9 * x + if k >= 3 { 0.2 * (u[k - 3] - 50.0) } else { 0.0 };
            v = 0.8 * v + 0.1 * draw();
            y.push(20.0 + x + v);
        }
        DataSet::single(TimeAxis::uniform(1.0, 3000).unwrap(), Series::new("OP", "%", u), Series::new("PV", "m", y))
    }

    #[test]
    fn the_bands_hold_the_true_responses_at_about_the_stated_rate() {
        let (mut step_in, mut steps, mut gain_in, mut phase_in, mut points) = (0, 0, 0, 0, 0);
        for seed in 0..20 {
            let found =
                nonparametric(&data(seed), &NonparametricOptions { horizon: Some(50.0), lags: Some(150) }).unwrap();
            for (k, time) in found.step.times.iter().enumerate() {
                let exact = if *time >= 3.0 { 2.0 * (1.0 - 0.9f64.powf(time - 2.0)) } else { 0.0 };
                step_in += usize::from((found.step.values[k] - exact).abs() < found.step.half_widths[k]);
                steps += 1;
            }
            for (k, omega) in
                found.frequency.omegas.iter().enumerate().filter(|(_, omega)| (0.08..0.6).contains(*omega))
            {
                let back = Complex64::from_polar(1.0, -omega);
                let exact = 0.2 * back.powu(3) / (1.0 - 0.9 * back);
                gain_in +=
                    usize::from((found.frequency.gains[k] - exact.norm()).abs() < found.frequency.gain_half_widths[k]);
                let turn = (found.frequency.phases[k] - exact.arg().to_degrees()).rem_euclid(360.0);
                phase_in += usize::from(turn.min(360.0 - turn) < found.frequency.phase_half_widths[k]);
                points += 1;
            }
        }
        let share = |inside: usize, of: usize| inside as f64 / of as f64;
        assert!((0.88..=0.99).contains(&share(step_in, steps)), "{}", share(step_in, steps));
        assert!((0.85..=0.99).contains(&share(gain_in, points)), "{}", share(gain_in, points));
        assert!((0.85..=0.99).contains(&share(phase_in, points)), "{}", share(phase_in, points));
    }

    #[test]
    fn averaging_in_blocks_does_not_shift_the_response() {
        // 240 s in blocks of 4 samples; far from the start the response bends little within a block.
        let data = data(3);
        let found = nonparametric(&data, &NonparametricOptions { horizon: Some(240.0), lags: None }).unwrap();
        assert_eq!((found.block, found.step.times[1]), (4.0, 5.5));
        for (k, time) in found.step.times.iter().enumerate().filter(|(_, time)| (12.0..100.0).contains(*time)) {
            let exact = 2.0 * (1.0 - 0.9f64.powf(time - 2.0));
            assert!(
                (found.step.values[k] - exact).abs() < 1.5 * found.step.half_widths[k] + 0.02,
                "{time}: {} {exact}",
                found.step.values[k]
            );
        }
    }

    #[test]
    fn what_cannot_be_asked_is_refused() {
        let data = data(1);
        let refused =
            |horizon, lags| nonparametric(&data, &NonparametricOptions { horizon, lags }).unwrap_err().to_string();
        assert!(refused(Some(1.0), None).starts_with("The horizon is 1 s"));
        assert!(refused(None, Some(2000)).starts_with("The number of lags is 2000: it must be 4 to 1000"));
    }
}
