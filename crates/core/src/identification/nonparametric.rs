//! Step and frequency response without a structure, with confidence bands.

use super::covariance::{Estimate, NORMAL_95, quantile_95};
use super::data::{DataSet, held};
use super::loss::ScaledLoss;
use super::response::{FrequencyResponse, StepResponse, spaced};
use crate::numerics::NormalEquations;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use rustfft::FftPlanner;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Coefficients of the impulse response that are estimated.
const TAPS: usize = 60;
/// Most frequencies of the frequency response.
const FREQUENCIES: usize = 160;
/// Where the band is wider than this share of the gain over several frequencies, they tell nothing.
const WIDEST_BAND: f64 = 0.7;
/// Frequencies on either side over which that is looked at: a single one that seems sharp by chance is no reason to show it.
const NEIGHBOURS: usize = 5;
/// Delays that are tried, from none to the horizon.
const DELAYS: usize = 16;

/// What is estimated.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NonparametricOptions {
    /// Length of the step response in s; by default a fifth of the data.
    #[serde(default)]
    pub horizon: Option<f64>,
    /// Lines of the spectrum on either side that take part in the estimate at a frequency, 8 to an eighth of the samples for one
    /// input: fewer show finer detail with wider bands. By default as few as can be.
    #[serde(default)]
    pub lines: Option<usize>,
}

/// Responses of the PV to the OP as the data show them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Nonparametric {
    /// From a finite impulse response by least squares, its covariance corrected for coloured residuals.
    pub step: StepResponse,
    /// From the spectra, by the local polynomial method.
    pub frequency: FrequencyResponse,
    /// Coherence of OP and PV at the frequencies, 0 to 1: how much of the PV follows the OP.
    pub coherence: Vec<f64>,
    /// Seconds between the coefficients of the impulse response; longer than the sample time where samples were
    /// averaged.
    pub block: f64,
    /// Lines on either side of each frequency that took part.
    pub lines: usize,
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
    let (fewest, most) = (fewest_lines(3, data.inputs.len(), 9), (data.axis.len() / 8).max(8));
    let lines = options.lines.unwrap_or(fewest);
    if fewest > most || !(fewest..=most).contains(&lines) {
        return Err(Error::invalid("lines", lines, format!("{fewest} to {most}, an eighth of the samples")));
    }
    let (step, block) = impulse_response(data, interval, horizon)?;
    let (frequency, coherence) = spectral(data, interval, lines, horizon);
    Ok(Nonparametric { step, frequency, coherence, block, lines })
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

/// Lines on either side of a frequency that leave this many lines over for the noise.
fn fewest_lines(degree: usize, inputs: usize, spare: usize) -> usize {
    ((degree + 1) * (inputs + 1) + spare) / 2
}

/// What the lines about a frequency say of the response there.
struct Local {
    value: Complex64,
    /// 95 % half width of its real and imaginary part.
    half_width: f64,
    coherence: f64,
    /// Variance of the noise as a share of the power of the PV.
    left: f64,
}

/// The spectra of the inputs and of the output.
struct Spectra {
    inputs: Vec<Vec<Complex64>>,
    output: Vec<Complex64>,
}

impl Spectra {
    fn of(data: &DataSet) -> Self {
        let samples = data.axis.len();
        let forward = FftPlanner::new().plan_fft_forward(samples);
        let transformed = |series: Vec<f64>| {
            let mean = series.iter().sum::<f64>() / samples as f64;
            let mut buffer: Vec<Complex64> = series.iter().map(|value| Complex64::from(value - mean)).collect();
            forward.process(&mut buffer);
            buffer.truncate(samples / 2 + 1);
            buffer
        };
        Self {
            inputs: data.inputs.iter().map(|series| transformed(held(&series.values))).collect(),
            output: transformed(bridged(&data.output().values)),
        }
    }

    /// The inputs as they are `delay` samples later.
    fn delayed(&self, delay: f64, samples: usize) -> Vec<Vec<Complex64>> {
        let turn = |k: usize| Complex64::from_polar(1.0, -std::f64::consts::TAU * k as f64 * delay / samples as f64);
        self.inputs.iter().map(|line| line.iter().enumerate().map(|(k, value)| value * turn(k)).collect()).collect()
    }

