//! A self-tuning controller: recursive least squares and a Smith predictor on what they find.

use crate::controller::{Action, Controller, Explanation, OutputLimits, Reading, delay_in_scans};
use crate::instrument::Noise;
use crate::numerics::RecursiveLeastSquares;
use crate::{Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A controller that first moves the output by a pseudo-random binary signal and estimates `y[k+1] = α y[k] + β u[k−d] + c`
/// by recursive least squares with forgetting, then controls by a Smith predictor on the estimate with PI settings for a
/// wanted closed-loop time constant, `Kc = τ/(K τc)`, `Ti = τ` (Åström & Wittenmark, Adaptive Control, 1995, ch. 2 and 3; the
/// indirect scheme with certainty equivalence).
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SelfTuningSettings {
    /// Dead time of the plant in s, taken as whole scans; 0 or more.
    #[schema(minimum = 0)]
    pub dead_time: f64,
    /// How long the output is moved to learn before control begins, s, above 0.
    #[schema(exclusive_minimum = 0, maximum = 10000000)]
    pub identification_time: f64,
    /// Amplitude of these moves in %, above 0.
    #[schema(exclusive_minimum = 0, maximum = 50)]
    pub amplitude: f64,
    /// Shortest time between two moves in s, above 0.
    #[schema(exclusive_minimum = 0)]
    pub clock: f64,
    /// Forgetting factor of the estimation, 0.9 to 1.
    #[serde(default = "one")]
    #[schema(minimum = 0.9, maximum = 1)]
    pub forgetting: f64,
    /// Whether the estimation goes on while it controls.
    #[serde(default)]
    pub keeps_learning: bool,
    /// Wanted closed-loop time constant τc without the dead time, s, above 0.
    #[schema(exclusive_minimum = 0)]
    pub closed_loop_time_constant: f64,
    /// Direction of action.
    #[serde(default)]
    pub action: Action,
    /// Limits of the output.
    #[serde(default)]
    pub output_limits: OutputLimits,
    /// Seed of the moves.
    #[serde(default)]
    pub seed: u64,
}

fn one() -> f64 {
    1.0
}

impl SelfTuningSettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        check::not_negative("controller.dead_time", self.dead_time, "s")?;
        check::positive("controller.identification_time", self.identification_time, "s")?;
        check::within("controller.identification_time", self.identification_time, 0.0, 1e7, "s")?;
        check::positive("controller.amplitude", self.amplitude, "%")?;
        check::within("controller.amplitude", self.amplitude, 0.0, 50.0, "%")?;
        check::positive("controller.clock", self.clock, "s")?;
        check::within("controller.forgetting", self.forgetting, 0.9, 1.0, "")?;
        check::positive("controller.closed_loop_time_constant", self.closed_loop_time_constant, "s")?;
        self.output_limits.validate()
    }
}

/// Variance of the estimates before anything is known: as good as none.
const UNKNOWN: f64 = 1e6;
/// α is kept between these: a stable lag.
const ALPHA: [f64; 2] = [1e-3, 0.999_999];

/// A self-tuning controller at work. All values are deviations in % from where it took over.
pub struct SelfTuning {
    settings: SelfTuningSettings,
    scan: f64,
    delay: usize,
    learning_scans: usize,
    passed: usize,
    chooser: Noise,
    until_next: usize,
    move_now: f64,
    rest: Option<(f64, f64)>,
    /// All outputs so far as deviations, the newest last; as many as the dead time needs once it controls.
    outputs: Vec<f64>,
    last: Option<f64>,
    estimator: RecursiveLeastSquares,
    /// The model's output without and with the dead time.
    model: [f64; 2],
    integral: f64,
    output: f64,
}

impl SelfTuning {
    /// A controller scanned every `scan` seconds.
    pub fn new(settings: &SelfTuningSettings, scan: f64) -> Result<Self> {
        settings.validate()?;
        check::positive("scenario.scan", scan, "s")?;
        let delay = delay_in_scans("controller.dead_time", settings.dead_time, scan)?;
        Ok(Self {
            scan,
            delay: delay.round() as usize,
            learning_scans: (settings.identification_time / scan).ceil() as usize,
            passed: 0,
            chooser: Noise::new("self-tuning", settings.seed),
            until_next: 0,
            move_now: 0.0,
            rest: None,
            outputs: Vec::new(),
            last: None,
            // Without excitation forgetting would let the covariance grow for ever.
            estimator: RecursiveLeastSquares::new(vec![0.5, 0.0, 0.0], UNKNOWN, settings.forgetting, 3.0 * UNKNOWN),
            model: [0.0; 2],
            integral: 0.0,
            output: 0.0,
            settings: settings.clone(),
        })
    }

    /// The output `back` scans before the last; 0 before the beginning.
    fn output_before(&self, back: usize) -> f64 {
        self.outputs.len().checked_sub(back + 1).map_or(0.0, |index| self.outputs[index])
    }

