//! A fitted model, whatever its structure.

use super::Structure;
use super::loss::Loss;
use super::noise::{FittedNoise, NoiseModel};
use super::physical::{PhysicalModel, PhysicalOptions};
use crate::process::LinearSpec;
use crate::verdict::Verdict;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The name and unit of a signal of a model.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SignalName {
    /// Tag, as in the record.
    pub tag: String,
    /// Unit.
    pub unit: String,
}

/// A parameter with its uncertainty.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Parameter {
    /// Name: `gain`, `dead_time`, `a1`, …
    pub name: String,
    /// Tag of the input that it belongs to, where the model has several.
    pub input: Option<String>,
    /// The estimate, in `unit`.
    pub value: f64,
    /// Standard error in the same unit, corrected for coloured residuals; null where the data do not tell (parameter at
    /// a
    /// bound) and where the parameter was given.
    pub standard_error: Option<f64>,
    /// The standard error as it would be for white residuals.
    pub white_error: Option<f64>,
    /// Ends of the 95 % confidence interval: the estimate ± 1.96 standard errors.
    pub interval: Option<[f64; 2]>,
    /// The unit.
    pub unit: String,
    /// Whether the value was given and not estimated.
    pub fixed: bool,
}

/// Where a model rests.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Operating {
    /// OP there, in %: the value at the start of the data; of an integrating process the value at which the PV stands
    /// still.
    pub op: f64,
    /// PV there, in its unit.
    pub pv: f64,
    /// All inputs there, the OP first.
    pub inputs: Vec<f64>,
    /// All outputs there, the PV first.
    pub outputs: Vec<f64>,
}

/// What was under way in the record when the data began, and its slow drift: not part of the process.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StartOfRecord {
    /// What each input is taken to have been before the data, in its unit: its first value, or its mean, whichever fits
    /// better.
    pub inputs: Vec<f64>,
    /// Estimated coefficients of what the states at the start left behind.
    pub transients: Vec<f64>,
    /// Drift of the PV, per second.
    pub drift: f64,
    /// Steps of the PV that nothing measured explains, by time.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<FoundStep>,
}

/// A step of the PV that nothing measured explains.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FoundStep {
    /// When it came, s from the start of the data.
    pub at: f64,
    /// By how much the PV stands higher from then on, PV units.
    pub size: f64,
    /// Its standard error.
    pub standard_error: Option<f64>,
}

/// A further stretch of data that a model was fitted to together with the first: the process is the same, where it
/// rested and what was under way are its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FurtherStretch {
    /// Where the model rests there.
    pub operating: Operating,
    /// What was under way when the stretch began.
    pub start: StartOfRecord,
    /// Agreement with the stretch.
    pub performance: Performance,
}

impl FurtherStretch {
    /// One that is yet to be held against its data.
    pub(super) fn at(operating: Operating) -> Self {
        Self { operating, start: StartOfRecord::default(), performance: Performance::default() }
    }
}

/// How a model agrees with data.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Performance {
    /// `100·(1 − ‖e‖/‖y − ȳ‖)` of the simulated output: the model knows the inputs only.
    pub fit_simulated: f64,
    /// The same one sample ahead: the model knows the outputs until the sample before, too.
    pub fit_one_step: f64,
    /// Standard deviation of what the simulated output leaves, PV units.
    pub residual_deviation: f64,
    /// Correlation of neighbouring residuals, one sample ahead.
    pub residual_correlation: f64,
    /// Number of samples of the PV that were used.
    pub samples: usize,
}

/// Figures by which structures are compared on the same data: the lower the better.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Criteria {
    /// Akaike's information criterion, `N ln(V) + 2p`.
    pub aic: f64,
    /// Bayesian information criterion, `N ln(V) + p ln N` (Schwarz).
    pub bic: f64,
    /// Number of estimated parameters p.
    pub parameters: usize,
}

impl Criteria {
    pub(crate) fn new(sum_of_squares: f64, samples: usize, parameters: usize) -> Self {
        let (n, p) = (samples as f64, parameters as f64);
        let log = n * (sum_of_squares / n).max(f64::MIN_POSITIVE).ln();
        Self { aic: log + 2.0 * p, bic: log + p * n.ln(), parameters }
    }
}

