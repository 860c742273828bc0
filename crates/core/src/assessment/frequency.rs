//! A linear loop on a grid of frequencies: sensitivities at once for many settings, and the curves of the frequency views.

use super::SampledLoop;
use crate::Result;
use crate::controller::{ControllerSpec, PidSettings, SmithSettings};
use crate::numerics::peak;
use crate::units::Span;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
use utoipa::ToSchema;

/// Frequencies of a grid, from far below anything that happens to half the sampling rate.
const MOST: usize = 20_000;

/// Frequencies in rad/s, by a twentieth from one to the next and no further apart than `widest`.
pub(super) fn curve_points(lowest: f64, highest: f64, widest: f64) -> Vec<f64> {
    let mut omega = lowest.min(0.1 * highest);
    let mut all = vec![omega];
    while omega < highest && all.len() < MOST {
        omega = (omega + (0.05 * omega).min(widest)).min(highest);
        all.push(omega);
    }
    all
}

/// The highest of some values over frequency and where it is, sought between its neighbours.
pub(super) fn highest(omega: &[f64], values: &[f64], of: &dyn Fn(f64) -> f64) -> Option<(f64, f64)> {
    let best = (0..values.len()).max_by(|a, b| values[*a].total_cmp(&values[*b]))?;
    let (low, high) = (omega[best.saturating_sub(1)], omega[(best + 1).min(omega.len() - 1)]);
    let (place, height) = peak(low, high, of);
    Some(if height > values[best] { (place, height) } else { (omega[best], values[best]) })
}

/// A plant on a grid of frequencies dense enough that a turn about −1 is not missed at usual margins.
pub struct FrequencyGrid {
    /// Frequencies in rad/s.
    pub omega: Vec<f64>,
    /// The sampled process there, % of span per % of OP.
    pub process: Vec<Complex64>,
    scan: f64,
    /// `exp(iωh)` there, h being the scan.
    z: Vec<Complex64>,
    /// Quarter turns that the curve of a stable loop makes on its way, without the controller's.
    integrators: usize,
    unstable_poles: usize,
    /// What each frequency counts in the variance of the output and of its move.
    noise_weights: Vec<(f64, f64)>,
}

/// What a grid tells of a closed loop.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OnGrid {
    /// Whether it is stable.
    pub stable: bool,
    /// The largest |1/(1 + L)| on the grid, refined between its neighbours by a parabola.
    pub max_sensitivity: f64,
    /// Standard deviation of the output in % for white noise of 1 % at the sensor, one value a scan.
    pub noise_to_output: f64,
    /// Standard deviation of the move of the output from scan to scan, %.
    pub noise_to_move: f64,
}

impl FrequencyGrid {
    /// The grid for a loop whose controller has no time longer than `slowest` seconds and no delay longer than `delay`.
    #[must_use]
    pub fn new(sampled: &SampledLoop, slowest: f64, delay: f64) -> Self {
        let scan = sampled.scan();
        let highest = PI / scan * (1.0 - 1e-9);
        let widest = 0.15 / (sampled.dead_time() + scan + delay);
        let all = curve_points(2e-3 / slowest.max(sampled.slowest()), highest, widest);
        let width = |k: usize| {
            let before = if k > 0 { all[k - 1] } else { 0.0 };
            0.5 * (all.get(k + 1).copied().unwrap_or(all[k]) - before)
        };
        // Noise of the sensor goes through the filter before it comes to the controller.
        let weight = |k: usize| width(k) * sampled.filter(all[k]).norm_sqr();
        let noise_weights =
            (0..all.len()).map(|k| (weight(k), weight(k) * (2.0 * (0.5 * all[k] * scan).sin()).powi(2))).collect();
        Self {
            process: all.iter().map(|omega| sampled.process(*omega)).collect(),
            noise_weights,
            z: all.iter().map(|omega| Complex64::from_polar(1.0, omega * scan)).collect(),
            omega: all,
            scan,
            integrators: sampled.integrators(),
            unstable_poles: sampled.unstable_poles(),
        }
    }

