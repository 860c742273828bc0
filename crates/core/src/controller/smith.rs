//! Dead-time compensation: the Smith predictor, and its filtered variant.

use super::{Controller, Explanation, Pid, PidSettings, Reading};
use crate::lti::{DeadTime, Sampled};
use crate::process::LinearSpec;
use crate::units::Span;
use crate::{Error, Result, check};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::collections::VecDeque;
use utoipa::ToSchema;

/// A PID controller on the prediction of a model: `ŷ(t + θ) = G₀ u + F (y − G u)` with the model `G = G₀ exp(−θs)`
/// (Smith, Chem. Eng. Progress 53, 1957; with the filter F: Normey-Rico & Camacho, Control of Dead-time Processes, 2007).
///
/// Without a filter time F is 1. With one, T: `F = 1/(Ts + 1)`, which gives way to errors of the model; for an integrating model
/// `F = ((2T + θ)s + 1)/(Ts + 1)²`, whose slope at s = 0 makes that of `1 − F exp(−θs)` vanish, so that a constant load
/// leaves no offset.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SmithSettings {
    /// The controller on the prediction.
    pub pid: PidSettings,
    /// The model, with its dead time, as it is believed to be.
    pub model: LinearSpec,
    /// Time constant T of the filter in s, 0 or more; above 0 where the model integrates.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub filter_time: f64,
}

impl SmithSettings {
    /// Refuses settings that cannot work, naming the field.
    pub fn validate(&self) -> Result<()> {
        self.pid.validate()?;
        self.model.validate()?;
        if self.pid.action.sign() * self.model.gain() < 0.0 {
            return Err(Error::invalid(
                "controller.model.gain",
                self.model.gain(),
                "of the sign that the controller's action is for",
            ));
        }
        check::not_negative("controller.filter_time", self.filter_time, "s")?;
        if self.model.integrators() > 0 {
            let allowed = "s for an integrating model: without the filter a load leaves an offset";
            check::positive("controller.filter_time", self.filter_time, allowed)?;
        }
        Ok(())
    }

    fn filter(&self, scan: f64) -> Filter {
        let memory = self.filter_time / (self.filter_time + scan);
        let lead = if self.model.integrators() > 0 {
            2.0 * self.filter_time + self.model.dead_time()
        } else {
            self.filter_time
        };
        Filter { memory, lead: lead / scan }
    }

    /// The frequency response of what stands between PV and OP, as [`PidSettings::sampled_response`] gives it of a PID
    /// controller: `C/(1 + C (G₀ − F G))`.
    pub fn sampled_response(&self, pv_span: &Span, scan: f64) -> Result<impl Fn(f64) -> Complex64 + use<>> {
        let inner = self.inner_loop(pv_span, scan)?;
        let (pid, filter) = (self.pid.clone(), self.filter(scan));
        Ok(move |omega: f64| pid.sampled_response(omega, scan) * filter.response(omega, scan) / (1.0 + inner(omega)))
    }

    /// The filter F at `omega` rad/s.
    #[must_use]
    pub fn filter_response(&self, omega: f64, scan: f64) -> Complex64 {
        self.filter(scan).response(omega, scan)
    }

    /// `C (G₀ − F G)`: the loop inside the controller.
    pub fn inner_loop(&self, pv_span: &Span, scan: f64) -> Result<impl Fn(f64) -> Complex64 + use<>> {
        let (pid, prediction) = (self.pid.clone(), self.prediction(pv_span, scan)?);
        Ok(move |omega: f64| pid.sampled_response(omega, scan) * prediction(omega))
    }

    /// `G₀ − F G`, in % of span per % of OP: what is still to come of the moves made, whatever the PID controller is set to.
    pub fn prediction(&self, pv_span: &Span, scan: f64) -> Result<impl Fn(f64) -> Complex64 + use<>> {
        let system = self.model.state_space()?;
        let percent = 100.0 / pv_span.width();
        let late = system.sampled_response(scan);
        let prompt = system.with_dead_time(DeadTime::new(0.0)?).sampled_response(scan);
        let filter = self.filter(scan);
        Ok(move |omega: f64| (prompt(omega) - filter.response(omega, scan) * late(omega)) * percent)
    }
}

/// The prediction of a Smith predictor from scan to scan, for whoever writes it down: of the model without its dead time
/// `x ← Φ x + prompt·u[0]`, with it `x ← Φ x + early·u[delay+1] + late·u[delay]`, where `u` are deviations of the output, the newest first.
#[derive(Debug, Clone, PartialEq)]
pub struct PredictorInScans {
    /// Φ, row by row.
    pub phi: Vec<Vec<f64>>,
    /// What the newest move does without the dead time.
    pub prompt: Vec<f64>,
    /// What a move does until the last part of the scan in which the dead time of the next one ends.
    pub early: Vec<f64>,
    /// What the next one does in the rest of that scan.
    pub late: Vec<f64>,
    /// The PV by the states, % of span.
    pub output: Vec<f64>,
    /// Whole scans of dead time.
    pub delay: usize,
    /// The filter: `memory` of each of its two lags, and its lead in scans.
    pub memory: f64,
    /// The lead.
    pub lead: f64,
}

