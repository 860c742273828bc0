//! Stability margins from the frequency response of the loop, with its dead time as it is (no Padé approximation).

use super::frequency::highest;
use crate::Result;
use crate::controller::predictive::{Law, PredictiveSettings};
use crate::lti::StateSpace;
use crate::numerics::{bisect, eigenvalues};
use crate::process::LinearSpec;
use crate::simulation::Trial;
use crate::{
    controller::{ControllerSpec, PidSettings},
    units::Span,
};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
use utoipa::ToSchema;

/// Margins of a loop. Frequencies in rad/s. What does not exist is null: no crossing, so no such limit; of an unstable
/// loop
/// there is no margin at all.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Margins {
    /// Whether the closed loop is stable (Nyquist criterion).
    pub stable: bool,
    /// The loop gain can rise by this factor before the loop becomes unstable.
    pub gain_margin: Option<f64>,
    /// The factor to which the loop gain can fall before the loop becomes unstable: of a plant that runs away by itself, or
    /// a loop that is stable between two gains only.
    #[serde(default)]
    pub lower_gain_margin: Option<f64>,
    /// Of an unstable loop that a higher gain would hold: a factor that does.
    #[serde(default)]
    pub needs_gain: Option<f64>,
    /// Where the phase is −180°, for the gain margin.
    pub phase_crossover: Option<f64>,
    /// Degrees of phase lag that can be added; of several gain crossovers at the one that bears the least.
    pub phase_margin: Option<f64>,
    /// Where the loop gain is 1, for the phase margin.
    pub gain_crossover: Option<f64>,
    /// Seconds of dead time that can be added before the loop becomes unstable.
    pub delay_margin: Option<f64>,
    /// Ms, the largest |1/(1 + L)|: the inverse of the distance of the Nyquist curve from −1.
    pub max_sensitivity: Option<f64>,
    /// Where it is.
    pub max_sensitivity_frequency: Option<f64>,
    /// Mt, the largest |L/(1 + L)|.
    pub max_complementary_sensitivity: Option<f64>,
}

/// The frequency response of an open loop.
pub struct LoopGain<F> {
    /// `L(jω)`, ω in rad/s.
    pub response: F,
    /// Number of poles at the origin.
    pub integrators: usize,
    /// Number of poles in the right half plane.
    pub unstable_poles: usize,
    /// Sum of all delays in the loop, s: how fast the phase turns at high frequency.
    pub delay: f64,
    /// A frequency far below anything of interest, rad/s.
    pub lowest: f64,
    /// The highest frequency that exists (half the sampling rate), rad/s; None in continuous time, where the
    /// search ends once |L| has stayed small.
    pub highest: Option<f64>,
}

/// |L| below this can neither encircle −1 nor bring the sensitivity off 1 by more than 0.5 %.
const NEGLIGIBLE: f64 = 5e-3;
const MOST_POINTS: usize = 400_000;
/// Scans this share of a radian apart at the crossover are so coarse that dead time between them is more than a turn.
const COARSE: f64 = 0.1;
/// A lower limit of the gain below this share is none in practice.
const NO_LIMIT: f64 = 1e-3;

