//! The structures a model can have.

use crate::lti::Dynamics;
use crate::process::LinearSpec;
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Most coefficients of one polynomial, and most states.
const LARGEST_ORDER: usize = 30;
/// Longest delay of a polynomial model, in samples.
const LONGEST_DELAY: usize = 1000;

/// The structure of a model.
///
/// The first six are continuous transfer functions with a dead time that is not rounded to the sample. The polynomial
/// ones
/// are difference equations of the backward shift `q⁻¹` (Ljung, System Identification, 2nd ed. 1999, section 4.2);
/// their orders hold for every input.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum Structure {
    /// First order plus dead time: `K exp(−θs) / (τs + 1)`.
    Fopdt,
    /// Two lags with dead time: `K exp(−θs) / ((τ₁s + 1)(τ₂s + 1))`.
    TwoLags,
    /// Second order with dead time, possibly oscillating: `K exp(−θs) / (τ²s² + 2ζτs + 1)`.
    Underdamped,
    /// Two lags with a lead, or with inverse response where the lead is negative: `K (Tz s + 1) exp(−θs) / ((τ₁s + 1)(τ₂s + 1))`.
    TwoLagsLead,
    /// Integrating with dead time: `k' exp(−θs) / s`.
    Integrating,
    /// Integrating with lag and dead time: `k' exp(−θs) / (s (τs + 1))`.
    IntegratingLag,
    /// `A y = B u(t − nk) + e`, by linear least squares.
    Arx {
        /// Coefficients of A after the leading 1.
        na: usize,
        /// Coefficients of each B.
        nb: usize,
        /// Delay of the inputs in samples; 1 is the hold's own.
        nk: usize,
    },
    /// `A y = B u(t − nk) + C e`, by prediction error.
    Armax {
        /// Coefficients of A after the leading 1.
        na: usize,
        /// Coefficients of each B.
        nb: usize,
        /// Coefficients of C after the leading 1.
        nc: usize,
        /// Delay of the inputs in samples.
        nk: usize,
    },
    /// `y = B/F u(t − nk) + e`, by prediction error.
    OutputError {
        /// Coefficients of each B.
        nb: usize,
        /// Coefficients of each F after the leading 1.
        nf: usize,
        /// Delay of the inputs in samples.
        nk: usize,
    },
    /// `y = B/F u(t − nk) + C/D e`, by prediction error.
    BoxJenkins {
        /// Coefficients of each B.
        nb: usize,
        /// Coefficients of C after the leading 1.
        nc: usize,
        /// Coefficients of D after the leading 1.
        nd: usize,
        /// Coefficients of each F after the leading 1.
        nf: usize,
        /// Delay of the inputs in samples.
        nk: usize,
    },
    /// `x(t+1) = A x + B u + K e`, `y = C x + D u + e`, by subspace.
    StateSpace {
        /// Number of states; 0 takes it from the singular values.
        order: usize,
    },
    /// Transfer functions with dead time from every input to every output, each of its own structure or none; the cells of
    /// a row are fitted jointly.
    Matrix,
    /// A first-principles process whose unknown numbers are estimated.
    Physical,
}

/// An order of a structure.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, ToSchema)]
pub struct Order {
    /// Its name in a structure, such as `na`.
    pub name: &'static str,
    /// What it is, in a few words.
    pub title: &'static str,
    /// Its value.
    pub value: usize,
    /// Lowest value allowed.
    pub low: usize,
    /// Highest value allowed.
    pub high: usize,
}

/// A structure that can be fitted.
#[derive(Debug, Clone, PartialEq, Serialize, ToSchema)]
pub struct StructureOffer {
    /// The structure, with orders to begin with.
    pub structure: Structure,
    /// What it is, in a few words.
    pub title: &'static str,
    /// The same in a few letters, for tables.
    pub short: &'static str,
    /// Whether it is a continuous transfer function with dead time.
    pub is_process: bool,
    /// Whether a trial can begin with it as it is: others are reduced to a transfer function with dead time first.
    pub begins_trials: bool,
    /// Its orders.
    pub orders: Vec<Order>,
    /// Names of the parameters of the OP's path that can be known beforehand.
    pub parameters: Vec<&'static str>,
}