    /// One step of recursive least squares with `y = φᵀθ` (Åström & Wittenmark 1995, equation 2.21).
    fn learn(&mut self, measurement: f64) {
        let Some(last) = self.last else { return };
        let regressors = [last, self.output_before(self.delay), 1.0];
        self.estimator.learn(&regressors, measurement);
    }

    /// The estimate as it may be used.
    fn usable(&self) -> (f64, f64) {
        let sign = self.settings.action.sign();
        let beta = sign * (sign * self.estimator.estimate()[1]).max(1e-6);
        (self.estimator.estimate()[0].clamp(ALPHA[0], ALPHA[1]), beta)
    }

    /// The next move of the experiment.
    fn experiment(&mut self) -> f64 {
        if self.until_next == 0 {
            self.until_next = (self.settings.clock / self.scan).round().max(1.0) as usize;
            let up = self.chooser.uniform() < 0.5;
            self.move_now = if up { self.settings.amplitude } else { -self.settings.amplitude };
        }
        self.until_next -= 1;
        self.move_now
    }

    /// Runs the model over all outputs so far, to begin control from.
    fn begin_control(&mut self) {
        let (alpha, beta) = self.usable();
        self.model = [0.0; 2];
        for k in 0..self.outputs.len() {
            let late = k.checked_sub(self.delay).map_or(0.0, |index| self.outputs[index]);
            self.model = [alpha * self.model[0] + beta * self.outputs[k], alpha * self.model[1] + beta * late];
        }
    }

    /// Gain and integral time of the PI controller on the estimate.
    fn settings_now(&self) -> (f64, f64) {
        let (alpha, beta) = self.usable();
        let time_constant = -self.scan / alpha.ln();
        (time_constant * (1.0 - alpha) / (beta * self.settings.closed_loop_time_constant), time_constant)
    }

    /// How far the set point lies from where the PV is predicted to be after the dead time.
    fn error(&self, set_point: f64, measurement: f64) -> f64 {
        set_point - (measurement + self.model[0] - self.model[1])
    }

    fn control(&mut self, set_point: f64, measurement: f64) -> f64 {
        let (gain, time_constant) = self.settings_now();
        let error = self.error(set_point, measurement);
        self.integral += gain * self.scan / time_constant * error;
        gain * error + self.integral
    }

    /// Takes note of an output that was made, whoever made it: the model runs on with it.
    fn made(&mut self, made: f64, controls: bool) {
        self.outputs.push(made);
        if !controls {
            return;
        }
        let (alpha, beta) = self.usable();
        let late = self.output_before(self.delay);
        let model = [alpha * self.model[0] + beta * made, alpha * self.model[1] + beta * late];
        if model.iter().all(|value| value.is_finite()) {
            self.model = model;
        }
        // What lies longer ago than the dead time is not needed any more.
        if self.outputs.len() > 4 * (self.delay + 64) {
            self.outputs.drain(..self.outputs.len() - self.delay - 2);
        }
    }
}

impl Controller for SelfTuning {
    fn scan(&mut self, reading: Reading) -> f64 {
        let (pv, op) = *self.rest.get_or_insert((reading.measurement, self.output));
        let (set_point, measurement) = (reading.set_point - pv, reading.measurement - pv);
        let learning = self.passed < self.learning_scans;
        if learning || self.settings.keeps_learning {
            self.learn(measurement);
        }
        if self.passed == self.learning_scans {
            self.begin_control();
        }
        self.passed += 1;
        self.last = Some(measurement);
        let wanted = if learning { self.experiment() } else { self.control(set_point, measurement) };
        let wanted = if wanted.is_finite() { wanted } else { self.output - op };
        let OutputLimits { low, high } = self.settings.output_limits;
        self.output = (op + wanted).clamp(low, high);
        let made = self.output - op;
        if !learning {
            // Back-calculation at once: the integral stays in reach of the limit.
            self.integral -= wanted - made;
            if !self.integral.is_finite() {
                self.integral = made;
            }
        }
        self.made(made, !learning);
        self.output
    }

    fn track(&mut self, reading: Reading, output: f64) {
        let (pv, op) = *self.rest.get_or_insert((reading.measurement, output));
        let (set_point, measurement) = (reading.set_point - pv, reading.measurement - pv);
        // Moves by hand teach as well as its own.
        if self.settings.keeps_learning {
            self.learn(measurement);
        }
        self.last = Some(measurement);
        self.output = output;
        let controls = self.passed > self.learning_scans;
        let made = output - op;
        if controls {
            // What the error asks for is taken off the integral, so that the output goes on from where it stands.
            let proportional = self.settings_now().0 * self.error(set_point, measurement);
            self.integral = if proportional.is_finite() { made - proportional } else { made };
        }
        self.made(made, controls);
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }

    fn inner(&self, values: &mut [f64]) {
        values.copy_from_slice(&self.estimator.estimate()[..values.len()]);
    }
}