/// The matrices of a state-space model, row by row.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Matrices {
    /// A, states × states.
    pub a: Vec<Vec<f64>>,
    /// B, states × inputs.
    pub b: Vec<Vec<f64>>,
    /// C, outputs × states.
    pub c: Vec<Vec<f64>>,
    /// D, outputs × inputs.
    pub d: Vec<Vec<f64>>,
    /// K, states × outputs: the gain of the innovations.
    pub k: Vec<Vec<f64>>,
    /// State at the start of the data.
    pub initial: Vec<f64>,
    /// Singular values from which the order was taken, the largest first.
    pub singular_values: Vec<f64>,
}

/// What a model is fitted under.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct FitOptions {
    /// The structure.
    pub structure: Structure,
    /// Whether what moves before the data left behind is estimated, too (process structures).
    #[serde(default = "yes")]
    pub initial_state: bool,
    /// Whether a steady drift of the PV is estimated, too (process structures; integrating ones always have it).
    #[serde(default)]
    pub drift: bool,
    /// What a residual costs (process structures).
    #[serde(default)]
    pub loss: Loss,
    /// What is taken to disturb the PV besides the inputs (process structures).
    #[serde(default)]
    pub noise: NoiseModel,
    /// Whether steps of the PV that nothing measured explains are sought and fitted (process structures).
    #[serde(default)]
    pub find_steps: bool,
    /// Parameters that are known, or known to lie in a range (process structures).
    #[serde(default)]
    pub constraints: Vec<Constraint>,
    /// Tags of measured disturbances, which are further inputs.
    #[serde(default)]
    pub disturbances: Vec<String>,
    /// Tags of further outputs (state space, matrix).
    #[serde(default)]
    pub outputs: Vec<String>,
    /// Structures of the ways from the measured disturbances, in their order (process structures); where left out, first
    /// order plus dead time, or an integrator where the process integrates.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paths: Vec<Structure>,
    /// Structures of the cells of a matrix: a row an output, the PV first, a cell an input, the OP first; null where nothing
    /// goes from there to there.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub cells: Vec<Vec<Option<Structure>>>,
    /// The process of a physical model, its channels and what is sought.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub physical: Option<Box<PhysicalOptions>>,
}

fn yes() -> bool {
    true
}

impl FitOptions {
    /// The plain fit of a structure.
    #[must_use]
    pub fn new(structure: Structure) -> Self {
        Self {
            structure,
            initial_state: true,
            drift: false,
            loss: Loss::Squares,
            noise: NoiseModel::White,
            find_steps: false,
            constraints: Vec::new(),
            disturbances: Vec::new(),
            outputs: Vec::new(),
            paths: Vec::new(),
            cells: Vec::new(),
            physical: None,
        }
    }

    /// The structure of the way from an input, the OP being the first.
    pub(super) fn path(&self, input: usize) -> Structure {
        let own = input.checked_sub(1).and_then(|k| self.paths.get(k));
        own.copied().unwrap_or_else(|| self.structure.of_path(input))
    }

    /// Refuses what only other structures have: nothing that is asked for is passed over.
    pub(super) fn check_belongings(&self) -> Result<()> {
        if !self.paths.is_empty() && !self.structure.is_process() {
            let allowed = "none: only a transfer function with dead time has paths beside it";
            return Err(Error::invalid("paths", format!("{} structures", self.paths.len()), allowed));
        }
        if self.physical.is_some() && self.structure != Structure::Physical {
            let words = format!("A process is for a physical model: a {} has none.", self.structure.name());
            return Err(Error::said("physical", words));
        }
        if self.structure == Structure::Physical && !self.constraints.is_empty() {
            let words = "A physical model has its bounds and what is known with what is sought, not in constraints.";
            return Err(Error::said("constraints", words));
        }
        if self.structure == Structure::Matrix {
            return Ok(());
        }
        if !self.cells.is_empty() {
            return Err(Error::invalid("cells", format!("{} rows", self.cells.len()), "none: only a matrix has cells"));
        }
        match self.constraints.iter().enumerate().find_map(|(k, known)| Some((k, known.output.as_ref()?))) {
            None => Ok(()),
            Some((k, tag)) => {
                Err(Error::invalid(format!("constraints[{k}].output"), tag, "left out: only a matrix has several"))
            }
        }
    }