/// What a parameter of a process structure is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum ParameterKind {
    Gain,
    Lead,
    /// A parameter of the dynamics, estimated as a logarithm, with its place there.
    Shape(usize),
    DeadTime,
}

impl Structure {
    /// The continuous structures.
    pub const PROCESS: [Self; 6] =
        [Self::Fopdt, Self::TwoLags, Self::Underdamped, Self::TwoLagsLead, Self::Integrating, Self::IntegratingLag];

    /// Whether it is a continuous transfer function with dead time.
    #[must_use]
    pub fn is_process(&self) -> bool {
        Self::PROCESS.contains(self)
    }

    /// Whether a constant OP makes the PV run away.
    #[must_use]
    pub fn is_integrating(&self) -> bool {
        matches!(self, Self::Integrating | Self::IntegratingLag)
    }

    /// The name in the trade's words.
    #[must_use]
    pub fn name(&self) -> String {
        match *self {
            Self::Fopdt => "first order plus dead time".into(),
            Self::TwoLags => "two lags plus dead time".into(),
            Self::Underdamped => "second order plus dead time, under-damped".into(),
            Self::TwoLagsLead => "two lags and a lead plus dead time".into(),
            Self::Integrating => "integrating with dead time".into(),
            Self::IntegratingLag => "integrating with lag and dead time".into(),
            Self::Arx { na, nb, nk } => format!("ARX ({na}, {nb}, {nk})"),
            Self::Armax { na, nb, nc, nk } => format!("ARMAX ({na}, {nb}, {nc}, {nk})"),
            Self::OutputError { nb, nf, nk } => format!("output error ({nb}, {nf}, {nk})"),
            Self::BoxJenkins { nb, nc, nd, nf, nk } => format!("Box–Jenkins ({nb}, {nc}, {nd}, {nf}, {nk})"),
            Self::StateSpace { order } => format!("state space of order {order}"),
            Self::Matrix => "matrix of transfer functions".into(),
            Self::Physical => "physical balances".into(),
        }
    }

    /// Reads a structure as it is written on a command line: `fopdt`, `two-lags`, `arx:2,2,3`, `ss:4` and so on.
    pub fn parse(text: &str) -> Result<Self> {
        let (kind, orders) = text.split_once(':').unwrap_or((text, ""));
        let refused = || {
            Error::invalid(
                "structure",
                text,
                "fopdt, two-lags, underdamped, two-lags-lead, integrating, integrating-lag, arx:NA,NB,NK, armax:NA,NB,NC,NK, \
                 oe:NB,NF,NK, bj:NB,NC,ND,NF,NK, ss, ss:ORDER, matrix or physical",
            )
        };
        let orders: Vec<usize> = if orders.is_empty() {
            Vec::new()
        } else {
            orders.split(',').map(|order| order.trim().parse().map_err(|_| refused())).collect::<Result<_>>()?
        };
        let structure = match (kind, &orders[..]) {
            ("fopdt", []) => Self::Fopdt,
            ("two-lags", []) => Self::TwoLags,
            ("underdamped", []) => Self::Underdamped,
            ("two-lags-lead", []) => Self::TwoLagsLead,
            ("integrating", []) => Self::Integrating,
            ("integrating-lag", []) => Self::IntegratingLag,
            ("arx", [na, nb, nk]) => Self::Arx { na: *na, nb: *nb, nk: *nk },
            ("armax", [na, nb, nc, nk]) => Self::Armax { na: *na, nb: *nb, nc: *nc, nk: *nk },
            ("oe", [nb, nf, nk]) => Self::OutputError { nb: *nb, nf: *nf, nk: *nk },
            ("bj", [nb, nc, nd, nf, nk]) => Self::BoxJenkins { nb: *nb, nc: *nc, nd: *nd, nf: *nf, nk: *nk },
            ("matrix", []) => Self::Matrix,
            ("physical", []) => Self::Physical,
            ("ss", []) => Self::StateSpace { order: 0 },
            ("ss", [order]) => Self::StateSpace { order: *order },
            _ => return Err(refused()),
        };
        structure.validate().map(|()| structure)
    }

