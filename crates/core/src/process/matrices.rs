//! Linear processes at work: low-order ones, transfer functions between several inputs and outputs, state space.

use super::description::{Description, Quantity, UsualDrive};
use super::equations::{NamedValue, check_names};
use super::{Held, LinearSpec, Port, Process};
use crate::lti::{DeadTime, Propagator, StateSpace, TransferMatrix};
use crate::numerics::eigenvalues;
use crate::{Error, Result, check};
use nalgebra::DMatrix;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Highest order of one transfer function, and most states of a state space.
const HIGHEST_ORDER: usize = 60;
/// Most transfer functions, and states that they have together.
const MOST_ELEMENTS: usize = 100;
const MOST_STATES: usize = 120;

/// Transfer functions between inputs and outputs, each with its own dead time; elements that are not given are 0.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TransferFunctionsSpec {
    /// The inputs with their values at rest.
    pub inputs: Vec<NamedValue>,
    /// The outputs with their values at rest.
    pub outputs: Vec<NamedValue>,
    /// The elements.
    pub elements: Vec<Element>,
}

/// One element of a matrix of transfer functions: `numerator(s)/denominator(s) · exp(−θs)`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Element {
    /// Name of the output.
    pub output: String,
    /// Name of the input.
    pub input: String,
    /// Coefficients of the numerator, the highest power of s first, in seconds.
    pub numerator: Vec<f64>,
    /// Coefficients of the denominator, the highest power first; its degree is not below the numerator's.
    pub denominator: Vec<f64>,
    /// Dead time in s, 0 or more.
    #[serde(default)]
    pub dead_time: f64,
}

/// `x' = A x + B u(t − θ)`, `y = C x + D u(t − θ)`, in deviations from rest.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct StateSpaceSpec {
    /// The inputs with their values at rest.
    pub inputs: Vec<NamedValue>,
    /// The outputs with their values at rest.
    pub outputs: Vec<NamedValue>,
    /// n × n, 1/s, by rows.
    pub a: Vec<Vec<f64>>,
    /// n × inputs, by rows.
    pub b: Vec<Vec<f64>>,
    /// outputs × n, by rows.
    pub c: Vec<Vec<f64>>,
    /// outputs × inputs, by rows; empty for 0.
    #[serde(default)]
    pub d: Vec<Vec<f64>>,
    /// Dead time of each input in s; empty for none.
    #[serde(default)]
    pub dead_times: Vec<f64>,
}

/// A linear process at rest somewhere; its states are deviations.
#[derive(Debug, Clone)]
pub struct LinearProcess {
    description: Description,
    propagator: Propagator,
    feed_through: DMatrix<f64>,
    /// Whether any of it is not 0.
    passes_on: bool,
    ports: Vec<Port>,
    rest_inputs: Vec<f64>,
    rest_outputs: Vec<f64>,
    parameters: Vec<f64>,
    spec: Option<LinearSpec>,
}

impl LinearProcess {
    /// One input in %, one output in `unit`.
    pub fn of_spec(spec: &LinearSpec, unit: &str) -> Result<Self> {
        let system = spec.state_space()?;
        let ports = vec![Port { input: 0, dead_time: system.dead_time() }];
        let parameters = spec
            .parameters()
            .into_iter()
            .map(|(name, own_unit, value)| {
                let range = match name {
                    "gain" | "lead_time_constant" => (-1e9, 1e9),
                    "dead_time" => (0.0, 1e9),
                    _ => (f64::MIN_POSITIVE, 1e9),
                };
                Quantity::new(name, &own_unit.replace("PV unit", unit), value, range, "")
            })
            .collect();
        let input = Quantity::new("input", "%", 0.0, (-1e4, 1e4), "what the controller output acts on");
        let output = Quantity::output("output", unit, "what is measured");
        let mut process = Self::assembled(spec.title(), vec![input], vec![output], system, ports, None)?;
        process.description.parameters = parameters;
        process.parameters = spec.parameters().into_iter().map(|parameter| parameter.2).collect();
        process.spec = Some(spec.clone());
        Ok(process)
    }