impl<F: Fn(f64) -> Complex64> LoopGain<F> {
    /// The margins of the loop closed with negative feedback.
    #[must_use]
    pub fn margins(&self) -> Margins {
        let curve = self.curve();
        let l = |omega: f64| (self.response)(omega);
        let mut gain_margin: Option<(f64, f64)> = None;
        let mut lower_gain_margin: Option<f64> = None;
        // Where the response is real and below 0, a factor brings it to −1: the loop bears less than that, or needs more.
        let mut at_real_axis = |re: f64, w: f64| {
            let factor = -1.0 / re;
            if factor > 1.0 && gain_margin.is_none_or(|best| factor < best.0) {
                gain_margin = Some((factor, w));
            } else if (NO_LIMIT..1.0).contains(&factor) {
                lower_gain_margin = Some(lower_gain_margin.map_or(factor, |best: f64| best.max(factor)));
            }
        };
        let mut delay_margin: Option<f64> = None;
        let mut phase_margin: Option<(f64, f64)> = None;
        // Distance from −1 turns by less than half a circle from point to point, so that the turns can be added up.
        let mut turned = 0.0;
        for pair in curve.windows(2) {
            let ((w0, l0), (w1, l1)) = (pair[0], pair[1]);
            turned += ((1.0 + l1) / (1.0 + l0)).arg();
            // Through the negative real axis: the imaginary part changes sign left of the origin.
            if l0.im * l1.im <= 0.0 && l0.im != l1.im && l0.re.min(l1.re) < 0.0 {
                let w = bisect(w0, w1, |w| l(w).im);
                at_real_axis(l(w).re, w);
            }
            if (l0.norm() - 1.0) * (l1.norm() - 1.0) <= 0.0 && l0.norm() != l1.norm() {
                let w = bisect(w0, w1, |w| l(w).norm() - 1.0);
                // Phase above −180°, from 0° to 360°: how far the curve can be turned clockwise until it meets −1.
                let above = (-l(w)).arg().rem_euclid(2.0 * PI);
                if phase_margin.is_none_or(|best| above < best.0) {
                    phase_margin = Some((above, w));
                }
                let delay = above / w;
                delay_margin = Some(delay_margin.map_or(delay, |best| best.min(delay)));
            }
        }
        // At half the sampling rate the response is real, and at rest, where nothing integrates: crossings that have no other
        // side.
        if let (Some(_), Some((w, last))) = (self.highest, curve.last()) {
            at_real_axis(last.re, *w);
        }
        if let (0, Some((w, first))) = (self.integrators, curve.first()) {
            at_real_axis(first.re, *w);
        }
        let (max_sensitivity_frequency, max_sensitivity) = highest_peak(&curve, l, |l| (1.0 + l).norm().recip());
        let (_, max_complementary_sensitivity) = highest_peak(&curve, l, |l| (l / (1.0 + l)).norm());
        if self.unstable_poles_from(turned) != 0 {
            return Margins::default();
        }
        Margins {
            stable: true,
            gain_margin: gain_margin.map(|best| best.0),
            lower_gain_margin,
            needs_gain: None,
            phase_crossover: gain_margin.map(|best| best.1),
            phase_margin: phase_margin.map(|best| best.0.to_degrees()),
            gain_crossover: phase_margin.map(|best| best.1),
            delay_margin,
            max_sensitivity: Some(max_sensitivity),
            max_sensitivity_frequency: Some(max_sensitivity_frequency),
            max_complementary_sensitivity: Some(max_complementary_sensitivity),
        }
    }

    /// Poles outside the stable region once the loop is closed, from the angle by which `1 + L` turns.
    ///
    /// Nyquist: with poles at the origin the curve starts a quarter turn for each from the real axis, and must come back to
    /// it; every unstable pole of the open loop is a half turn that there must be; every half turn that is missing is an
    /// unstable pole of the closed loop.
    fn unstable_poles_from(&self, turned: f64) -> i64 {
        let expected = self.integrators as f64 * PI / 2.0 + self.unstable_poles as f64 * PI;
        ((expected - turned) / PI).round() as i64
    }

    /// How many unstable poles the loop has once it is closed.
    fn unstable_when_closed(&self) -> usize {
        let curve = self.curve();
        let turned: f64 = curve.windows(2).map(|pair| ((1.0 + pair[1].1) / (1.0 + pair[0].1)).arg()).sum();
        self.unstable_poles_from(turned).max(0) as usize
    }

    /// Points of the Nyquist curve, close enough that neither a crossing nor a turn about −1 is missed.
    fn curve(&self) -> Vec<(f64, Complex64)> {
        let at = |omega: f64| (omega, (self.response)(omega));
        let mut curve = vec![at(self.lowest)];
        let widest = if self.delay > 0.0 { 0.2 / self.delay } else { f64::INFINITY };
        let mut omega = self.lowest;
        let mut negligible_since = None;
        while curve.len() < MOST_POINTS {
            if self.highest.is_some_and(|highest| omega >= highest) {
                break;
            }
            let mut step = (0.04 * omega).min(widest);
            let (_, last) = curve[curve.len() - 1];
            let next = loop {
                let next = at((omega + step).min(self.highest.unwrap_or(f64::INFINITY)));
                let turn = ((1.0 + next.1) / (1.0 + last)).arg().abs();
                if turn < 0.3 || step < 1e-7 * omega {
                    break next;
                }
                step *= 0.5;
            };
            omega = next.0;
            curve.push(next);
            if self.highest.is_none() {
                if next.1.norm() > NEGLIGIBLE {
                    negligible_since = None;
                } else if omega > 30.0 * *negligible_since.get_or_insert(omega) {
                    break;
                }
            }
        }
        curve
    }
}

