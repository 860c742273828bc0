//! A linear loop on a grid of frequencies: sensitivities at once for many settings, and the curves of the frequency views.

use super::SampledLoop;
use crate::Result;
use crate::controller::{ControllerSpec, PidSettings, SmithSettings};
use crate::units::Span;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
use utoipa::ToSchema;

/// Frequencies of a grid, from far below anything that happens to half the sampling rate.
const MOST: usize = 20_000;

/// A plant on a grid of frequencies dense enough that a turn about −1 is not missed at usual margins.
pub struct FrequencyGrid {
    /// Frequencies in rad/s.
    pub omega: Vec<f64>,
    /// The sampled process there, % of span per % of OP.
    pub process: Vec<Complex64>,
    scan: f64,
    /// Quarter turns that the curve of a stable loop makes on its way, without the controller's.
    integrators: usize,
    unstable_poles: usize,
}

/// What a grid tells of a closed loop.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OnGrid {
    /// Whether it is stable.
    pub stable: bool,
    /// The largest |1/(1 + L)| on the grid, refined between its neighbours by a parabola.
    pub max_sensitivity: f64,
    /// Standard deviation of the output in % for white noise of 1 % at the PV, one value a scan.
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
        let mut omega = (2e-3 / slowest.max(sampled.slowest())).min(0.1 * highest);
        let mut all = vec![omega];
        while omega < highest && all.len() < MOST {
            omega = (omega + (0.05 * omega).min(widest)).min(highest);
            all.push(omega);
        }
        Self {
            process: all.iter().map(|omega| sampled.process(*omega)).collect(),
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

    /// The loop with this response of the controller, which has so many poles at the origin and outside; `gain` multiplies the
    /// process.
    #[must_use]
    pub fn close(&self, controller: &[Complex64], integrators: usize, unstable: usize, gain: f64) -> OnGrid {
        let mut turned = 0.0;
        let mut last: Option<Complex64> = None;
        let (mut noise, mut moves) = (0.0, 0.0);
        let mut heights = Vec::with_capacity(controller.len());
        for ((process, controller), omega) in self.process.iter().zip(controller).zip(&self.omega) {
            let distance = 1.0 + gain * process * controller;
            if let Some(before) = last {
                turned += (distance / before).arg();
            }
            last = Some(distance);
            heights.push(distance.norm_sqr().recip());
            let through = controller.norm_sqr() / distance.norm_sqr();
            let k = heights.len() - 1;
            let width = 0.5 * (self.omega.get(k + 1).unwrap_or(omega) - if k > 0 { self.omega[k - 1] } else { 0.0 });
            noise += through * width;
            moves += through * width * (2.0 * (0.5 * omega * self.scan).sin()).powi(2);
        }
        let expected =
            (self.integrators + integrators) as f64 * PI / 2.0 + (self.unstable_poles + unstable) as f64 * PI;
        let to_deviation = |sum: f64| (sum * self.scan / PI).sqrt();
        OnGrid {
            stable: (turned - expected).abs() < PI / 2.0,
            max_sensitivity: refined_peak(&self.omega, &heights).sqrt(),
            noise_to_output: to_deviation(noise),
            noise_to_move: to_deviation(moves),
        }
    }
}

/// The height of the highest point of a curve, with a parabola through it and its neighbours over the logarithm of ω.
fn refined_peak(omega: &[f64], heights: &[f64]) -> f64 {
    let best = (0..heights.len()).fold(0, |best, k| if heights[k] > heights[best] { k } else { best });
    if best == 0 || best + 1 >= heights.len() {
        return heights[best];
    }
    let x = |k: usize| (omega[k] / omega[best]).ln();
    let (left, right) = (x(best - 1), x(best + 1));
    let (a, b) = (heights[best - 1] - heights[best], heights[best + 1] - heights[best]);
    // y = p x + q x² through the origin and both neighbours.
    let q = (a / left - b / right) / (left - right);
    let p = a / left - q * left;
    if q >= 0.0 { heights[best] } else { heights[best] - 0.25 * p * p / q }
}

