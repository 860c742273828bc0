//! What a model says of the process: step and frequency response with bands, poles and zeros.

use super::covariance::NORMAL_95;
use super::data::DataSet;
use super::model::Model;
use super::structure::Structure;
use super::{polynomial, state_space};
use crate::numerics::{eigenvalues, roots};
use crate::process::LinearSpec;
use crate::series::TimeAxis;
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The way from one input to one output.
#[derive(Debug, Clone)]
pub(super) enum Transfer {
    /// A transfer function with dead time.
    Process(LinearSpec),
    /// `q⁻ᵈ B / (D₁ D₂ …)`: numerator from lag `delay` on, denominators without their leading 1.
    Rational { numerator: Vec<f64>, delay: usize, denominators: Vec<Vec<f64>>, interval: f64 },
    /// `c (zI − A)⁻¹ b`.
    StateSpace { a: DMatrix<f64>, b: DVector<f64>, c: DVector<f64>, interval: f64 },
}

/// A pole or zero.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Root {
    /// Real part: of `s` in 1/s for transfer functions, of `z` for difference equations.
    pub re: f64,
    /// Imaginary part.
    pub im: f64,
    /// Whether it is of `z`, the unit circle being the limit of stability, and its distance from 0.
    pub discrete_modulus: Option<f64>,
    /// Time constant in s, `−1/Re s`; null where it is not stable or has none.
    pub time_constant: Option<f64>,
    /// Damping ratio of a complex pair.
    pub damping: Option<f64>,
}

impl Root {
    fn continuous(s: Complex64) -> Self {
        Self {
            re: s.re,
            im: s.im,
            discrete_modulus: None,
            time_constant: (s.re < 0.0).then(|| -1.0 / s.re),
            damping: (s.im != 0.0).then(|| -s.re / s.norm()),
        }
    }

    fn discrete(z: Complex64, interval: f64) -> Self {
        let s = z.ln() / interval;
        // A negative real root oscillates with the sample time; it is no continuous pole.
        let same = Self::continuous(s);
        let real_negative = z.im == 0.0 && z.re <= 0.0;
        Self {
            re: z.re,
            im: z.im,
            discrete_modulus: Some(z.norm()),
            time_constant: same.time_constant.filter(|tau| !real_negative && tau.is_finite()),
            damping: same.damping.filter(|_| !real_negative && z.im != 0.0),
        }
    }
}

impl Transfer {
    /// `G` at `omega` rad/s.
    pub(super) fn at(&self, omega: f64) -> Complex64 {
        match self {
            Self::Process(spec) => spec.response(omega),
            Self::Rational { numerator, delay, denominators, interval } => {
                let back = Complex64::from_polar(1.0, -omega * interval);
                let polynomial = |coefficients: &[f64]| {
                    coefficients.iter().rev().fold(Complex64::ZERO, |sum, value| sum * back + value)
                };
                let monic = |tail: &Vec<f64>| polynomial(tail) * back + 1.0;
                polynomial(numerator) * back.powu(*delay as u32) / denominators.iter().map(monic).product::<Complex64>()
            }
            Self::StateSpace { a, b, c, interval } => {
                let z = Complex64::from_polar(1.0, omega * interval);
                let n = a.nrows();
                let resolvent = DMatrix::from_fn(n, n, |i, j| if i == j { z } else { Complex64::ZERO } - a[(i, j)]);
                let states = resolvent.lu().solve(&b.map(Complex64::from));
                states.map_or(Complex64::new(f64::INFINITY, 0.0), |x| x.iter().zip(c.iter()).map(|(x, c)| x * c).sum())
            }
        }
    }

    /// The response to a unit step at 0, at `count` times `interval` seconds apart; difference equations at their own
    /// sample time.
    pub(super) fn step(&self, interval: f64, count: usize) -> Result<Vec<f64>> {
        match self {
            Self::Process(spec) => {
                let axis = TimeAxis::uniform(interval, count)?;
                spec.response_to(&axis, &vec![1.0; count])
            }
            Self::Rational { numerator, delay, denominators, .. } => {
                let mut series = vec![0.0; count];
                let mut sum = 0.0;
                for (k, value) in series.iter_mut().enumerate() {
                    if k >= *delay {
                        sum += numerator.get(k - delay).copied().unwrap_or(0.0);
                    }
                    *value = sum;
                }
                Ok(denominators.iter().fold(series, |series, tail| polynomial::through(&series, tail)))
            }
            Self::StateSpace { a, b, c, .. } => {
                let mut state = DVector::zeros(a.nrows());
                Ok((0..count)
                    .map(|_| {
                        let output = c.dot(&state);
                        state = a * &state + b;
                        output
                    })
                    .collect())
            }
        }
    }