    /// The local polynomial method at line `k`: over `lines` lines on either side the response to each input and the
    /// transient of the record's ends are polynomials of this degree. None where the inputs do not tell.
    fn at(&self, inputs: &[Vec<Complex64>], k: usize, lines: usize, degree: usize) -> Option<Local> {
        let last = self.output.len() - 1;
        let from = k.saturating_sub(lines).clamp(1, last.saturating_sub(2 * lines).max(1));
        let places = from..(from + 2 * lines + 1).min(last + 1);
        let terms = degree + 1;
        let count = places.len();
        let offset = |row: usize| ((from + row) as f64 - k as f64) / lines as f64;
        let mut matrix = DMatrix::from_fn(count, terms * (inputs.len() + 1), |row, column| {
            let power = offset(row).powi((column % terms) as i32);
            inputs.get(column / terms).map_or(Complex64::from(power), |line| power * line[from + row])
        });
        let sizes: Vec<f64> = matrix.column_iter().map(|column| column.norm()).collect();
        if sizes.iter().any(|size| *size < 1e-12 * sizes[sizes.len() - terms]) {
            return None;
        }
        for (mut column, size) in matrix.column_iter_mut().zip(&sizes) {
            column /= Complex64::from(*size);
        }
        let measured = DVector::from_iterator(count, self.output[places].iter().copied());
        let qr = matrix.clone().qr();
        let triangle = qr.r();
        let diagonal: Vec<f64> = triangle.diagonal().iter().map(|value| value.norm()).collect();
        if diagonal.iter().copied().fold(f64::MAX, f64::min) < 1e-9 {
            return None;
        }
        let solution = triangle.solve_upper_triangular(&(qr.q().adjoint() * &measured))?;
        let left = (&measured - &matrix * &solution).norm_squared();
        let spare = count.checked_sub(matrix.ncols()).filter(|spare| *spare > 0)?;
        let variance = left / spare as f64;
        // (RᴴR)⁻¹ at the first place: the squared norm of R⁻ᴴ e₁.
        let mut first = DVector::zeros(matrix.ncols());
        first[0] = Complex64::from(1.0);
        let spread = triangle.adjoint().solve_lower_triangular(&first)?.norm_squared() / (sizes[0] * sizes[0]);
        let followed: Complex64 = (0..count)
            .map(|row| (0..terms).map(|c| matrix[(row, c)] * solution[c]).sum::<Complex64>().norm_sqr())
            .map(Complex64::from)
            .sum();
        let noise = variance * count as f64;
        Some(Local {
            value: solution[0] / sizes[0],
            // Real and imaginary part have half of the variance each, and it is known from twice as many real numbers.
            half_width: quantile_95(2.0 * spare as f64) * (0.5 * variance * spread).sqrt(),
            coherence: followed.re / (followed.re + noise).max(f64::MIN_POSITIVE),
            left: variance / (measured.norm_squared() / count as f64).max(f64::MIN_POSITIVE),
        })
    }
}

/// Missing samples along a straight line between their neighbours.
fn bridged(values: &[f64]) -> Vec<f64> {
    let mut bridged = values.to_vec();
    let known: Vec<usize> = (0..values.len()).filter(|k| values[*k].is_finite()).collect();
    for pair in known.windows(2) {
        let (a, b) = (pair[0], pair[1]);
        for (k, value) in bridged[a + 1..b].iter_mut().enumerate() {
            *value = values[a] + (values[b] - values[a]) * (k + 1) as f64 / (b - a) as f64;
        }
    }
    if let (Some(first), Some(last)) = (known.first(), known.last()) {
        bridged[..*first].fill(values[*first]);
        bridged[*last..].fill(values[*last]);
    }
    bridged
}