/// Where what is made of the response is highest, and how high: from the points of the curve on.
fn highest_peak(
    curve: &[(f64, Complex64)],
    response: impl Fn(f64) -> Complex64,
    of: impl Fn(Complex64) -> f64,
) -> (f64, f64) {
    let omega: Vec<f64> = curve.iter().map(|point| point.0).collect();
    let values: Vec<f64> = curve.iter().map(|point| of(point.1)).collect();
    highest(&omega, &values, &|omega| of(response(omega))).unwrap_or_default()
}

/// The margins of a digital PID loop around a process, as the simulation runs it: scanned every `scan` s, the OP held
/// in between, the dead time exact. More dead time is a mere turn of the phase to its delay margin; [`trial_margins`] closes the loop with
/// it where scans are coarse.
pub fn sampled_margins(process: &LinearSpec, pv_span: &Span, pid: &PidSettings, scan: f64) -> Result<Margins> {
    let controller = ControllerSpec::Pid(pid.clone());
    Ok(SampledLoop::new(&process.state_space()?, pv_span, scan, 0.0)?
        .with(&controller)?
        .map_or_else(Margins::default, |closed| closed.margins()))
}

/// The margins of the loop of a trial, its process linearised where it rests, with the slope of the actuator's
/// characteristic there, the lag, dead time and filter of the sensor; None in manual, for controllers that are not linear,
/// and where the plant does not start at rest. What is not linear in valve, sensor and controller (dead band, friction,
/// resolution, gap, schedule) is left out.
pub fn trial_margins(trial: &Trial) -> Result<Option<Margins>> {
    if !trial.candidate.further.is_empty() {
        return super::several::first_margins(trial);
    }
    let Some(sampled) = SampledLoop::of(trial)? else { return Ok(None) };
    let Some(closed) = sampled.with(&trial.candidate.controller)? else { return Ok(None) };
    let mut margins = closed.margins();
    if let (Some(estimate), Some(crossover)) = (margins.delay_margin, margins.gain_crossover)
        && crossover * trial.scenario.scan > COARSE
    {
        margins.delay_margin = Some(sampled_delay_margin(trial, estimate)?);
    }
    if margins.stable || sampled.unstable_poles() == 0 {
        return Ok(Some(margins));
    }
    // A plant that runs away by itself: too little gain lets it go as surely as too much.
    let holds = |factor: &f64| {
        let more = LoopGain {
            response: |omega: f64| factor * (closed.response)(omega),
            integrators: closed.integrators,
            unstable_poles: closed.unstable_poles,
            delay: closed.delay,
            lowest: closed.lowest,
            highest: closed.highest,
        };
        more.margins().stable
    };
    let needs_gain = (1..=10).map(|k| 1.5f64.powi(k)).find(holds);
    Ok(Some(Margins { needs_gain, ..margins }))
}

/// The dead time that the loop of a trial bears besides, near an estimate that takes it for a mere turn of the phase.
///
/// Between two scans that is not all it is: dead time that is no whole number of scans also changes what hold and sampler
/// make of the process. So the loop is closed with the dead time in it.
fn sampled_delay_margin(trial: &Trial, estimate: f64) -> Result<f64> {
    let (plant, scan) = (&trial.plant, trial.scenario.scan);
    let Some(system) = plant.linearised()? else { return Ok(estimate) };
    let memory = plant.sensor.filter_memory(scan);
    let stable = |extra: f64| -> Result<bool> {
        let late = system.clone().later_by(extra)?;
        let sampled = SampledLoop::new(&late, &plant.pv.span, scan, memory)?;
        Ok(sampled.with(&trial.candidate.controller)?.is_some_and(|closed| closed.margins().stable))
    };
    let mut low = (estimate - 1.5 * scan).max(0.0);
    if !stable(low)? {
        low = 0.0;
    }
    let end = estimate + 3.0 * scan;
    let mut high = low;
    loop {
        high += 0.125 * scan;
        if high > end {
            return Ok(estimate);
        }
        if !stable(high)? {
            break;
        }
        low = high;
    }
    for _ in 0..12 {
        let middle = 0.5 * (low + high);
        if stable(middle)? {
            low = middle;
        } else {
            high = middle;
        }
    }
    Ok(low)
}