    /// The orders with what each may be; none for a process structure.
    fn orders(&self) -> Vec<Order> {
        let of = |name, title, value, low| Order { name, title, value, low, high: LARGEST_ORDER };
        let delay = |value| Order { name: "nk", title: "Delay", value, low: 0, high: LONGEST_DELAY };
        let (a, b) = (|value| of("na", "Coefficients of A", value, 0), |value| of("nb", "Coefficients of B", value, 1));
        let (c, d) = (|value| of("nc", "Coefficients of C", value, 0), |value| of("nd", "Coefficients of D", value, 0));
        let f = |value| of("nf", "Coefficients of F", value, 0);
        match *self {
            Self::Arx { na, nb, nk } => vec![a(na), b(nb), delay(nk)],
            Self::Armax { na, nb, nc, nk } => vec![a(na), b(nb), c(nc), delay(nk)],
            Self::OutputError { nb, nf, nk } => vec![b(nb), f(nf), delay(nk)],
            Self::BoxJenkins { nb, nc, nd, nf, nk } => vec![b(nb), c(nc), d(nd), f(nf), delay(nk)],
            Self::StateSpace { order } => vec![of("order", "States (0: found)", order, 0)],
            _ => Vec::new(),
        }
    }

    /// Refuses orders that no data can tell.
    pub fn validate(&self) -> Result<()> {
        match self.orders().into_iter().find(|order| !(order.low..=order.high).contains(&order.value)) {
            None => Ok(()),
            Some(Order { name, value, low, high, .. }) => {
                Err(Error::invalid(format!("structure.{name}"), value, format!("{low} to {high}")))
            }
        }
    }

    /// All structures, each with orders to begin with and what may be set.
    #[must_use]
    pub fn offers() -> Vec<StructureOffer> {
        let all = [
            (Self::Fopdt, "First order, dead time", "FOPDT"),
            (Self::TwoLags, "Two lags, dead time", "two lags"),
            (Self::Underdamped, "Under-damped, dead time", "2nd order"),
            (Self::TwoLagsLead, "Two lags and lead, dead time", "lags + lead"),
            (Self::Integrating, "Integrating, dead time", "integrating"),
            (Self::IntegratingLag, "Integrating, lag, dead time", "integr. + lag"),
            (Self::Arx { na: 2, nb: 2, nk: 1 }, "ARX, least squares", "ARX"),
            (Self::Armax { na: 2, nb: 2, nc: 1, nk: 1 }, "ARMAX, prediction error", "ARMAX"),
            (Self::OutputError { nb: 2, nf: 2, nk: 1 }, "Output error (B/F)", "OE"),
            (Self::BoxJenkins { nb: 2, nc: 1, nd: 1, nf: 2, nk: 1 }, "Box–Jenkins (B/F, C/D)", "BJ"),
            (Self::StateSpace { order: 0 }, "State space, subspace", "SS"),
            (Self::Matrix, "Matrix, dead time in every cell", "matrix"),
            (Self::Physical, "Physical, balances with unknown numbers", "physical"),
        ];
        let offer = |(structure, title, short): (Self, &'static str, &'static str)| StructureOffer {
            structure,
            title,
            short,
            is_process: structure.is_process(),
            begins_trials: structure.is_process() || matches!(structure, Self::Matrix | Self::Physical),
            orders: structure.orders(),
            parameters: structure.process_parameters().iter().map(|(name, _)| *name).collect(),
        };
        all.into_iter().map(offer).collect()
    }