/// The frequency response by the local polynomial method (Pintelon & Schoukens, System Identification: A Frequency Domain
/// Approach, 2nd ed. 2012, chapter 7; from memory): neither leakage nor smoothing bends it, and its variance is what the
/// polynomials leave over. It is of third degree; where a second degree over fewer lines differs by more than its band, the
/// response bends more than a third degree can, and that one is taken.
///
/// A dead time turns the phase faster than a polynomial follows: of several delays of the inputs the one is taken off that
/// leaves least over.
fn spectral(data: &DataSet, interval: f64, lines: usize, horizon: f64) -> (FrequencyResponse, Vec<f64>) {
    let samples = data.axis.len();
    let spectra = Spectra::of(data);
    let last = spectra.output.len() - 1;
    let mut places: Vec<usize> =
        spaced(1.0, last as f64, FREQUENCIES).into_iter().map(|line| (line.round() as usize).clamp(1, last)).collect();
    places.dedup();
    let left = |delay: f64| -> f64 {
        let inputs = spectra.delayed(delay, samples);
        places.iter().step_by(4).filter_map(|k| Some(spectra.at(&inputs, *k, lines, 3)?.left)).sum()
    };
    let delay = (0..DELAYS)
        .map(|k| k as f64 / (DELAYS - 1) as f64 * horizon / interval)
        .map(|delay| (left(delay), delay))
        .min_by(|a, b| a.0.total_cmp(&b.0))
        .map_or(0.0, |(_, delay)| delay);
    let inputs = spectra.delayed(delay, samples);
    let narrow = fewest_lines(2, inputs.len(), 5).min(lines);
    let found: Vec<(usize, Local)> = places
        .into_iter()
        .filter_map(|k| {
            let wide = spectra.at(&inputs, k, lines, 3)?;
            let close = spectra.at(&inputs, k, narrow, 2);
            let bends = close.filter(|close| (close.value - wide.value).norm() > close.half_width);
            Some((
                k,
                match bends {
                    Some(close) => Local { half_width: close.half_width.max(wide.half_width), ..close },
                    None => wide,
                },
            ))
        })
        .collect();
    let widths: Vec<f64> = found.iter().map(|(_, local)| local.half_width / local.value.norm()).collect();
    let (mut omegas, mut values, mut deviations, mut coherence) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for (i, (k, local)) in found.iter().enumerate() {
        let about = i.saturating_sub(NEIGHBOURS)..(i + NEIGHBOURS + 1).min(widths.len());
        if crate::numerics::median(&mut widths[about].to_vec()) > WIDEST_BAND {
            continue;
        }
        let omega = std::f64::consts::TAU * *k as f64 / (samples as f64 * interval);
        omegas.push(omega);
        values.push(local.value * Complex64::from_polar(1.0, -omega * interval * delay));
        // The angle under which the circle of the band is seen from the origin.
        let angle = if widths[i] < 0.95 { widths[i].asin() } else { std::f64::consts::PI };
        deviations.push((local.half_width / NORMAL_95, angle / NORMAL_95));
        coherence.push(local.coherence.clamp(0.0, 1.0));
    }
    (FrequencyResponse::new(omegas, &values, &deviations), coherence)
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
    fn the_band_of_the_step_response_holds_the_true_one() {
        let (mut step_in, mut steps) = (0, 0);
        for seed in 0..20 {
            let found = nonparametric(&data(seed), &NonparametricOptions { horizon: Some(50.0), lines: None }).unwrap();
            for (k, time) in found.step.times.iter().enumerate() {
                let exact = if *time >= 3.0 { 2.0 * (1.0 - 0.9f64.powf(time - 2.0)) } else { 0.0 };
                step_in += usize::from((found.step.values[k] - exact).abs() < found.step.half_widths[k]);
                steps += 1;
            }
        }
        let share = step_in as f64 / steps as f64;
        assert!((0.88..=0.99).contains(&share), "{share}");
    }

    /// How the OP moves in a record.
    #[derive(Debug, Clone, Copy)]
    enum Moves {
        /// A random sign every five samples.
        Binary,
        /// A sign that turns with a probability of one in twenty.
        Telegraph,
        /// Up, down and back.
        Doublet,
    }

    /// A lag behind a dead time, sampled exactly, with autoregressive noise; the PV is missing at one sample of fifty where
    /// there are gaps.
    struct Case {
        moves: Moves,
        samples: usize,
        dead: usize,
        lag: f64,
        gain: f64,
        memory: f64,
        gaps: bool,
    }

    impl Case {
        fn record(&self, seed: u64) -> DataSet {
            let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
            let mut draw = || -> f64 { StandardNormal.sample(&mut generator) };
            let n = self.samples;
            let mut level = 1.0;
            let u: Vec<f64> = (0..n)
                .map(|k| {
                    match self.moves {
                        Moves::Binary if k % 5 == 0 => level = draw().signum(),
                        // |z| > 1.96 has a probability of 1 in 20.
                        Moves::Telegraph if draw().abs() > 1.96 => level = -level,
                        Moves::Doublet => level = [0.0, 1.0, 1.0, 1.0, -1.0, -1.0, -1.0, 0.0, 0.0, 0.0][10 * k / n],
                        _ => {}
                    }
                    level
                })
                .collect();
            let keep = (-1.0 / self.lag).exp();
            let (mut x, mut v) = (0.0, 0.0);
            for _ in 0..300 {
                v = self.memory * v + 0.1 * draw();
            }
            let y = (0..n).map(|k| {
                v = self.memory * v + 0.1 * draw();
                let seen = 20.0 + x + v;
                x = keep * x + (1.0 - keep) * self.gain * if k >= self.dead { u[k - self.dead] } else { 0.0 };
                if self.gaps && k % 50 == 17 { f64::NAN } else { seen }
            });
            let y: Vec<f64> = y.collect();
            let u = u.into_iter().map(|value| 50.0 + value).collect();
            let axis = TimeAxis::uniform(1.0, n).unwrap();
            DataSet::single(axis, Series::new("OP", "%", u), Series::new("PV", "m", y))
        }

        fn exact(&self, omega: f64) -> Complex64 {
            let (keep, back) = ((-1.0 / self.lag).exp(), Complex64::from_polar(1.0, -omega));
            self.gain * (1.0 - keep) * back.powu(1 + self.dead as u32) / (1.0 - keep * back)
        }
    }

    #[test]
    fn the_bands_of_the_frequency_response_hold_the_true_one_at_every_frequency() {
        // The exact response of a sampled lag (any textbook of sampled systems); shares of points inside their 95 % bands,
        // below and above the corner of the lag, at what is taken when nothing is said.
        let binary =
            Case { moves: Moves::Binary, samples: 3000, dead: 2, lag: 9.5, gain: 2.0, memory: 0.8, gaps: false };
        let late =
            Case { moves: Moves::Telegraph, samples: 2000, dead: 40, lag: 25.0, gain: 1.2, memory: 0.9, gaps: false };
        let short = Case { moves: Moves::Binary, samples: 600, dead: 5, lag: 15.0, gain: 1.0, memory: 0.5, gaps: true };
        let doublet =
            Case { moves: Moves::Doublet, samples: 1500, dead: 10, lag: 30.0, gain: 1.3, memory: 0.5, gaps: false };
        for (name, case) in [("binary", binary), ("late", late), ("short", short), ("doublet", doublet)] {
            let mut counts = [[0usize; 3]; 2];
            for seed in 0..12 {
                let found = nonparametric(&case.record(seed), &NonparametricOptions::default()).unwrap();
                let seen = &found.frequency;
                for (k, omega) in seen.omegas.iter().enumerate() {
                    let exact = case.exact(*omega);
                    let count = &mut counts[usize::from(omega * case.lag > 1.0)];
                    let turn = (seen.phases[k] - exact.arg().to_degrees()).rem_euclid(360.0);
                    count[0] += usize::from((seen.gains[k] - exact.norm()).abs() < seen.gain_half_widths[k]);
                    count[1] += usize::from(turn.min(360.0 - turn) < seen.phase_half_widths[k]);
                    count[2] += 1;
                }
                assert!(found.coherence.iter().all(|share| (0.0..=1.0).contains(share)));
            }
            for [gain_in, phase_in, points] in counts {
                let share = |inside: usize| inside as f64 / points as f64;
                assert!(points > 60, "{name}: {points} points");
                assert!((0.87..=0.995).contains(&share(gain_in)), "{name}: gain {}", share(gain_in));
                assert!((0.87..=0.995).contains(&share(phase_in)), "{name}: phase {}", share(phase_in));
            }
        }
    }

    #[test]
    fn what_moves_besides_is_told_apart() {
        let case = Case { moves: Moves::Binary, samples: 3000, dead: 2, lag: 9.5, gain: 2.0, memory: 0.0, gaps: false };
        let mut record = case.record(3);
        // A disturbance of one sample of dead time adds to the PV far more than the noise.
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(77);
        let mut level = 0.0;
        let feed: Vec<f64> = (0..3000)
            .map(|k| {
                if k % 7 == 0 {
                    level = StandardNormal.sample(&mut generator);
                }
                level
            })
            .collect();
        for k in 1..3000 {
            record.outputs[0].values[k] += 3.0 * feed[k - 1];
        }
        let error = |record: &DataSet| {
            let found = nonparametric(record, &NonparametricOptions::default()).unwrap().frequency;
            let near = found.omegas.iter().position(|omega| *omega > 0.05);
            near.map_or(f64::MAX, |near| (found.gains[near] - case.exact(found.omegas[near]).norm()).abs())
        };
        let alone = error(&record);
        record.inputs.push(Series::new("FI", "t/h", feed));
        let told = error(&record);
        assert!(told < 0.05 && told < alone, "{told} {alone}");
    }

    #[test]
    fn averaging_in_blocks_does_not_shift_the_response() {
        // 240 s in blocks of 4 samples; far from the start the response bends little within a block.
        let data = data(3);
        let found = nonparametric(&data, &NonparametricOptions { horizon: Some(240.0), lines: None }).unwrap();
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
            |horizon, lines| nonparametric(&data, &NonparametricOptions { horizon, lines }).unwrap_err().to_string();
        assert!(refused(Some(1.0), None).starts_with("The horizon is 1 s"));
        assert!(
            refused(None, Some(2000)).contains("lines is 2000: it must be 8 to 375"),
            "{}",
            refused(None, Some(2000))
        );
    }
}