/// What a digital controller sees of a linear plant: a hold before it, its dead time exact, a sampler behind it.
pub struct SampledLoop {
    process: Box<dyn Fn(f64) -> Complex64 + Send + Sync>,
    pv_span: Span,
    scan: f64,
    integrators: usize,
    unstable_poles: usize,
    dead_time: f64,
    slowest: f64,
    /// `ω |G(jω)|` at low frequency, for one that integrates.
    rate: f64,
    /// Of the filter before the controller.
    memory: f64,
}

impl SampledLoop {
    /// From a system from % of OP to the PV, with a filter of this memory before the controller.
    pub fn new(system: &StateSpace, pv_span: &Span, scan: f64, memory: f64) -> Result<Self> {
        pv_span.validate("plant.pv.span")?;
        let poles = eigenvalues(system.matrices().0.clone());
        let fastest = poles.iter().map(|pole| pole.norm()).fold(0.0, f64::max);
        let at_origin = |pole: &Complex64| pole.norm() <= 1e-9 * fastest.max(1e-9);
        let lags = poles.iter().filter(|pole| !at_origin(pole)).map(|pole| pole.norm().recip()).fold(0.0, f64::max);
        let (sampled, percent) = (system.sampled_response(scan), 100.0 / pv_span.width());
        let dead_time = system.dead_time().seconds();
        let slowest = (lags + dead_time).max(scan);
        let low = 1e-4 / slowest;
        let integrators = poles.iter().filter(|pole| at_origin(pole)).count();
        Ok(Self {
            process: Box::new(move |omega| {
                let z = Complex64::from_polar(1.0, omega * scan);
                sampled(omega) * percent * ((1.0 - memory) * z / (z - memory))
            }),
            pv_span: pv_span.clone(),
            scan,
            integrators,
            unstable_poles: poles.iter().filter(|pole| pole.re > 0.0 && !at_origin(pole)).count(),
            dead_time,
            slowest,
            rate: if integrators > 0 { low * system.response(low).norm() * percent } else { 0.0 },
            memory,
        })
    }

    /// That of a trial; None where its plant does not start at rest.
    pub fn of(trial: &Trial) -> Result<Option<Self>> {
        let (plant, scan) = (&trial.plant, trial.scenario.scan);
        let Some(system) = plant.linearised()? else { return Ok(None) };
        Self::new(&system, &plant.pv.span, scan, plant.sensor.filter_memory(scan)).map(Some)
    }

    /// The filter between sensor and controller, at `omega` rad/s.
    #[must_use]
    pub fn filter(&self, omega: f64) -> Complex64 {
        let z = Complex64::from_polar(1.0, omega * self.scan);
        (1.0 - self.memory) * z / (z - self.memory)
    }

    /// The scan in s.
    #[must_use]
    pub fn scan(&self) -> f64 {
        self.scan
    }

    /// Dead time of the plant in s.
    #[must_use]
    pub fn dead_time(&self) -> f64 {
        self.dead_time
    }

    /// The longest time in the plant, in s.
    #[must_use]
    pub fn slowest(&self) -> f64 {
        self.slowest
    }

    /// Its poles at the origin.
    #[must_use]
    pub fn integrators(&self) -> usize {
        self.integrators
    }

    /// Its poles in the right half plane.
    #[must_use]
    pub fn unstable_poles(&self) -> usize {
        self.unstable_poles
    }

    /// The process with hold, sampler and filter, in % of span per % of OP, at `omega` rad/s.
    #[must_use]
    pub fn process(&self, omega: f64) -> Complex64 {
        (self.process)(omega)
    }

    /// The loop opened at the OP, with a controller; None with one that is not linear, or in manual.
    pub fn with(&self, controller: &ControllerSpec) -> Result<Option<LoopGain<impl Fn(f64) -> Complex64>>> {
        controller.validate()?;
        let feedback = match feedback(controller, &self.pv_span, self.scan)? {
            Some(feedback) => feedback,
            None => return Ok(None),
        };
        let mut lowest = (1e-4 / self.slowest.max(feedback.slowest)).min(0.1 * PI / self.scan);
        if self.integrators > 0 {
            // Low enough that |L| is far above 1.
            lowest = lowest.min(1e-2 * self.rate * feedback.gain);
        }
        Ok(Some(LoopGain {
            integrators: self.integrators + feedback.integrators,
            unstable_poles: self.unstable_poles + feedback.unstable_poles,
            delay: self.dead_time + self.scan + feedback.delay,
            lowest,
            highest: Some(PI / self.scan * (1.0 - 1e-12)),
            response: move |omega: f64| (feedback.response)(omega) * (self.process)(omega),
        }))
    }
}

