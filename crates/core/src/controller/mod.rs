//! Controllers: once a scan, from set point and measurement to an output.

pub mod adaptive;
mod cascade;
mod feed_forward;
mod forms;
mod pid;
pub mod predictive;
mod relay;
mod schedule;
mod settings;
mod smith;
mod told;

pub use adaptive::{ModelReferenceSettings, SelfTuningSettings};
pub use cascade::{Cascade, CascadeSettings};
pub use feed_forward::FeedForward;
pub(crate) use forms::check_digits;
pub use forms::{
    Form, GainOver, InNotation, IntegralAs, Notation, NotationTime, ProportionalAs, TYPED_DIGITS, TargetController,
    Written,
};
pub use pid::Pid;
pub use predictive::{Predictive, PredictiveSettings};
pub use relay::{Relay, RelaySettings};
pub use schedule::{GainSchedule, SchedulePoint, ScheduledOver};
pub use settings::{Action, Algorithm, AntiWindup, OutputLimits, PidSettings};
pub use smith::{PredictorInScans, Smith, SmithSettings};
pub use told::Told;
pub(crate) use told::exactly;

use crate::Result;
use crate::units::Span;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What a controller sees at a scan.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Reading<'a> {
    /// Set point, % of the PV's span.
    pub set_point: f64,
    /// Measured process variable, % of its span.
    pub measurement: f64,
    /// The further signals that it [reads](ControllerSpec::reads), in their units.
    pub further: &'a [f64],
}

/// Why the last output is what it is, in % of OP.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Explanation {
    /// Proportional term.
    pub proportional: f64,
    /// Integral term, with the bias.
    pub integral: f64,
    /// Derivative term.
    pub derivative: f64,
    /// Feed-forward.
    pub feed_forward: f64,
    /// The sum of the terms.
    pub unlimited: f64,
    /// The output after its limits.
    pub limited: f64,
}

/// A controller at work.
pub trait Controller: Send {
    /// One scan: the output in % that follows from `reading`.
    fn scan(&mut self, reading: Reading) -> f64;
    /// One scan in which something else sets the output: takes on `output` so that the next [`Controller::scan`] goes
    /// on from there without a bump.
    fn track(&mut self, reading: Reading, output: f64);
    /// The terms of the last output.
    fn explain(&self) -> Explanation;
    /// Tells what really stood at the output since the last [`Controller::scan`], where another controller took its place:
    /// the integral follows as it does at a limit. Only of a PID controller, and of one in manual, which needs nothing.
    fn overridden(&mut self, by: f64) {
        let _ = by;
    }
    /// Tells that what stands below cannot follow further in the direction of `direction`: the integral waits that way.
    fn wait(&mut self, direction: f64) {
        let _ = direction;
    }
    /// Which way the output goes when the set point rises: 1 or −1.
    fn sense(&self) -> f64 {
        1.0
    }
    /// What it has learned, into `values`, as named by [`ControllerSpec::learns`].
    fn inner(&self, values: &mut [f64]) {
        let _ = values;
    }
}

/// Longest delay that a controller keeps, in scans.
const MOST_DELAY_SCANS: f64 = 1e5;

/// A delay in scans, refused where it is too long to be kept.
fn delay_in_scans(field: &str, delay: f64, scan: f64) -> Result<f64> {
    let scans = delay / scan;
    if scans <= MOST_DELAY_SCANS {
        return Ok(scans);
    }
    Err(crate::Error::invalid(
        field,
        format!("{delay} s, {scans:.0} scans"),
        format!("at most {MOST_DELAY_SCANS} scans"),
    ))
}

/// The settings of any kind of controller.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum ControllerSpec {
    /// Proportional–integral–derivative.
    Pid(PidSettings),
    /// PID on the prediction of a model with dead time.
    Smith(SmithSettings),
    /// Two PID controllers, the outer one setting the set point of the inner one.
    Cascade(Box<CascadeSettings>),
    /// Gains that are adapted until the loop answers as a reference does.
    ModelReference(ModelReferenceSettings),
    /// Recursive identification, then a Smith predictor on what was found.
    SelfTuning(SelfTuningSettings),
    /// A relay, for a tuning experiment.
    Relay(RelaySettings),
    /// Predictive control of several signals under constraints, this one among them.
    Predictive(Box<PredictiveSettings>),
    /// A seat of the predictive controller of the candidate: what is measured and set here is controlled by that.
    Seat,
    /// No control: the output stands where it is, and moves by the scenario's output steps. For tests of the process.
    Manual,
}