impl SmithSettings {
    /// What it predicts with, scanned every `scan` seconds on a PV of this span. Errors as [`Smith::new`].
    pub fn in_scans(&self, pv_span: &Span, scan: f64) -> Result<PredictorInScans> {
        let own = Smith::new(self, pv_span, scan)?;
        let (phi, early, late) = own.late.matrices();
        let (_, _, prompt) = own.prompt.matrices();
        Ok(PredictorInScans {
            phi: phi.row_iter().map(|row| row.iter().copied().collect()).collect(),
            prompt: prompt.as_slice().to_vec(),
            early: early.as_slice().to_vec(),
            late: late.as_slice().to_vec(),
            output: own.output_row.clone(),
            delay: own.delay,
            memory: own.filter.memory,
            lead: own.filter.lead,
        })
    }
}

/// `(lead·(1 − z⁻¹) + 1)/((1 − memory z⁻¹)/(1 − memory))²`: backward differences keep the response to a ramp exact.
#[derive(Debug, Clone, Copy)]
struct Filter {
    memory: f64,
    /// The lead in scans; equal to the time constant in scans where one lag cancels.
    lead: f64,
}

impl Filter {
    fn response(self, omega: f64, scan: f64) -> Complex64 {
        let back = Complex64::from_polar(1.0, -omega * scan);
        let lag = (1.0 - self.memory) / (1.0 - self.memory * back);
        (1.0 + self.lead * (1.0 - back)) * lag * lag
    }
}

/// A Smith predictor at work.
pub struct Smith {
    pid: Pid,
    filter: Filter,
    prompt: Sampled,
    late: Sampled,
    delay: usize,
    /// States of the model without and with its dead time, as deviations.
    x: [Vec<f64>; 2],
    room: Vec<f64>,
    output_row: Vec<f64>,
    /// Deviations of the output, the newest first.
    moves: VecDeque<f64>,
    /// OP and PV where it took over.
    rest: Option<(f64, f64)>,
    /// Last input and the two lags of the filter.
    filtered: [f64; 3],
}

impl Smith {
    /// A predictor scanned every `scan` seconds on a PV of this span.
    pub fn new(settings: &SmithSettings, pv_span: &Span, scan: f64) -> Result<Self> {
        settings.validate()?;
        super::delay_in_scans("controller.model.dead_time", settings.model.dead_time(), scan)?;
        let system = settings.model.state_space()?;
        let percent = 100.0 / pv_span.width();
        let delay = system.dead_time().sampled(scan).scans;
        Ok(Self {
            pid: Pid::new(&settings.pid, scan)?,
            filter: settings.filter(scan),
            prompt: system.clone().with_dead_time(DeadTime::new(0.0)?).sampled(scan),
            late: system.sampled(scan),
            delay,
            x: [vec![0.0; system.order()], vec![0.0; system.order()]],
            room: vec![0.0; system.order()],
            output_row: system.matrices().2.row(0).iter().map(|c| c * percent).collect(),
            moves: VecDeque::from(vec![0.0; delay + 2]),
            rest: None,
            filtered: [0.0; 3],
        })
    }

    /// The reading with what the PV will be without the dead time.
    fn predicted<'a>(&mut self, reading: Reading<'a>, output: f64) -> Reading<'a> {
        let (_, pv) = *self.rest.get_or_insert((output, reading.measurement));
        let sum = |x: &[f64]| -> f64 { x.iter().zip(&self.output_row).map(|(x, c)| x * c).sum() };
        let (prompt, late) = (sum(&self.x[0]), sum(&self.x[1]));
        let error = reading.measurement - pv - late;
        let led = error + self.filter.lead * (error - self.filtered[0]);
        let memory = self.filter.memory;
        let first = led + memory * (self.filtered[1] - led);
        let second = first + memory * (self.filtered[2] - first);
        self.filtered = [error, first, second];
        Reading { measurement: pv + prompt + second, ..reading }
    }

    /// Moves the model on by a scan in which `output` acts.
    fn advance(&mut self, output: f64) {
        let Some((rest, _)) = self.rest else { return };
        self.moves.pop_back();
        self.moves.push_front(output - rest);
        let [prompt, late] = &mut self.x;
        self.prompt.advance(prompt, &mut self.room, 0.0, self.moves[0]);
        self.late.advance(late, &mut self.room, self.moves[self.delay + 1], self.moves[self.delay]);
    }
}

impl Controller for Smith {
    fn scan(&mut self, reading: Reading) -> f64 {
        let before = self.pid.explain().limited;
        let predicted = self.predicted(reading, before);
        let output = self.pid.scan(predicted);
        self.advance(output);
        output
    }

    fn track(&mut self, reading: Reading, output: f64) {
        let predicted = self.predicted(reading, output);
        self.pid.track(predicted, output);
        self.advance(output);
    }

    fn explain(&self) -> Explanation {
        self.pid.explain()
    }
}