/// What stands between PV and OP.
struct Feedback {
    response: Box<dyn Fn(f64) -> Complex64 + Send + Sync>,
    integrators: usize,
    unstable_poles: usize,
    gain: f64,
    slowest: f64,
    delay: f64,
}

/// The linear part of a controller; None where it has none that stands still.
fn feedback(controller: &ControllerSpec, pv_span: &Span, scan: f64) -> Result<Option<Feedback>> {
    if let ControllerSpec::Predictive(settings) = controller {
        return planned(settings, pv_span, scan);
    }
    let Some(pid) = controller.main_pid().cloned() else { return Ok(None) };
    let times = [pid.integral_time.unwrap_or(0.0), pid.derivative_time, pid.filter_time];
    let (gain, integrators) = (pid.gain, pid.integrators());
    let slowest = times.into_iter().fold(0.0, f64::max);
    match controller {
        ControllerSpec::Pid(_) => Ok(Some(Feedback {
            response: Box::new(move |omega| pid.sampled_response(omega, scan)),
            integrators,
            unstable_poles: 0,
            gain,
            slowest,
            delay: 0.0,
        })),
        ControllerSpec::Smith(settings) => {
            let slowest = slowest.max(settings.model.time_scale()).max(settings.filter_time);
            let dead_time = settings.model.dead_time();
            // The controller is itself a loop, and may be unstable by itself.
            let inner = LoopGain {
                response: settings.inner_loop(pv_span, scan)?,
                integrators: 0,
                unstable_poles: 0,
                delay: dead_time + scan,
                lowest: (1e-4 / slowest).min(0.1 * PI / scan),
                highest: Some(PI / scan * (1.0 - 1e-12)),
            };
            Ok(Some(Feedback {
                response: Box::new(settings.sampled_response(pv_span, scan)?),
                integrators,
                unstable_poles: inner.unstable_when_closed(),
                gain,
                slowest,
                delay: dead_time,
            }))
        }
        _ => Ok(None),
    }
}