    /// From a matrix of transfer functions, each in controllable form.
    pub fn of_transfer_functions(spec: &TransferFunctionsSpec) -> Result<Self> {
        let (inputs, outputs) = signals(&spec.inputs, &spec.outputs)?;
        if spec.elements.is_empty() {
            return Err(Error::invalid("process.elements", "empty", "at least one transfer function"));
        }
        if spec.elements.len() > MOST_ELEMENTS {
            let given = format!("{} transfer functions", spec.elements.len());
            return Err(Error::invalid("process.elements", given, format!("at most {MOST_ELEMENTS}")));
        }
        let parts: Vec<Part> = spec
            .elements
            .iter()
            .enumerate()
            .map(|(k, element)| {
                let field = format!("process.elements[{k}]");
                let input = Description::position(&inputs, &element.input, &format!("{field}.input"))?;
                let output = Description::position(&outputs, &element.output, &format!("{field}.output"))?;
                Part::new(element, input, output, &field)
            })
            .collect::<Result<_>>()?;
        let n: usize = parts.iter().map(|part| part.a.len()).sum();
        if n > MOST_STATES {
            let allowed = format!("of order {MOST_STATES} together at most");
            return Err(Error::invalid("process.elements", format!("of order {n} together"), allowed));
        }
        let (mut a, mut b) = (DMatrix::zeros(n.max(1), n.max(1)), DMatrix::zeros(n.max(1), parts.len()));
        let (mut c, mut d) = (DMatrix::zeros(outputs.len(), n.max(1)), DMatrix::zeros(outputs.len(), parts.len()));
        let mut from = 0;
        for (port, part) in parts.iter().enumerate() {
            let order = part.a.len();
            for i in 0..order {
                if i + 1 < order {
                    a[(from + i, from + i + 1)] = 1.0;
                }
                a[(from + order - 1, from + i)] = part.a[i];
                c[(part.output, from + i)] = part.c[i];
            }
            if order > 0 {
                b[(from + order - 1, port)] = 1.0;
            }
            d[(part.output, port)] = part.through;
            from += order;
        }
        let ports = parts.iter().map(|part| Port { input: part.input, dead_time: part.dead_time }).collect();
        let system = StateSpace::new(a, b, c, DeadTime::new(0.0)?)?;
        Self::assembled("Transfer functions with dead time", inputs, outputs, system, ports, Some(d))
    }

    /// From matrices.
    pub fn of_state_space(spec: &StateSpaceSpec) -> Result<Self> {
        let (inputs, outputs) = signals(&spec.inputs, &spec.outputs)?;
        let n = spec.a.len();
        if n == 0 || n > HIGHEST_ORDER {
            return Err(Error::invalid("process.a", format!("{n} rows"), format!("1 to {HIGHEST_ORDER} rows")));
        }
        let a = matrix("process.a", &spec.a, n, n)?;
        let b = matrix("process.b", &spec.b, n, inputs.len())?;
        let c = matrix("process.c", &spec.c, outputs.len(), n)?;
        let d = if spec.d.is_empty() { None } else { Some(matrix("process.d", &spec.d, outputs.len(), inputs.len())?) };
        if !spec.dead_times.is_empty() && spec.dead_times.len() != inputs.len() {
            return Err(Error::invalid(
                "process.dead_times",
                format!("{} numbers", spec.dead_times.len()),
                format!("one an input, {}", inputs.len()),
            ));
        }
        let ports = (0..inputs.len())
            .map(|input| {
                let seconds = spec.dead_times.get(input).copied().unwrap_or(0.0);
                check::not_negative(&format!("process.dead_times[{input}]"), seconds, "s")?;
                Ok(Port { input, dead_time: DeadTime::new(seconds)? })
            })
            .collect::<Result<_>>()?;
        let system = StateSpace::new(a, b, c, DeadTime::new(0.0)?)?;
        Self::assembled("State space", inputs, outputs, system, ports, d)
    }