    /// The response of a function of frequency on the grid.
    pub fn map(&self, response: impl Fn(f64) -> Complex64) -> Vec<Complex64> {
        self.omega.iter().map(|omega| response(*omega)).collect()
    }

    /// The loop with this response of the controller, which has so many poles at the origin and outside.
    #[must_use]
    pub fn close(&self, controller: &[Complex64], integrators: usize, unstable: usize) -> OnGrid {
        self.evaluate(integrators, unstable, |k| (self.process[k] * controller[k], controller[k].norm_sqr()))
    }

    /// Whether a loop is stable whose `1 + L` turns by so much about the origin.
    fn is_stable(&self, turned: f64, integrators: usize, unstable: usize) -> bool {
        let expected =
            (self.integrators + integrators) as f64 * PI / 2.0 + (self.unstable_poles + unstable) as f64 * PI;
        (turned - expected).abs() < PI / 2.0
    }

    /// The loop whose open loop and squared size of the controller at the k-th frequency are `at(k)`.
    ///
    /// The turns of `1 + L` about the origin are counted by its crossings of the negative real axis.
    fn evaluate(&self, integrators: usize, unstable: usize, at: impl Fn(usize) -> (Complex64, f64)) -> OnGrid {
        let (mut nearest, mut nearest_at) = (f64::INFINITY, 0);
        let (mut noise, mut moves) = (0.0, 0.0);
        let mut turns = Turns::from(1.0 + at(0).0);
        for (k, (weight, move_weight)) in self.noise_weights.iter().enumerate() {
            let (opened, feedback) = at(k);
            let distance = 1.0 + opened;
            turns.to(distance);
            let square = distance.norm_sqr();
            if square < nearest {
                (nearest, nearest_at) = (square, k);
            }
            let through = feedback / square;
            noise += through * weight;
            moves += through * move_weight;
        }
        let to_deviation = |sum: f64| (sum * self.scan / PI).sqrt();
        let height = |k: usize| (1.0 + at(k).0).norm_sqr().recip();
        OnGrid {
            stable: self.is_stable(turns.turned(), integrators, unstable),
            max_sensitivity: refined_peak(&self.omega, nearest_at, height).sqrt(),
            noise_to_output: to_deviation(noise),
            noise_to_move: to_deviation(moves),
        }
    }
}

/// How far a curve turns about the origin, by its crossings of the negative real axis.
struct Turns {
    first: Complex64,
    last: Complex64,
    crossings: i64,
}

impl Turns {
    fn from(first: Complex64) -> Self {
        Self { first, last: first, crossings: 0 }
    }

    fn to(&mut self, next: Complex64) {
        let last = self.last;
        if (next.im < 0.0) != (last.im < 0.0) && next.re.min(last.re) < 0.0 {
            // Where the chord meets the real axis.
            let share = last.im / (last.im - next.im);
            if last.re + share * (next.re - last.re) < 0.0 {
                self.crossings += if next.im < 0.0 { 1 } else { -1 };
            }
        }
        self.last = next;
    }

    fn turned(&self) -> f64 {
        self.last.arg() - self.first.arg() + 2.0 * PI * self.crossings as f64
    }
}

/// The height of the highest point of a curve, `best`, with a parabola through it and its neighbours over the logarithm of ω.
fn refined_peak(omega: &[f64], best: usize, height: impl Fn(usize) -> f64) -> f64 {
    let top = height(best);
    if best == 0 || best + 1 >= omega.len() {
        return top;
    }
    let x = |k: usize| (omega[k] / omega[best]).ln();
    let (left, right) = (x(best - 1), x(best + 1));
    let (a, b) = (height(best - 1) - top, height(best + 1) - top);
    // y = p x + q x² through the origin and both neighbours.
    let q = (a / left - b / right) / (left - right);
    let p = a / left - q * left;
    if q >= 0.0 { top } else { top - 0.25 * p * p / q }
}