    /// Refuses paths that are no transfer functions with dead time, more of them than there are inputs, and those that
    /// integrate beside a process that does not.
    pub(super) fn check_paths(&self, inputs: usize) -> Result<()> {
        if self.paths.len() >= inputs.max(1) && !self.paths.is_empty() {
            let allowed = format!("one a measured disturbance, {}", inputs.saturating_sub(1));
            return Err(Error::invalid("paths", format!("{} structures", self.paths.len()), allowed));
        }
        for (k, path) in self.paths.iter().enumerate() {
            if !path.is_process() {
                let allowed = "a transfer function with dead time";
                return Err(Error::invalid(format!("paths[{k}]"), path.name(), allowed));
            }
            if path.is_integrating() && !self.structure.is_integrating() {
                let allowed = "one that does not integrate, as the way from the OP does not";
                return Err(Error::invalid(format!("paths[{k}]"), path.name(), allowed));
            }
        }
        Ok(())
    }
}

/// What is known of a parameter beforehand.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Constraint {
    /// Name of the parameter, such as `dead_time`.
    pub parameter: String,
    /// Tag of its input; the OP where left out.
    #[serde(default)]
    pub input: Option<String>,
    /// Tag of its output, in a matrix; the PV where left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output: Option<String>,
    /// The value, where it is known.
    #[serde(default)]
    pub fixed: Option<f64>,
    /// Lowest value allowed.
    #[serde(default)]
    pub low: Option<f64>,
    /// Highest value allowed.
    #[serde(default)]
    pub high: Option<f64>,
}

/// A fitted model.
///
/// Process structures: `pv(t) = operating.pv + Σ Gᵢ (uᵢ − operating.inputs[i]) + start of the record`; polynomial and
/// state-space ones hold for the deviations of inputs and outputs from `operating`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Model {
    /// The structure.
    pub structure: Structure,
    /// How it was estimated.
    pub method: String,
    /// The inputs, the OP first.
    pub inputs: Vec<SignalName>,
    /// The outputs, the PV first.
    pub outputs: Vec<SignalName>,
    /// Sample time in s of polynomial and state-space models.
    pub sample_time: Option<f64>,
    /// The parameters; none for state space, whose matrices are only one choice of many.
    pub parameters: Vec<Parameter>,
    /// Covariance of the parameters in their order, corrected for coloured residuals; empty where there is none, 0 for
    /// parameters without a standard error.
    pub covariance: Vec<Vec<f64>>,
    /// Matrices of a state-space model.
    pub matrices: Option<Matrices>,
    /// Structures of the ways from the inputs beyond the first, where they were chosen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub paths: Vec<Structure>,
    /// Of a matrix: the model of each output, whose inputs are those that act on it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub rows: Vec<Model>,
    /// Of a physical model: its process, its states at the start, and its outputs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub physical: Option<Box<PhysicalModel>>,
    /// Where the model rests.
    pub operating: Operating,
    /// What was under way when the data began.
    pub start: StartOfRecord,
    /// Stretches beyond the first, which `operating` and `start` are about, that it was fitted to.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub further: Vec<FurtherStretch>,
    /// Agreement with the first stretch alone, where there are several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_stretch: Option<Performance>,
    /// The noise model of a process structure that was fitted with one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noise: Option<FittedNoise>,
    /// Agreement with the data that it was fitted to, all stretches together.
    pub estimation: Performance,
    /// Figures for the choice among structures; null where the model was not fitted to the data (a reduction).
    #[serde(default)]
    pub criteria: Option<Criteria>,
    /// What the figures mean.
    pub verdicts: Vec<Verdict>,
}