/// What a predictive controller of one CV by one MV does while it feels no limit.
fn planned(settings: &PredictiveSettings, pv_span: &Span, scan: f64) -> Result<Option<Feedback>> {
    let Some(law) = Law::of_one(settings, pv_span, scan)? else { return Ok(None) };
    let slowest = settings.horizon;
    Ok(Some(Feedback {
        integrators: law.integrators(),
        unstable_poles: law.unstable_poles(),
        gain: law.response(slowest.recip())[(0, 0)].norm(),
        slowest,
        delay: settings.model.dead_time("")?,
        response: Box::new(move |omega| -law.response(omega)[(0, 0)]),
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tuning::{SimcChoice, simc};

    fn continuous(process: &LinearSpec, pid: &PidSettings) -> Margins {
        let system = process.state_space().unwrap();
        LoopGain {
            response: |omega| system.response(omega) * pid.response(omega),
            integrators: process.integrators() + 1,
            unstable_poles: 0,
            delay: process.dead_time(),
            lowest: 1e-5,
            highest: None,
        }
        .margins()
    }

    fn close(value: Option<f64>, expected: f64, tolerance: f64) {
        assert!((value.unwrap() - expected).abs() < tolerance, "{value:?} is not {expected}");
    }

    #[test]
    fn simc_on_fopdt() {
        // Skogestad, J. Process Control 13 (2003), table 1 column 1: GM 3.14, PM 61.4°, Ms 1.59, Mt 1.00, delay
        // margin 2.14 θ for Kc = τ/(2Kθ), Ti = τ.
        let process = LinearSpec::Fopdt { gain: 2.0, time_constant: 5.0, dead_time: 3.0 };
        let margins = continuous(&process, &PidSettings::pi(5.0 / 12.0, 5.0));
        assert!(margins.stable);
        close(margins.gain_margin, PI, 1e-9); // L = exp(−θs)/(2θs): exactly π
        close(margins.phase_margin, 61.35, 0.01);
        close(margins.max_sensitivity, 1.59, 0.005);
        close(margins.max_complementary_sensitivity, 1.0, 0.005);
        close(margins.delay_margin, 2.14 * 3.0, 0.01 * 3.0);
    }

    #[test]
    fn simc_on_integrating() {
        // The same table, column 2: GM 2.96, PM 46.9°, Ms 1.70, Mt 1.30, delay margin 1.59 θ.
        let process = LinearSpec::Integrating { gain: 0.1, dead_time: 4.0 };
        let span = Span::new(0.0, 100.0, "%");
        let settings = simc(&process, &span, &SimcChoice { closed_loop_time_constant: None }).unwrap();
        let margins = continuous(&process, &settings.controller);
        assert!(margins.stable);
        close(margins.gain_margin, 2.96, 0.005);
        close(margins.phase_margin, 46.9, 0.05);
        close(margins.max_sensitivity, 1.70, 0.005);
        close(margins.max_complementary_sensitivity, 1.30, 0.005);
        close(margins.delay_margin, 1.59 * 4.0, 0.005 * 4.0);
    }

    #[test]
    fn proportional_gain_limit_of_a_sampled_integrator() {
        // x[k+1] = x[k] + k' h u[k] under u = −Kc x is stable for Kc k' h < 2 (exact mathematics).
        let process = LinearSpec::Integrating { gain: 0.5, dead_time: 0.0 };
        let span = Span::new(0.0, 100.0, "m");
        let pid = PidSettings { integral_time: None, ..PidSettings::pi(1.0, 1.0) };
        let margins = sampled_margins(&process, &span, &pid, 0.4).unwrap();
        close(margins.gain_margin, 2.0 / (0.5 * 0.4), 1e-6);
        let wild = PidSettings { gain: 11.0, ..pid };
        assert_eq!(sampled_margins(&process, &span, &wild, 0.4).unwrap(), Margins::default());
    }

    #[test]
    fn wrong_action_is_unstable() {
        let process = LinearSpec::Fopdt { gain: -1.0, time_constant: 10.0, dead_time: 2.0 };
        let span = Span::new(0.0, 100.0, "°C");
        let mut pid = PidSettings::pi(0.3, 10.0);
        assert!(!sampled_margins(&process, &span, &pid, 0.5).unwrap().stable);
        pid.action = crate::controller::Action::Direct;
        assert!(sampled_margins(&process, &span, &pid, 0.5).unwrap().stable);
    }

    /// 1/(10 s − 1) with a hold, under proportional control.
    fn runaway(gain: f64) -> (SampledLoop, ControllerSpec) {
        let one = |value: f64| nalgebra::DMatrix::from_element(1, 1, value);
        let system = StateSpace::new(one(0.1), one(0.1), one(1.0), crate::lti::DeadTime::new(0.0).unwrap()).unwrap();
        let sampled = SampledLoop::new(&system, &Span::new(0.0, 100.0, "%"), 0.5, 0.0).unwrap();
        let pid = PidSettings { integral_time: None, ..PidSettings::pi(gain, 1.0) };
        (sampled, ControllerSpec::Pid(pid))
    }

    #[test]
    fn a_plant_that_runs_away_is_held_between_two_gains() {
        // The sampled pole is a = exp(h/10), the closed one a − K (a − 1): inside the circle for 1 < K < (a + 1)/(a − 1).
        let a = (0.05f64).exp();
        let (sampled, controller) = runaway(4.0);
        let margins = sampled.with(&controller).unwrap().unwrap().margins();
        assert!(margins.stable);
        close(margins.lower_gain_margin, 0.25, 1e-6);
        close(margins.gain_margin, (a + 1.0) / (a - 1.0) / 4.0, 1e-4);
        let said = crate::assessment::robustness_verdicts(Some(&margins), &ControllerSpec::Manual);
        assert!(said[0].text.contains("It needs at least 0.25 times the model's gain"), "{said:?}");
        let (sampled, controller) = runaway(0.8);
        assert!(!sampled.with(&controller).unwrap().unwrap().margins().stable);
        // An ordinary loop has no lower limit.
        let process = LinearSpec::Fopdt { gain: 2.0, time_constant: 5.0, dead_time: 3.0 };
        assert_eq!(continuous(&process, &PidSettings::pi(5.0 / 12.0, 5.0)).lower_gain_margin, None);
    }
}