/// What a Smith predictor adds to its PID controller, on a grid: the same for all settings of that.
pub struct Prediction {
    /// What is still to come of the moves made, `G₀ − F G`.
    ahead: Vec<Complex64>,
    /// The filter through which the measurement comes.
    filter: Vec<Complex64>,
}

impl Prediction {
    /// That of a predictor with this model and filter.
    pub fn new(grid: &FrequencyGrid, settings: &SmithSettings, pv_span: &Span) -> Result<Self> {
        Ok(Self {
            ahead: grid.map(settings.prediction(pv_span, grid.scan)?),
            filter: grid.map(|omega| settings.filter_response(omega, grid.scan)),
        })
    }
}

/// The frequency response of a loop with controllers of the family `gain × this`, cheap to close for many gains.
pub struct Family {
    /// The loop with the PID controller of gain 1.
    opened: Vec<Complex64>,
    /// |PID controller of gain 1|², with what filters its PV.
    feedback: Vec<f64>,
    /// Of a Smith predictor, the loop inside with gain 1: `C D`.
    inner: Option<Vec<Complex64>>,
    /// Poles of the PID controller at the origin.
    integrators: usize,
}

impl Family {
    /// That of PID settings, whose gain does not count.
    #[must_use]
    pub fn pid(grid: &FrequencyGrid, settings: &PidSettings) -> Self {
        let unit = PidSettings { gain: 1.0, ..settings.clone() };
        let feedback: Vec<Complex64> = grid.z.iter().map(|z| unit.response_at(*z, grid.scan)).collect();
        Self::new(grid, &feedback, None, settings.integrators())
    }

    /// That of a Smith predictor with these PID settings, whose gain does not count.
    #[must_use]
    pub fn smith(grid: &FrequencyGrid, prediction: &Prediction, settings: &PidSettings) -> Self {
        let unit = PidSettings { gain: 1.0, ..settings.clone() };
        let pid: Vec<Complex64> = grid.z.iter().map(|z| unit.response_at(*z, grid.scan)).collect();
        let with = |other: &[Complex64]| pid.iter().zip(other).map(|(pid, other)| pid * other).collect::<Vec<_>>();
        Self::new(grid, &with(&prediction.filter), Some(with(&prediction.ahead)), settings.integrators())
    }

    /// That of a controller with this response on the grid, at a gain of 1, and so many poles at the origin.
    #[must_use]
    pub fn of_response(grid: &FrequencyGrid, feedback: &[Complex64], integrators: usize) -> Self {
        Self::new(grid, feedback, None, integrators)
    }

    fn new(grid: &FrequencyGrid, feedback: &[Complex64], inner: Option<Vec<Complex64>>, integrators: usize) -> Self {
        Self {
            opened: grid.process.iter().zip(feedback).map(|(process, feedback)| process * feedback).collect(),
            feedback: feedback.iter().map(Complex64::norm_sqr).collect(),
            inner,
            integrators,
        }
    }

    /// The loop with a controller of this gain.
    #[must_use]
    pub fn close(&self, grid: &FrequencyGrid, gain: f64) -> OnGrid {
        self.close_on(grid, gain, 1.0)
    }

    /// The same on a process whose gain is `ratio` times that of the grid.
    #[must_use]
    pub fn close_on(&self, grid: &FrequencyGrid, gain: f64, ratio: f64) -> OnGrid {
        let (factor, square) = (gain * ratio, gain * gain);
        match &self.inner {
            None => grid.evaluate(self.integrators, 0, |k| (factor * self.opened[k], square * self.feedback[k])),
            Some(inner) => {
                let mut turns = Turns::from(1.0 + gain * inner[0]);
                inner.iter().for_each(|inner| turns.to(1.0 + gain * inner));
                let unstable = poles_outside(&turns);
                grid.evaluate(self.integrators, unstable, |k| {
                    let within = 1.0 + gain * inner[k];
                    (factor * self.opened[k] / within, square * self.feedback[k] / within.norm_sqr())
                })
            }
        }
    }
}