impl Model {
    /// The value of a parameter of the OP's path.
    #[must_use]
    pub fn parameter(&self, name: &str) -> Option<&Parameter> {
        let of_op = |parameter: &&Parameter| parameter.input.as_ref().is_none_or(|tag| *tag == self.inputs[0].tag);
        self.parameters.iter().filter(of_op).find(|parameter| parameter.name == name)
    }

    /// The model as it was found in a stretch of its data, the first being 0.
    #[must_use]
    pub fn in_stretch(&self, stretch: usize) -> Self {
        let mut own = self.clone();
        own.rows.iter_mut().for_each(|row| *row = row.in_stretch(stretch));
        if let Some(further) = stretch.checked_sub(1).and_then(|k| self.further.get(k)) {
            own.operating = further.operating.clone();
            own.start = further.start.clone();
        }
        own
    }

    /// The values of the parameters in their order.
    #[must_use]
    pub fn values(&self) -> Vec<f64> {
        self.parameters.iter().map(|parameter| parameter.value).collect()
    }

    /// The model from the OP to the PV as a process to be simulated.
    ///
    /// Errors for polynomial and state-space models, which are reduced to a process structure first.
    pub fn process(&self) -> Result<LinearSpec> {
        self.process_of(0, &self.inputs[0].tag)
    }

    /// The plain fit by which a model of these paths would be found.
    pub(super) fn as_fitted(&self) -> FitOptions {
        FitOptions { paths: self.paths.clone(), ..FitOptions::new(self.structure) }
    }

    /// The path of an input of a process model; disturbances have one of first order, or an integrator.
    pub(super) fn process_of(&self, input: usize, tag: &str) -> Result<LinearSpec> {
        let own = |parameter: &&Parameter| parameter.input.as_ref().is_none_or(|of| of == tag);
        let value = |name: &str| {
            let found = self.parameters.iter().filter(own).find(|parameter| parameter.name == name);
            found.map(|parameter| parameter.value).ok_or_else(|| {
                Error::unfit(
                    format!("a model of structure {} is not simulated in a loop as it is", self.structure.name()),
                    "reduce it to a process structure first",
                )
            })
        };
        let (gain, dead_time) = (value("gain")?, value("dead_time")?);
        Ok(match self.as_fitted().path(input) {
            Structure::Fopdt => LinearSpec::Fopdt { gain, time_constant: value("time_constant")?, dead_time },
            with @ (Structure::TwoLags | Structure::TwoLagsLead) => LinearSpec::TwoLags {
                gain,
                time_constant_1: value("time_constant_1")?,
                time_constant_2: value("time_constant_2")?,
                lead_time_constant: if with == Structure::TwoLags { 0.0 } else { value("lead_time_constant")? },
                dead_time,
            },
            Structure::Underdamped => LinearSpec::SecondOrder {
                gain,
                time_constant: value("time_constant")?,
                damping: value("damping")?,
                dead_time,
            },
            Structure::IntegratingLag => {
                LinearSpec::IntegratingLag { gain, time_constant: value("time_constant")?, dead_time }
            }
            // Of the structures with a gain and a dead time this one is left.
            _ => LinearSpec::Integrating { gain, dead_time },
        })
    }

    /// The covariance of the parameters of the [process](Model::process), in the order of [`LinearSpec::parameters`]; 0 where
    /// the data do not tell.
    pub fn process_covariance(&self) -> Result<Vec<Vec<f64>>> {
        let own = |name: &str| {
            self.parameters.iter().position(|parameter| {
                parameter.name == name && parameter.input.as_ref().is_none_or(|tag| *tag == self.inputs[0].tag)
            })
        };
        let places: Vec<Option<usize>> = self.process()?.parameters().into_iter().map(|(name, ..)| own(name)).collect();
        let between = |a: Option<usize>, b: Option<usize>| {
            a.zip(b).and_then(|(a, b)| self.covariance.get(a)?.get(b).copied()).unwrap_or(0.0)
        };
        Ok(places.iter().map(|a| places.iter().map(|b| between(*a, *b)).collect()).collect())
    }

    /// The unit of the PV in which the model was fitted; empty where none was given.
    #[must_use]
    pub fn output_unit(&self) -> &str {
        &self.outputs[0].unit
    }
}
