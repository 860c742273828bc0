//! Model-reference adaptive control of plants of first and second order.

use crate::controller::{Action, Controller, Explanation, OutputLimits, Reading};
use crate::lti::Sampled;
use crate::process::LinearSpec;
use crate::units::Span;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The gains that are adapted: `u = θr·r − θy·y − θv·y'/ω`, deviations from where the controller took over.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AdaptedGains {
    /// On the set point, θr, % per %; without the sign of the action.
    pub set_point: f64,
    /// On the PV, θy, % per %.
    pub measurement: f64,
    /// On the rate of the PV over the reference's natural frequency, θv, % per %; 0 for first order.
    #[serde(default)]
    pub rate: f64,
}

/// A controller whose gains are moved so that the loop answers as a reference model does (Lyapunov's rule; Åström &
/// Wittenmark, Adaptive Control, 2nd ed. 1995, section 5.5; leakage and projection after Ioannou & Sun, Robust Adaptive Control,
/// 1996, ch. 8, from memory).
///
/// With the error `e = y − y_m`: `θr' = −γ e r`, `θy' = γ e y`; for second order e is replaced by `½ e + e'/(2ζω)`, from the
/// Lyapunov equation of the reference, and `θv' = γ s y'/ω`. Everything is in % of span. The dead time of the plant is not
/// compensated: it must be short against the reference.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelReferenceSettings {
    /// Time constant of the reference in s, above 0; for second order the inverse of its natural frequency ω.
    #[schema(exclusive_minimum = 0)]
    pub reference_time_constant: f64,
    /// Damping ratio of a reference of second order, above 0; null for first order.
    #[serde(default)]
    #[schema(minimum = 0.1, maximum = 10)]
    pub reference_damping: Option<f64>,
    /// Learning gain γ per second, 0 or more; 0 learns nothing.
    #[schema(minimum = 0)]
    pub learning_gain: f64,
    /// Whether learning is divided by `1 + r² + y² + (y'/ω)²`, so that its speed does not depend on the size of the moves.
    #[serde(default)]
    pub normalised: bool,
    /// Leakage σ per second, 0 or more: the gains are drawn back to where they started.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub leakage: f64,
    /// The gains are kept within ± this, above 0; null for no bound (projection).
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub bound: Option<f64>,
    /// The gains at the start.
    pub start: AdaptedGains,
    /// Direction of action.
    #[serde(default)]
    pub action: Action,
    /// Limits of the output.
    #[serde(default)]
    pub output_limits: OutputLimits,
}

impl ModelReferenceSettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        check::positive("controller.reference_time_constant", self.reference_time_constant, "s")?;
        if let Some(damping) = self.reference_damping {
            check::within("controller.reference_damping", damping, 0.1, 10.0, "")?;
        }
        check::not_negative("controller.learning_gain", self.learning_gain, "1/s")?;
        check::not_negative("controller.leakage", self.leakage, "1/s")?;
        if let Some(bound) = self.bound {
            check::positive("controller.bound", bound, "")?;
        }
        for (name, gain) in [
            ("controller.start.set_point", self.start.set_point),
            ("controller.start.measurement", self.start.measurement),
            ("controller.start.rate", self.start.rate),
        ] {
            check::finite(name, gain)?;
        }
        self.output_limits.validate()
    }

    /// The gains with which a plant like this model, without its dead time, answers exactly as the reference.
    pub fn matching(&self, model: &LinearSpec, pv_span: &Span) -> Result<AdaptedGains> {
        let percent = 100.0 / pv_span.width();
        let omega = self.reference_time_constant.recip();
        match (model, self.reference_damping) {
            (&LinearSpec::Fopdt { gain, time_constant, .. }, None) => {
                let b = (gain * percent / time_constant).abs();
                Ok(AdaptedGains { set_point: omega / b, measurement: (omega - time_constant.recip()) / b, rate: 0.0 })
            }
            (&LinearSpec::SecondOrder { gain, time_constant, damping, .. }, Some(reference_damping)) => {
                let own = time_constant.recip();
                let b = (gain * percent).abs() * own * own;
                Ok(AdaptedGains {
                    set_point: omega * omega / b,
                    measurement: (omega * omega - own * own) / b,
                    rate: (2.0 * reference_damping * omega - 2.0 * damping * own) * omega / b,
                })
            }
            _ => Err(Error::invalid(
                "model.structure",
                model.title(),
                "first order with a reference of first order, or second order with one of second order",
            )),
        }
    }
}

/// Share of the reference's time constant with which the rate of the PV is filtered.
const RATE_FILTER: f64 = 0.05;