    fn assembled(
        title: &str,
        inputs: Vec<Quantity>,
        outputs: Vec<Quantity>,
        system: StateSpace,
        ports: Vec<Port>,
        feed_through: Option<DMatrix<f64>>,
    ) -> Result<Self> {
        let states = (1..=system.order())
            .map(|k| Quantity::new(format!("state_{k}"), "", 0.0, (-1e12, 1e12), "deviation from rest"))
            .collect();
        let drive = UsualDrive { input: inputs[0].name.clone(), at_0: 0.0, at_100: 100.0 };
        Ok(Self {
            rest_inputs: ports.iter().map(|port| inputs[port.input].value).collect(),
            rest_outputs: outputs.iter().map(|output| output.value).collect(),
            passes_on: feed_through.as_ref().is_some_and(|d| d.iter().any(|value| *value != 0.0)),
            feed_through: feed_through.unwrap_or_else(|| DMatrix::zeros(outputs.len(), ports.len())),
            description: Description {
                batch: false,
                name: title.to_owned(),
                title: title.to_owned(),
                states,
                inputs,
                outputs,
                parameters: Vec::new(),
                balances: Vec::new(),
                drive,
            },
            propagator: Propagator::new(system),
            ports,
            parameters: Vec::new(),
            spec: None,
        })
    }

    /// All its ways in and outputs.
    #[must_use]
    pub fn transfer_matrix(&self) -> TransferMatrix {
        let (a, b, c) = self.propagator.system().matrices();
        let ways = self.ports.iter().map(|port| (port.input, port.dead_time));
        let all = [a.clone(), b.clone(), c.clone(), self.feed_through.clone()];
        TransferMatrix::new(all, ways, self.description.inputs.len())
    }

    /// Rests at these inputs, and at `value` of output `output`.
    pub fn rest(&mut self, inputs: &[f64], output: usize, value: f64) {
        for (rest, port) in self.rest_inputs.iter_mut().zip(&self.ports) {
            *rest = inputs[port.input];
        }
        self.rest_outputs[output] = value;
    }

    /// Output `output` seen through a lag of these time constants in s: the same process with the states of the lag.
    pub fn behind_lag(mut self, output: usize, time_constants: &[f64]) -> Result<Self> {
        for tau in time_constants {
            let (a, b, c) = self.propagator.system().matrices();
            let (n, m) = (a.nrows(), b.ncols());
            let mut longer = (DMatrix::zeros(n + 1, n + 1), DMatrix::zeros(n + 1, m), DMatrix::zeros(c.nrows(), n + 1));
            longer.0.view_mut((0, 0), (n, n)).copy_from(a);
            longer.0.view_mut((n, 0), (1, n)).copy_from(&(c.row(output) / *tau));
            longer.0[(n, n)] = -1.0 / tau;
            longer.1.view_mut((0, 0), (n, m)).copy_from(b);
            longer.1.view_mut((n, 0), (1, m)).copy_from(&(self.feed_through.row(output) / *tau));
            longer.2.view_mut((0, 0), (c.nrows(), n)).copy_from(c);
            longer.2.row_mut(output).fill(0.0);
            longer.2[(output, n)] = 1.0;
            self.feed_through.row_mut(output).fill(0.0);
            let dead_time = self.propagator.system().dead_time();
            self.propagator = Propagator::new(StateSpace::new(longer.0, longer.1, longer.2, dead_time)?);
            self.description.states.push(Quantity::new("sensor_lag", "", 0.0, (-1e12, 1e12), "deviation from rest"));
        }
        self.passes_on = self.feed_through.iter().any(|value| *value != 0.0);
        // What was set up for one low-order process is no longer all there is.
        if !time_constants.is_empty() {
            self.spec = None;
        }
        Ok(self)
    }
}

/// The responses of every output to a unit step of every input.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StepTable {
    /// Times in s from the step.
    pub times: Vec<f64>,
    /// One for each pair that is connected.
    pub responses: Vec<StepOfPair>,
}