/// Poles that the loop inside has in the right half-plane.
fn poles_outside(inside: &Turns) -> usize {
    (-inside.turned() / PI).round().max(0.0) as usize
}

impl Family {
    /// Whether the loop with a controller of this gain is stable and keeps its maximum sensitivity at `limit` or below: as
    /// [`Family::close`] finds it, but given up at the first frequency at which it does not.
    #[must_use]
    pub fn keeps(&self, grid: &FrequencyGrid, gain: f64, limit: f64) -> bool {
        let least = limit.powi(-2);
        let inside = |k: usize| self.inner.as_ref().map_or(Complex64::ONE, |inner| 1.0 + gain * inner[k]);
        // 1 + L is the whole over what is inside: no division on the way.
        let whole = |k: usize| inside(k) + gain * self.opened[k];
        let (mut of_whole, mut of_inside) = (Turns::from(whole(0)), Turns::from(inside(0)));
        let (mut nearest, mut nearest_at) = (f64::INFINITY, 0);
        for k in 0..self.opened.len() {
            let within = inside(k);
            let all = within + gain * self.opened[k];
            let (square, scale) = (all.norm_sqr(), within.norm_sqr());
            if square < least * scale {
                return false;
            }
            if square < nearest * scale {
                (nearest, nearest_at) = (square / scale, k);
            }
            of_whole.to(all);
            if self.inner.is_some() {
                of_inside.to(within);
            }
        }
        let turned = of_whole.turned() - of_inside.turned();
        let height = |k: usize| inside(k).norm_sqr() / whole(k).norm_sqr();
        grid.is_stable(turned, self.integrators, poles_outside(&of_inside))
            && refined_peak(&grid.omega, nearest_at, height).sqrt() <= limit
    }
}

/// A loop over frequency, for drawing. Sizes are factors, phases in degrees.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FrequencyCurves {
    /// Angular frequencies in rad/s.
    pub omega: Vec<f64>,
    /// |L|, the open loop.
    pub loop_gain: Vec<f64>,
    /// Phase of L, without jumps, in degrees.
    pub loop_phase: Vec<f64>,
    /// L, its real part.
    pub loop_real: Vec<f64>,
    /// L, its imaginary part.
    pub loop_imaginary: Vec<f64>,
    /// |S| = |1/(1 + L)|, from a load at the PV to the PV.
    pub sensitivity: Vec<f64>,
    /// |T| = |L/(1 + L)|, from noise or the set point to the PV.
    pub complementary: Vec<f64>,
    /// |G S|, from a load where the OP acts to the PV, % of span per %.
    pub load_sensitivity: Vec<f64>,
    /// |C S|, from noise at the PV to the OP, % per % of span.
    pub noise_sensitivity: Vec<f64>,
}

impl SampledLoop {
    /// Standard deviations of the output and of its move from scan to scan, in % for white noise of 1 % at the PV; None where
    /// the controller is not linear.
    pub fn noise_to_output(&self, controller: &ControllerSpec) -> Result<Option<(f64, f64)>> {
        let Some(opened) = self.with(controller)? else { return Ok(None) };
        let grid = FrequencyGrid::new(self, opened.lowest.recip() * 2e-2, opened.delay);
        let feedback: Vec<Complex64> =
            grid.omega.iter().zip(&grid.process).map(|(omega, process)| (opened.response)(*omega) / process).collect();
        // Poles do not matter for the noise.
        let point = grid.close(&feedback, 0, 0);
        Ok(Some((point.noise_to_output, point.noise_to_move)))
    }
}

/// Points of curves for drawing, at most.
const DRAWN: usize = 1200;

impl FrequencyCurves {
    /// The curves of a loop with a controller; None where the controller is not linear.
    pub fn new(sampled: &SampledLoop, controller: &ControllerSpec) -> Result<Option<Self>> {
        let Some(opened) = sampled.with(controller)? else { return Ok(None) };
        let grid = FrequencyGrid::new(sampled, opened.lowest.recip() * 2e-2, opened.delay);
        let points = grid.omega.iter().zip(&grid.process);
        Ok(Some(Self::through(points.map(|(omega, process)| (*omega, *process, (opened.response)(*omega))))))
    }