    pub(super) fn interval(&self) -> Option<f64> {
        match self {
            Self::Process(_) => None,
            Self::Rational { interval, .. } | Self::StateSpace { interval, .. } => Some(*interval),
        }
    }

    fn poles(&self) -> Vec<Root> {
        match self {
            Self::Process(spec) => spec.poles().into_iter().map(Root::continuous).collect(),
            Self::Rational { denominators, interval, .. } => {
                denominators.iter().flat_map(|tail| roots(tail)).map(|z| Root::discrete(z, *interval)).collect()
            }
            Self::StateSpace { a, interval, .. } => {
                eigenvalues(a.clone()).into_iter().map(|z| Root::discrete(z, *interval)).collect()
            }
        }
    }

    fn zeros(&self) -> Vec<Root> {
        match self {
            Self::Process(LinearSpec::TwoLags { lead_time_constant, .. }) if *lead_time_constant != 0.0 => {
                vec![Root::continuous(Complex64::new(-1.0 / lead_time_constant, 0.0))]
            }
            Self::Process(_) => Vec::new(),
            Self::Rational { numerator, interval, .. } => zeros_of(numerator, *interval),
            Self::StateSpace { a, b, c, interval } => {
                // Numerator = denominator times the impulse response c b, c A b, …
                let mut tail = vec![1.0];
                for root in eigenvalues(a.clone()) {
                    if root.im < 0.0 {
                        continue;
                    }
                    let factor =
                        if root.im > 0.0 { vec![1.0, -2.0 * root.re, root.norm_sqr()] } else { vec![1.0, -root.re] };
                    tail = product(&tail, &factor);
                }
                let mut state = b.clone();
                let mut impulse = Vec::with_capacity(a.nrows());
                for _ in 0..a.nrows() {
                    impulse.push(c.dot(&state));
                    state = a * state;
                }
                let numerator: Vec<f64> =
                    (0..impulse.len()).map(|k| (0..=k).map(|j| tail[j] * impulse[k - j]).sum()).collect();
                zeros_of(&numerator, *interval)
            }
        }
    }

    /// Seconds until the step response has settled, as far as that can be told from the slowest pole; dead time
    /// included.
    pub(super) fn settling(&self) -> f64 {
        let slowest = self.poles().iter().filter_map(|pole| pole.time_constant).fold(0.0, f64::max);
        match self {
            Self::Process(spec) => spec.dead_time() + 6.0 * slowest.max(spec.dead_time() / 6.0),
            Self::Rational { interval, delay, numerator, .. } => {
                (delay + numerator.len()) as f64 * interval + 6.0 * slowest.max(2.0 * interval)
            }
            Self::StateSpace { interval, .. } => 6.0 * slowest.max(3.0 * interval),
        }
    }
}

fn product(a: &[f64], b: &[f64]) -> Vec<f64> {
    let mut result = vec![0.0; a.len() + b.len() - 1];
    for (i, x) in a.iter().enumerate() {
        b.iter().enumerate().for_each(|(j, y)| result[i + j] += x * y);
    }
    result
}

fn zeros_of(numerator: &[f64], interval: f64) -> Vec<Root> {
    let Some(first) = numerator.iter().position(|value| *value != 0.0) else { return Vec::new() };
    let tail: Vec<f64> = numerator[first + 1..].iter().map(|value| value / numerator[first]).collect();
    roots(&tail).into_iter().map(|z| Root::discrete(z, interval)).collect()
}

/// A response with its 95 % band.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StepResponse {
    /// Times in s since the step.
    pub times: Vec<f64>,
    /// PV units per unit of the input.
    pub values: Vec<f64>,
    /// Half width of the 95 % band; empty where there is no covariance.
    pub half_widths: Vec<f64>,
}

/// A frequency response with its 95 % bands.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FrequencyResponse {
    /// Angular frequencies in rad/s.
    pub omegas: Vec<f64>,
    /// Gain, PV units per unit of the input.
    pub gains: Vec<f64>,
    /// Half width of the 95 % band of the gain; empty where there is no covariance.
    pub gain_half_widths: Vec<f64>,
    /// Phase in degrees, continuous along the frequencies.
    pub phases: Vec<f64>,
    /// Half width of the 95 % band of the phase in degrees.
    pub phase_half_widths: Vec<f64>,
}