    /// The parameters of a process structure with their names, in the order in which a model lists them.
    pub(crate) fn process_parameters(&self) -> &'static [(&'static str, ParameterKind)] {
        use ParameterKind::{DeadTime, Gain, Lead, Shape};
        match self {
            Self::Fopdt | Self::IntegratingLag => {
                &[("gain", Gain), ("time_constant", Shape(0)), ("dead_time", DeadTime)]
            }
            Self::TwoLags => {
                &[("gain", Gain), ("time_constant_1", Shape(0)), ("time_constant_2", Shape(1)), ("dead_time", DeadTime)]
            }
            Self::Underdamped => {
                &[("gain", Gain), ("time_constant", Shape(0)), ("damping", Shape(1)), ("dead_time", DeadTime)]
            }
            Self::TwoLagsLead => &[
                ("gain", Gain),
                ("lead_time_constant", Lead),
                ("time_constant_1", Shape(0)),
                ("time_constant_2", Shape(1)),
                ("dead_time", DeadTime),
            ],
            Self::Integrating => &[("gain", Gain), ("dead_time", DeadTime)],
            _ => &[],
        }
    }

    /// The structure of the path of an input: the OP's own, a lag with dead time for each disturbance, or an integrator
    /// with dead time where the
    /// process integrates.
    pub(crate) fn of_path(self, input: usize) -> Self {
        match self {
            own if input == 0 => own,
            own if own.is_integrating() => Self::Integrating,
            _ => Self::Fopdt,
        }
    }

    /// The structure of a process with its parameters in the order of a model.
    pub(crate) fn of_process(process: &LinearSpec) -> (Self, Vec<f64>) {
        match *process {
            LinearSpec::Fopdt { gain, time_constant, dead_time } => (Self::Fopdt, vec![gain, time_constant, dead_time]),
            LinearSpec::TwoLags { gain, time_constant_1, time_constant_2, lead_time_constant, dead_time } => {
                if lead_time_constant == 0.0 {
                    (Self::TwoLags, vec![gain, time_constant_1, time_constant_2, dead_time])
                } else {
                    let values = vec![gain, lead_time_constant, time_constant_1, time_constant_2, dead_time];
                    (Self::TwoLagsLead, values)
                }
            }
            LinearSpec::SecondOrder { gain, time_constant, damping, dead_time } => {
                (Self::Underdamped, vec![gain, time_constant, damping, dead_time])
            }
            LinearSpec::IntegratingLag { gain, time_constant, dead_time } => {
                (Self::IntegratingLag, vec![gain, time_constant, dead_time])
            }
            LinearSpec::Integrating { gain, dead_time } => (Self::Integrating, vec![gain, dead_time]),
        }
    }

    /// The dynamics of a process structure with these shape parameters; a lag for the others, which have none.
    pub(crate) fn dynamics(&self, shape: [f64; 2]) -> Dynamics {
        match self {
            Self::TwoLags | Self::TwoLagsLead => Dynamics::TwoLags { time_constants: shape },
            Self::Underdamped => Dynamics::SecondOrder { time_constant: shape[0], damping: shape[1] },
            Self::Integrating => Dynamics::Integrator,
            Self::IntegratingLag => Dynamics::IntegratorLag { time_constant: shape[0] },
            _ => Dynamics::Lag { time_constant: shape[0] },
        }
    }

    /// Shape parameters to begin a search with, for a process that takes about `time_constant` seconds.
    pub(crate) fn shapes_of_scale(&self, time_constant: f64) -> Vec<[f64; 2]> {
        let tau = time_constant;
        match self {
            Self::TwoLags | Self::TwoLagsLead => vec![[0.85 * tau, 0.15 * tau], [0.6 * tau, 0.4 * tau]],
            Self::Underdamped => [0.2, 0.5, 1.0].map(|damping| [0.5 * tau, damping]).to_vec(),
            _ => vec![[tau, 1.0]],
        }
    }
}