/// The frequency response of a controller of the family `gain × this`, cheap to close for many gains.
pub enum Family {
    /// A PID controller of gain 1.
    Pid {
        /// Its response.
        unit: Vec<Complex64>,
        /// Its poles at the origin.
        integrators: usize,
    },
    /// A Smith predictor around a PID controller of gain 1: `g C/(1 + g C D)`.
    Smith {
        /// Response of the PID controller.
        unit: Vec<Complex64>,
        /// `F`, the filter, with what the PV passes.
        filter: Vec<Complex64>,
        /// `C D`, the loop inside.
        inner: Vec<Complex64>,
        /// Poles of the PID controller at the origin.
        integrators: usize,
    },
}

impl Family {
    /// That of PID settings, whose gain does not count.
    #[must_use]
    pub fn pid(grid: &FrequencyGrid, settings: &PidSettings) -> Self {
        let unit = PidSettings { gain: 1.0, ..settings.clone() };
        Self::Pid {
            unit: grid.map(|omega| unit.sampled_response(omega, grid.scan)),
            integrators: settings.integrators(),
        }
    }

    /// That of a Smith predictor.
    pub fn smith(grid: &FrequencyGrid, settings: &SmithSettings, pv_span: &Span) -> Result<Self> {
        let mut settings = settings.clone();
        settings.pid.gain = 1.0;
        let inner = settings.inner_loop(pv_span, grid.scan)?;
        let unit = grid.map(|omega| settings.pid.sampled_response(omega, grid.scan));
        Ok(Self::Smith {
            filter: grid.map(|omega| settings.filter_response(omega, grid.scan)),
            inner: grid.map(inner),
            unit,
            integrators: settings.pid.integrators(),
        })
    }

    /// The loop with a controller of this gain.
    #[must_use]
    pub fn close(&self, grid: &FrequencyGrid, gain: f64) -> OnGrid {
        self.close_on(grid, gain, 1.0)
    }

    /// The same on a process whose gain is `ratio` times that of the grid.
    #[must_use]
    pub fn close_on(&self, grid: &FrequencyGrid, gain: f64, ratio: f64) -> OnGrid {
        match self {
            Self::Pid { unit, integrators } => {
                let controller: Vec<Complex64> = unit.iter().map(|c| gain * c).collect();
                grid.close(&controller, *integrators, 0, ratio)
            }
            Self::Smith { unit, filter, inner, integrators } => {
                let controller: Vec<Complex64> =
                    unit.iter().zip(filter).zip(inner).map(|((c, f), i)| gain * c * f / (1.0 + gain * i)).collect();
                let turned: f64 =
                    inner.windows(2).map(|pair| ((1.0 + gain * pair[1]) / (1.0 + gain * pair[0])).arg()).sum();
                let unstable = (-turned / PI).round().max(0.0) as usize;
                grid.close(&controller, *integrators, unstable, ratio)
            }
        }
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
        let point = grid.close(&feedback, 0, 0, 1.0);
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
        let every = grid.omega.len().div_ceil(DRAWN).max(1);
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
        for (k, (omega, process)) in grid.omega.iter().zip(&grid.process).enumerate() {
            let l = (opened.response)(*omega);
            phase += last.map_or_else(|| l.arg(), |before| (l / before).arg());
            last = Some(l);
            // What is dense below where anything happens is thinned; the rest is drawn as it is.
            if k % every != 0 {
                continue;
            }
            let s = (1.0 + l).inv();
            curves.omega.push(*omega);
            curves.loop_gain.push(l.norm());
            curves.loop_phase.push(phase.to_degrees());
            curves.loop_real.push(l.re);
            curves.loop_imaginary.push(l.im);
            curves.sensitivity.push(s.norm());
            curves.complementary.push((l * s).norm());
            curves.load_sensitivity.push((process * s).norm());
            curves.noise_sensitivity.push((l / process * s).norm());
        }
        Ok(Some(curves))
    }
}