impl FrequencyResponse {
    /// From complex values and, where known, the standard deviations of gain and phase (in rad).
    pub(super) fn new(omegas: Vec<f64>, values: &[Complex64], deviations: &[(f64, f64)]) -> Self {
        let mut phases: Vec<f64> = Vec::with_capacity(values.len());
        for value in values {
            let mut phase = value.arg().to_degrees();
            if let Some(last) = phases.last() {
                phase -= 360.0 * ((phase - last) / 360.0).round();
            }
            phases.push(phase);
        }
        Self {
            omegas,
            gains: values.iter().map(|value| value.norm()).collect(),
            gain_half_widths: deviations.iter().map(|(gain, _)| NORMAL_95 * gain).collect(),
            phases,
            phase_half_widths: deviations
                .iter()
                .map(|(_, phase)| (NORMAL_95 * phase).to_degrees().min(180.0))
                .collect(),
        }
    }
}

/// Points of a response curve.
const POINTS: usize = 240;

/// `count` frequencies from `low` to `high`, evenly spaced in their logarithms.
pub(super) fn spaced(low: f64, high: f64, count: usize) -> Vec<f64> {
    (0..count).map(|k| low * (high / low).powf(k as f64 / (count - 1) as f64)).collect()
}

impl Model {
    /// The poles of the way from the OP to the PV.
    #[must_use]
    pub fn poles(&self) -> Vec<Root> {
        self.transfer(0, 0).map(|transfer| transfer.poles()).unwrap_or_default()
    }

    /// The zeros of the way from the OP to the PV, dead time aside.
    #[must_use]
    pub fn zeros(&self) -> Vec<Root> {
        self.transfer(0, 0).map(|transfer| transfer.zeros()).unwrap_or_default()
    }

    /// Whether the structure says how the noise is coloured.
    #[must_use]
    pub fn has_noise_model(&self) -> bool {
        self.noise.is_some()
            || self.rows.iter().any(Self::has_noise_model)
            || matches!(
                self.structure,
                Structure::Arx { .. }
                    | Structure::Armax { .. }
                    | Structure::BoxJenkins { .. }
                    | Structure::StateSpace { .. }
            )
    }

    /// The way from one input to one output.
    pub(super) fn transfer(&self, input: usize, output: usize) -> Result<Transfer> {
        let Some(signal) = self.inputs.get(input) else {
            return Err(Error::invalid("input", input, format!("0 to {}", self.inputs.len() - 1)));
        };
        if output >= self.outputs.len() {
            return Err(Error::invalid("output", output, format!("0 to {}", self.outputs.len() - 1)));
        }
        let interval = self.sample_time.unwrap_or(1.0);
        if let Some(shape) = polynomial::Shape::of(self.structure, self.inputs.len()) {
            let values = self.values();
            return Ok(Transfer::Rational {
                numerator: shape.b(&values, input).to_vec(),
                delay: shape.delay(),
                denominators: vec![shape.a(&values).to_vec(), shape.f(&values, input).to_vec()],
                interval,
            });
        }
        if let Some((row, place)) = self.cell(input, output) {
            let place = place.ok_or_else(|| {
                Error::unfit(
                    format!("nothing goes from {} to {}", signal.tag, self.outputs[output].tag),
                    "choose another cell",
                )
            })?;
            return row.transfer(place, 0);
        }
        if let Some(matrices) = &self.matrices {
            let system = state_space::System::of(matrices);
            let (b, c) = (system.b.column(input).into_owned(), system.c.row(output).transpose());
            return Ok(Transfer::StateSpace { a: system.a, b, c, interval });
        }
        Ok(Transfer::Process(self.process_of(input, &signal.tag)?))
    }

    /// Derivatives of what `read` makes of the way from an input to an output by the parameters with a covariance, and
    /// that covariance.
    ///
    /// State spaces have neither; their bands come from [`state_space::entry_covariance`].
    fn sensitivities(
        &self,
        data: Option<&DataSet>,
        (input, output): (usize, usize),
        read: impl Fn(&Transfer) -> Result<Vec<f64>>,
    ) -> Result<Option<(DMatrix<f64>, DMatrix<f64>)>> {
        let base = read(&self.transfer(input, output)?)?;
        let (variants, covariance) = match (&self.matrices, data) {
            (Some(_), Some(data)) => {
                let Some((steps, covariance)) = state_space::entry_covariance(self, data) else { return Ok(None) };
                let moved = |k: usize, by: f64| state_space::with_entry(self, k, by);
                (
                    steps.into_iter().enumerate().map(|(k, h)| (h, moved(k, h), moved(k, -h))).collect::<Vec<_>>(),
                    covariance,
                )
            }
            (Some(_), None) => return Ok(None),
            _ if self.covariance.is_empty() => return Ok(None),
            _ => {
                let count = self.covariance.len();
                let covariance = DMatrix::from_fn(count, count, |i, j| self.covariance[i][j]);
                let moved = |k: usize, by: f64| {
                    let mut model = self.clone();
                    model.parameters[k].value += by;
                    model
                };
                let variants = (0..count)
                    .map(|k| {
                        // Small beside the uncertainty, and such that no time leaves its range.
                        let value = self.parameters[k].value.abs();
                        let error = covariance[(k, k)].sqrt();
                        let h = (1e-3 * error).min(if value > 0.0 { 1e-3 * value } else { f64::MAX });
                        (h, moved(k, h), moved(k, -h))
                    })
                    .collect();
                (variants, covariance)
            }
        };
        let mut jacobian = DMatrix::zeros(base.len(), variants.len());
        for (k, (h, above, below)) in variants.iter().enumerate() {
            if *h > 0.0
                && let (Ok(high), Ok(low)) = (above.transfer(input, output), below.transfer(input, output))
                && let (Ok(high), Ok(low)) = (read(&high), read(&low))
            {
                (0..base.len()).for_each(|i| jacobian[(i, k)] = (high[i] - low[i]) / (2.0 * h));
            }
        }
        Ok(Some((jacobian, covariance)))
    }