impl ControllerSpec {
    /// What it is called.
    #[must_use]
    pub fn title(&self) -> &'static str {
        match self {
            Self::Pid(_) => "PID",
            Self::Smith(_) => "Smith predictor",
            Self::Cascade(_) => "cascade",
            Self::ModelReference(_) => "model-reference adaptive",
            Self::SelfTuning(_) => "self-tuning",
            Self::Relay(_) => "relay",
            Self::Predictive(_) => "predictive controller",
            Self::Seat => "seat of the predictive controller",
            Self::Manual => "manual",
        }
    }

    /// Refuses settings that no controller can work with.
    pub fn validate(&self) -> Result<()> {
        match self {
            Self::Pid(settings) => settings.validate(),
            Self::Smith(settings) => settings.validate(),
            Self::Cascade(settings) => settings.validate(),
            Self::ModelReference(settings) => settings.validate(),
            Self::SelfTuning(settings) => settings.validate(),
            Self::Relay(settings) => settings.validate(),
            Self::Predictive(settings) => settings.validate(),
            Self::Seat | Self::Manual => Ok(()),
        }
    }

    /// The controller, to be scanned every `scan` seconds, of a PV of this span.
    pub fn build(&self, pv_span: &Span, scan: f64) -> Result<Box<dyn Controller>> {
        Ok(match self {
            Self::Pid(settings) => Box::new(Pid::new(settings, scan)?),
            Self::Smith(settings) => Box::new(Smith::new(settings, pv_span, scan)?),
            Self::Cascade(settings) => Box::new(Cascade::new(settings, scan)?),
            Self::ModelReference(settings) => Box::new(adaptive::ModelReference::new(settings, scan)?),
            Self::SelfTuning(settings) => Box::new(adaptive::SelfTuning::new(settings, scan)?),
            Self::Relay(settings) => Box::new(Relay::new(settings)?),
            // The predictive controller itself stands beside its seats.
            Self::Predictive(_) | Self::Seat | Self::Manual => Box::new(Manual::default()),
        })
    }

    /// The further signals that it reads: outputs and inputs of the process by name, or `load`.
    #[must_use]
    pub fn reads(&self) -> Vec<&str> {
        match self {
            Self::Pid(settings) => settings.reads(),
            Self::Smith(settings) => settings.pid.reads(),
            Self::Cascade(settings) => vec![&settings.signal],
            Self::Predictive(settings) => settings.dvs.iter().map(|dv| dv.signal.as_str()).collect(),
            _ => Vec::new(),
        }
    }

    /// Names and units of what it learns, for columns of a trace.
    #[must_use]
    pub fn learns(&self, pv_span: &Span) -> Vec<(String, String)> {
        let per_span = || "%/%".to_owned();
        let told: Vec<(&str, String)> = match self {
            Self::ModelReference(settings) => {
                let mut all = vec![
                    ("gain on set point", per_span()),
                    ("gain on PV", per_span()),
                    ("reference", format!("% of {}", pv_span.width())),
                ];
                if settings.reference_damping.is_some() {
                    all.push(("gain on rate", per_span()));
                }
                all
            }
            Self::Predictive(_) => {
                ["solver steps", "limits at work", "limits given up"].map(|name| (name, "1".to_owned())).into()
            }
            Self::SelfTuning(_) => vec![("alpha", "1".to_owned()), ("beta", per_span())],
            _ => Vec::new(),
        };
        let estimated = self.predictive().map_or_else(Vec::new, PredictiveSettings::drifting);
        let estimated = estimated.into_iter().map(|(name, unit)| (format!("{name}, as estimated"), unit));
        let learnt = self.predictive().map_or_else(Vec::new, PredictiveSettings::learnt);
        let learnt = learnt.into_iter().map(|name| (name, "1".to_owned()));
        told.into_iter().map(|(name, unit)| (name.to_owned(), unit)).chain(estimated).chain(learnt).collect()
    }

    /// The settings of a predictive controller, where it is one.
    #[must_use]
    pub fn predictive(&self) -> Option<&PredictiveSettings> {
        if let Self::Predictive(settings) = self { Some(settings) } else { None }
    }

    /// Whether it is a predictive controller or a seat of one.
    #[must_use]
    pub fn is_seat(&self) -> bool {
        matches!(self, Self::Predictive(_) | Self::Seat)
    }

    /// The PID settings, where it is a PID controller and nothing else.
    #[must_use]
    pub fn pid(&self) -> Option<&PidSettings> {
        if let Self::Pid(settings) = self { Some(settings) } else { None }
    }

    /// The PID settings that it works with: of a cascade, those of the outer controller.
    #[must_use]
    pub fn main_pid(&self) -> Option<&PidSettings> {
        match self {
            Self::Pid(settings) => Some(settings),
            Self::Smith(settings) => Some(&settings.pid),
            Self::Cascade(settings) => Some(&settings.outer),
            _ => None,
        }
    }

    /// The limits of the output.
    #[must_use]
    pub fn output_limits(&self) -> OutputLimits {
        match self {
            Self::Pid(settings) => settings.output_limits,
            Self::Smith(settings) => settings.pid.output_limits,
            Self::Cascade(settings) => settings.inner.output_limits,
            Self::ModelReference(settings) => settings.output_limits,
            Self::SelfTuning(settings) => settings.output_limits,
            Self::Relay(_) | Self::Predictive(_) | Self::Seat | Self::Manual => OutputLimits::default(),
        }
    }
}

/// A controller in manual: it holds the output that it was last told to track.
#[derive(Debug, Clone, Default)]
struct Manual {
    output: f64,
}

impl Controller for Manual {
    fn scan(&mut self, _: Reading) -> f64 {
        self.output
    }

    fn track(&mut self, _: Reading, output: f64) {
        self.output = output;
    }

    fn explain(&self) -> Explanation {
        Explanation { unlimited: self.output, limited: self.output, ..Explanation::default() }
    }
}