/// What an output does after a unit step of an input.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct StepOfPair {
    /// Name of the output.
    pub output: String,
    /// Name of the input.
    pub input: String,
    /// Deviation of the output, in its unit per unit of the input, one a time.
    pub values: Vec<f64>,
}

/// Points of a step response.
const POINTS: usize = 161;

impl LinearProcess {
    /// The responses of every output to a unit step of every input, as long as the slowest of them takes.
    pub fn step_table(&self) -> Result<StepTable> {
        let (a, b, c) = self.propagator.system().matrices();
        let reach = |rate: f64| if rate < 0.0 { 5.0 / -rate } else { 3.0 / rate };
        let rates = eigenvalues(a.clone());
        let slowest = rates.iter().map(|root| root.re).filter(|rate| rate.abs() > 1e-9).map(reach).fold(0.0, f64::max);
        let latest = self.ports.iter().map(|port| port.dead_time.seconds()).fold(0.0, f64::max);
        let length = if slowest > 0.0 { slowest } else { 100.0 } + 1.2 * latest;
        let interval = length / (POINTS - 1) as f64;
        let mut responses = Vec::new();
        for (i, output) in self.description.outputs.iter().enumerate() {
            for (j, input) in self.description.inputs.iter().enumerate() {
                let mut values = vec![0.0; POINTS];
                let mut connected = false;
                for (port, way) in self.ports.iter().enumerate().filter(|(_, way)| way.input == j) {
                    crate::work::go_on();
                    let through = self.feed_through[(i, port)];
                    let own = StateSpace::new(
                        a.clone(),
                        DMatrix::from_column_slice(b.nrows(), 1, b.column(port).as_slice()),
                        DMatrix::from_iterator(1, c.ncols(), c.row(i).iter().copied()),
                        way.dead_time,
                    )?
                    .with_feed_through(through);
                    let part = own.step_response(interval, POINTS);
                    connected |= part.iter().any(|value| *value != 0.0);
                    values.iter_mut().zip(part).for_each(|(value, part)| *value += part);
                }
                if connected {
                    responses.push(StepOfPair { output: output.name.clone(), input: input.name.clone(), values });
                }
            }
        }
        Ok(StepTable { times: (0..POINTS).map(|k| k as f64 * interval).collect(), responses })
    }
}

impl Process for LinearProcess {
    fn description(&self) -> &Description {
        &self.description
    }

    fn ports(&self) -> &[Port] {
        &self.ports
    }

    fn parameters(&self) -> &[f64] {
        &self.parameters
    }

    fn set_parameter(&mut self, index: usize, value: f64) -> Result<()> {
        let name = self.description.parameters.get(index).map_or("parameter", |parameter| parameter.name.as_str());
        let Some(spec) = &self.spec else {
            return Err(Error::invalid(
                "scenario.events.parameter",
                name,
                "none of this process while its sensor lags",
            ));
        };
        if name == "dead_time" {
            return Err(Error::invalid("scenario.events.parameter", name, "any but the dead time"));
        }
        let mut values = self.parameters.clone();
        values[index] = value;
        let changed = spec.with_parameters(&values);
        changed.validate()?;
        self.propagator = Propagator::new(changed.state_space()?);
        self.parameters = values;
        self.spec = Some(changed);
        Ok(())
    }

    fn rates(&self, x: &[f64], u: &[f64], _: Held, rates: &mut [f64]) {
        let (a, b, _) = self.propagator.system().matrices();
        for (i, rate) in rates.iter_mut().enumerate() {
            let states: f64 = x.iter().enumerate().map(|(j, x)| a[(i, j)] * x).sum();
            let inputs: f64 = (0..u.len()).map(|j| b[(i, j)] * (u[j] - self.rest_inputs[j])).sum();
            *rate = states + inputs;
        }
    }