/// A model-reference adaptive controller at work.
pub struct ModelReference {
    settings: ModelReferenceSettings,
    scan: f64,
    gains: AdaptedGains,
    /// The set point and PV where it took over, both the PV then, and the output.
    rest: Option<(f64, f64)>,
    /// Output of the reference, and its rate.
    reference: [f64; 2],
    model: Sampled,
    states: Vec<f64>,
    room: Vec<f64>,
    output_row: Vec<f64>,
    rate_row: Vec<f64>,
    last: f64,
    rate: f64,
    output: f64,
}

impl ModelReference {
    /// A controller scanned every `scan` seconds.
    pub fn new(settings: &ModelReferenceSettings, scan: f64) -> Result<Self> {
        settings.validate()?;
        check::positive("scenario.scan", scan, "s")?;
        let time_constant = settings.reference_time_constant;
        let reference = match settings.reference_damping {
            None => LinearSpec::Fopdt { gain: 1.0, time_constant, dead_time: 0.0 },
            Some(damping) => LinearSpec::SecondOrder { gain: 1.0, time_constant, damping, dead_time: 0.0 },
        };
        let system = reference.state_space()?;
        let (a, _, c) = system.matrices();
        Ok(Self {
            scan,
            gains: settings.start,
            rest: None,
            reference: [0.0; 2],
            states: vec![0.0; system.order()],
            room: vec![0.0; system.order()],
            output_row: c.iter().copied().collect(),
            // The output takes no input at once, so that its rate is C A x for second order.
            rate_row: (c * a).iter().copied().collect(),
            model: system.sampled(scan),
            last: 0.0,
            rate: 0.0,
            output: 0.0,
            settings: settings.clone(),
        })
    }

    fn omega(&self) -> f64 {
        self.settings.reference_time_constant.recip()
    }

    /// Moves the reference through a scan under a constant set point, exactly.
    fn move_reference(&mut self, set_point: f64) {
        self.model.advance(&mut self.states, &mut self.room, 0.0, set_point);
        let sum = |row: &[f64]| row.iter().zip(&self.states).map(|(c, x)| c * x).sum();
        self.reference = [sum(&self.output_row), sum(&self.rate_row)];
    }

    fn learn(&mut self, set_point: f64, measurement: f64, rate: f64) {
        let ModelReferenceSettings { learning_gain, normalised, leakage, bound, start, reference_damping, .. } =
            self.settings;
        let omega = self.omega();
        let error = measurement - self.reference[0];
        let error = match reference_damping {
            None => error,
            Some(damping) => 0.5 * error + (rate - self.reference[1] / omega) / (2.0 * damping),
        };
        let size = if normalised { 1.0 + set_point * set_point + measurement * measurement + rate * rate } else { 1.0 };
        let push = learning_gain * error / size;
        let moved = |gain: f64, by: f64, from: f64| {
            let next = gain + self.scan * (by - leakage * (gain - from));
            // Learning that has lost all measure stands still.
            let next = if next.is_finite() { next } else { gain };
            bound.map_or(next, |bound| next.clamp(-bound, bound))
        };
        self.gains = AdaptedGains {
            set_point: moved(self.gains.set_point, -push * set_point, start.set_point),
            measurement: moved(self.gains.measurement, push * measurement, start.measurement),
            rate: if reference_damping.is_some() { moved(self.gains.rate, push * rate, start.rate) } else { 0.0 },
        };
    }
}

impl Controller for ModelReference {
    fn scan(&mut self, reading: Reading) -> f64 {
        let (pv, op) = *self.rest.get_or_insert((reading.measurement, self.output));
        let (set_point, measurement) = (reading.set_point - pv, reading.measurement - pv);
        let filter = RATE_FILTER * self.settings.reference_time_constant;
        let slope = (measurement - self.last) / self.scan;
        self.rate += (slope - self.rate) * self.scan / (filter + self.scan);
        self.last = measurement;
        let rate = self.rate / self.omega();
        if self.settings.learning_gain > 0.0 {
            self.learn(set_point, measurement, rate);
        }
        let AdaptedGains { set_point: on_set_point, measurement: on_measurement, rate: on_rate } = self.gains;
        let sign = self.settings.action.sign();
        let limits = self.settings.output_limits;
        let wanted = op + sign * (on_set_point * set_point - on_measurement * measurement - on_rate * rate);
        if wanted.is_finite() {
            self.output = wanted.clamp(limits.low, limits.high);
        }
        self.move_reference(set_point);
        self.output
    }

    fn track(&mut self, reading: Reading, output: f64) {
        self.rest = Some((reading.measurement, output));
        self.states.fill(0.0);
        (self.reference, self.last, self.rate, self.output) = ([0.0; 2], 0.0, 0.0, output);
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }

    fn inner(&self, values: &mut [f64]) {
        let pv = self.rest.map_or(0.0, |rest| rest.0);
        let all = [self.gains.set_point, self.gains.measurement, pv + self.reference[0], self.gains.rate];
        values.copy_from_slice(&all[..values.len()]);
    }
}