    /// The curves through frequencies with what the controller sees of the process there, and the open loop.
    pub(super) fn through(points: impl ExactSizeIterator<Item = (f64, Complex64, Complex64)>) -> Self {
        let every = points.len().div_ceil(DRAWN).max(1);
        let mut curves = Self {
            omega: Vec::new(),
            loop_gain: Vec::new(),
            loop_phase: Vec::new(),
            loop_real: Vec::new(),
            loop_imaginary: Vec::new(),
            sensitivity: Vec::new(),
            complementary: Vec::new(),
            load_sensitivity: Vec::new(),
            noise_sensitivity: Vec::new(),
        };
        let (mut phase, mut last): (f64, Option<Complex64>) = (0.0, None);
        for (k, (omega, process, l)) in points.enumerate() {
            phase += last.map_or_else(|| l.arg(), |before| (l / before).arg());
            last = Some(l);
            // What is dense below where anything happens is thinned; the rest is drawn as it is.
            if k % every != 0 {
                continue;
            }
            let s = (1.0 + l).inv();
            curves.omega.push(omega);
            curves.loop_gain.push(l.norm());
            curves.loop_phase.push(phase.to_degrees());
            curves.loop_real.push(l.re);
            curves.loop_imaginary.push(l.im);
            curves.sensitivity.push(s.norm());
            curves.complementary.push((l * s).norm());
            curves.load_sensitivity.push((process * s).norm());
            curves.noise_sensitivity.push((l / process * s).norm());
        }
        curves
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::LinearSpec;
    use crate::simulation::Plant;
    use crate::simulation::{Candidate, Scenario, TRIAL_VERSION, Trial};
    use proptest::prelude::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]
        /// Given up early or gone through to the end: a gain keeps a limit by either way, of PID controllers and predictors.
        #[test]
        fn what_is_given_up_early_does_not_keep_the_limit(
            (lag, late, gain) in (1f64..100.0, 0f64..40.0, -3f64..3.0),
            (kc, ti, ratio) in (-3f64..2.5, 0.2f64..5.0, 0f64..0.4),
            limit in 1.1f64..3.0,
            predicts in any::<bool>(),
        ) {
            let (gain, lag) = (if gain.abs() < 0.1 { 0.1 } else { gain }, lag.max(0.05 * late));
            let process = LinearSpec::Fopdt { gain, time_constant: lag, dead_time: late };
            let pid = PidSettings {
                derivative_time: ratio * ti * (lag + late),
                action: crate::controller::Action::for_gain(gain),
                ..PidSettings::pi(1.0, ti * (0.1 * lag + late))
            };
            let model = LinearSpec::Fopdt { gain, time_constant: lag, dead_time: 0.8 * late };
            let smith = SmithSettings { pid: pid.clone(), model, filter_time: 0.0 };
            let controller = if predicts { ControllerSpec::Smith(smith.clone()) } else { ControllerSpec::Pid(pid.clone()) };
            let plant = Plant::usual(process.into(), "X").unwrap();
            let span = plant.pv.span.clone();
            let scenario = Scenario { duration: 10.0, scan: 0.5, seed: 0, events: Vec::new(), further: Default::default() };
            let candidate = Candidate::new(controller);
            let sampled =
                SampledLoop::of(&Trial { version: TRIAL_VERSION, plant, candidate, scenario }).unwrap().unwrap();
            let grid = FrequencyGrid::new(&sampled, 30.0 * (lag + late), late);
            let prediction = Prediction::new(&grid, &smith, &span).unwrap();
            let family = if predicts { Family::smith(&grid, &prediction, &pid) } else { Family::pid(&grid, &pid) };
            let closed = family.close(&grid, kc.exp());
            prop_assert_eq!(family.keeps(&grid, kc.exp(), limit), closed.stable && closed.max_sensitivity <= limit);
        }
    }
}