    fn outputs(&self, x: &[f64], u: &[f64], _: Held, outputs: &mut [f64]) {
        if let ([state], [output], false) = (x, &mut *outputs, self.passes_on) {
            *output = self.propagator.system().matrices().2[0] * state + self.rest_outputs[0];
            return;
        }
        self.propagator.system().outputs(x, outputs);
        for (output, rest) in outputs.iter_mut().zip(&self.rest_outputs) {
            *output += rest;
        }
        if !self.passes_on {
            return;
        }
        for (i, output) in outputs.iter_mut().enumerate() {
            *output += (0..u.len()).map(|j| self.feed_through[(i, j)] * (u[j] - self.rest_inputs[j])).sum::<f64>();
        }
    }

    fn feeds_through(&self) -> bool {
        self.passes_on
    }

    fn propagator(&mut self) -> Option<(&mut Propagator, &[f64])> {
        Some((&mut self.propagator, &self.rest_inputs))
    }
}

/// One transfer function in controllable form, with where it leads from and to.
struct Part {
    input: usize,
    output: usize,
    dead_time: DeadTime,
    /// Last row of A.
    a: Vec<f64>,
    c: Vec<f64>,
    through: f64,
}

impl Part {
    fn new(element: &Element, input: usize, output: usize, field: &str) -> Result<Self> {
        let trimmed = |name: &str, coefficients: &[f64]| -> Result<Vec<f64>> {
            for (k, coefficient) in coefficients.iter().enumerate() {
                check::finite(&format!("{field}.{name}[{k}]"), *coefficient)?;
            }
            let first = coefficients.iter().position(|c| *c != 0.0).ok_or_else(|| {
                Error::invalid(
                    format!("{field}.{name}"),
                    format!("{coefficients:?}"),
                    "at least one number other than 0",
                )
            })?;
            Ok(coefficients[first..].to_vec())
        };
        let numerator = trimmed("numerator", &element.numerator)?;
        let denominator = trimmed("denominator", &element.denominator)?;
        let order = denominator.len() - 1;
        if order > HIGHEST_ORDER {
            return Err(Error::invalid(
                format!("{field}.denominator"),
                format!("of degree {order}"),
                format!("at most {HIGHEST_ORDER}"),
            ));
        }
        if numerator.len() > denominator.len() {
            return Err(Error::invalid(
                format!("{field}.numerator"),
                format!("of degree {}", numerator.len() - 1),
                format!("at most the degree of the denominator, {order}"),
            ));
        }
        check::not_negative(&format!("{field}.dead_time"), element.dead_time, "s")?;
        let lead = denominator[0];
        let tail: Vec<f64> = denominator[1..].iter().map(|c| c / lead).collect();
        let mut padded = vec![0.0; denominator.len() - numerator.len()];
        padded.extend(numerator.iter().map(|c| c / lead));
        let through = padded[0];
        // Ascending powers, the direct part taken off.
        let c = (0..order).map(|i| padded[order - i] - through * tail[order - 1 - i]).collect();
        let a = (0..order).map(|i| -tail[order - 1 - i]).collect();
        Ok(Self { input, output, dead_time: DeadTime::new(element.dead_time)?, a, c, through })
    }
}

fn signals(inputs: &[NamedValue], outputs: &[NamedValue]) -> Result<(Vec<Quantity>, Vec<Quantity>)> {
    check_names([("process.inputs", inputs), ("process.outputs", outputs)])?;
    let quantity =
        |signal: &NamedValue| Quantity::new(&signal.name, &signal.unit, signal.value, (-1e9, 1e9), "given by the user");
    Ok((inputs.iter().map(quantity).collect(), outputs.iter().map(quantity).collect()))
}

fn matrix(field: &str, rows: &[Vec<f64>], height: usize, width: usize) -> Result<DMatrix<f64>> {
    if rows.len() != height || rows.iter().any(|row| row.len() != width) {
        let widths = rows.first().map_or(0, Vec::len);
        return Err(Error::invalid(field, format!("{} × {widths}", rows.len()), format!("{height} × {width}")));
    }
    for (i, row) in rows.iter().enumerate() {
        for (j, value) in row.iter().enumerate() {
            check::finite(&format!("{field}[{i}][{j}]"), *value)?;
        }
    }
    Ok(DMatrix::from_fn(height, width, |i, j| rows[i][j]))
}