    /// The response of an output to a unit step of an input, with the band from the covariance of the parameters (by
    /// linearisation); for
    /// state spaces the data of the fit are needed for the band. `horizon` in s; by default until it has settled.
    pub fn step_response(
        &self,
        data: Option<&DataSet>,
        input: usize,
        output: usize,
        horizon: Option<f64>,
    ) -> Result<StepResponse> {
        if let Some((row, Some(place))) = self.cell(input, output) {
            return row.step_response(data.map(|data| row.own_data(data)).as_deref(), place, 0, horizon);
        }
        let transfer = self.transfer(input, output)?;
        let horizon = horizon.unwrap_or_else(|| transfer.settling());
        let (interval, count) = match transfer.interval() {
            Some(interval) => (interval, ((horizon / interval).ceil() as usize + 1).clamp(2, 20_000)),
            None => (horizon / (POINTS - 1) as f64, POINTS),
        };
        let every = count.div_ceil(POINTS);
        let read = |transfer: &Transfer| -> Result<Vec<f64>> {
            Ok(transfer.step(interval, count)?.into_iter().step_by(every).collect())
        };
        let values = read(&transfer)?;
        let half_widths = match self.sensitivities(data, (input, output), read)? {
            Some((jacobian, covariance)) => {
                variances(&jacobian, &covariance).map(|v| NORMAL_95 * v.max(0.0).sqrt()).collect()
            }
            None => Vec::new(),
        };
        let times = (0..values.len()).map(|k| (k * every) as f64 * interval).collect();
        Ok(StepResponse { times, values, half_widths })
    }

    /// The frequency response from an input to an output, with bands like those of
    /// [`step_response`](Self::step_response).
    pub fn frequency_response(&self, data: Option<&DataSet>, input: usize, output: usize) -> Result<FrequencyResponse> {
        if let Some((row, Some(place))) = self.cell(input, output) {
            return row.frequency_response(data.map(|data| row.own_data(data)).as_deref(), place, 0);
        }
        let transfer = self.transfer(input, output)?;
        let slowest = 1.0 / transfer.settling();
        let high = transfer.interval().map_or(400.0 * slowest, |interval| std::f64::consts::PI / interval);
        let omegas = spaced((0.3 * slowest).min(0.1 * high), high, POINTS);
        let complex: Vec<Complex64> = omegas.iter().map(|omega| transfer.at(*omega)).collect();
        // Of the logarithm of G the real part is that of the gain, the imaginary part the phase.
        let read = |moved: &Transfer| -> Result<Vec<f64>> {
            Ok(omegas
                .iter()
                .zip(&complex)
                .flat_map(|(omega, own)| {
                    let ratio = (moved.at(*omega) / own).ln();
                    [ratio.re * own.norm(), ratio.im]
                })
                .collect())
        };
        let deviations: Vec<(f64, f64)> = match self.sensitivities(data, (input, output), read)? {
            Some((jacobian, covariance)) => {
                let all: Vec<f64> = variances(&jacobian, &covariance).map(|v| v.max(0.0).sqrt()).collect();
                all.chunks(2).map(|pair| (pair[0], pair[1])).collect()
            }
            None => Vec::new(),
        };
        Ok(FrequencyResponse::new(omegas.clone(), &complex, &deviations))
    }
}

/// `j Σ jᵀ` for each row `j`.
fn variances(jacobian: &DMatrix<f64>, covariance: &DMatrix<f64>) -> impl Iterator<Item = f64> {
    let product = jacobian * covariance;
    (0..jacobian.nrows()).map(|i| product.row(i).dot(&jacobian.row(i))).collect::<Vec<_>>().into_iter()
}
