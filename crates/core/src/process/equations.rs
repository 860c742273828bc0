//! Equations of one's own: states, inputs and parameters with units, right-hand sides in ordinary arithmetic.

use super::description::{Balance, Description, Quantity, Term, TermKind, UsualDrive};
use super::{Held, InDualNumbers, Port, Process};
use crate::lti::DeadTime;
use crate::numerics::{Arithmetic, Dual, Number, read_arithmetic};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use utoipa::ToSchema;

/// Most states, and most names in one equation.
const MOST_STATES: usize = 40;
const MOST_NAMES: usize = 32;
/// Most inputs, outputs, parameters and definitions, each.
const MOST_SIGNALS: usize = 100;
/// Longest equation in characters.
const LONGEST: usize = 500;

/// A name with its unit and value.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct NamedValue {
    /// The name: letters, digits and `_`, beginning with a letter.
    pub name: String,
    /// The unit, as text; empty for a pure number.
    #[serde(default)]
    pub unit: String,
    /// The value: of a state at the start, of an input at rest, of a parameter.
    #[serde(default)]
    pub value: f64,
    /// Lowest value that can be; a state that passes it has run away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<f64>,
    /// Highest value that can be.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<f64>,
}

impl NamedValue {
    /// What can be: the bounds where they are given.
    fn range(&self) -> (f64, f64) {
        (self.low.unwrap_or(-1e9), self.high.unwrap_or(1e9))
    }

    fn bound_problem(&self, field: &str) -> Option<Error> {
        let (low, high) = self.range();
        if low >= high {
            let words = format!("The lowest {} ({low}) is not below the highest ({high}).", self.name);
            return Some(Error::said(format!("{field}.low"), words));
        }
        let is_bounded = self.low.is_some() || self.high.is_some();
        check::within(&format!("{field}.value"), self.value, low, high, &self.unit).err().filter(|_| is_bounded)
    }
}

/// `name = equals`.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Equation {
    /// What stands on the left.
    pub name: String,
    /// The right-hand side, for example `(inflow - k * sqrt(level)) / area`.
    pub equals: String,
}

/// An output with its unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OwnOutput {
    /// The name; that of a state, too.
    pub name: String,
    /// The unit, as text.
    #[serde(default)]
    pub unit: String,
    /// What it is made of, for example `level`.
    pub equals: String,
}

/// A process written down by its equations.
///
/// Arithmetic is `+ - * / ^` with brackets, the functions `sqrt`, `exp`, `ln`, `log10`, `sin`, `cos`, `tan`, `tanh`, `abs`,
/// `signum` and so on, `min(a, b)`, `max(a, b)`, and `PI`. Time is in seconds: rates are per second.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct EquationsSpec {
    /// What the process is, in a line.
    #[serde(default)]
    pub title: String,
    /// The states, with their values at the start.
    pub states: Vec<NamedValue>,
    /// The inputs, with their values at rest; the first is what the controller output acts on where nothing else is said.
    pub inputs: Vec<NamedValue>,
    /// The parameters.
    #[serde(default)]
    pub parameters: Vec<NamedValue>,
    /// Names for parts that occur often; each may use those before it.
    #[serde(default)]
    pub definitions: Vec<Equation>,
    /// The rate of each state, per second.
    pub rates: Vec<Equation>,
    /// The outputs; the first is the PV where nothing else is said.
    pub outputs: Vec<OwnOutput>,
}

impl EquationsSpec {
    /// Everything that is wrong, in the order in which it is written down; empty when it can be simulated.
    #[must_use]
    pub fn problems(&self) -> Vec<Error> {
        match Compiled::new(self) {
            Ok(compiled) => compiled.problems_at_start(self),
            Err(problems) => problems,
        }
    }
}

/// A name for a signal that is called `tag` elsewhere, and different from those that are `taken`.
#[must_use]
pub fn name_for(tag: &str, taken: &[String]) -> String {
    let mut name: String = tag.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).take(36).collect();
    if !name.starts_with(|c: char| c.is_ascii_alphabetic()) {
        name = format!("x_{name}");
    }
    let is_free = |name: &str| {
        !taken.iter().any(|other| other == name) && name_problem(name, "name", &mut HashMap::new()).is_none()
    };
    let numbered = |k: usize| if k == 1 { name.clone() } else { format!("{name}_{k}") };
    (1..1000).map(numbered).find(|name| is_free(name)).unwrap_or(name)
}

/// Names of one kind must be names, and each only once.
pub(super) fn check_names<'a>(kinds: impl IntoIterator<Item = (&'a str, &'a [NamedValue])>) -> Result<()> {
    let mut problems = Vec::new();
    let mut seen = HashMap::new();
    for (kind, list) in kinds {
        if list.is_empty() {
            problems.push(Error::invalid(kind, "empty", "at least one"));
        }
        if list.len() > MOST_SIGNALS {
            problems.push(Error::invalid(kind, format!("{} of them", list.len()), format!("at most {MOST_SIGNALS}")));
            break;
        }
        for (k, signal) in list.iter().enumerate() {
            let field = format!("{kind}[{k}]");
            problems.extend(name_problem(&signal.name, &format!("{field}.name"), &mut seen));
            problems.extend(check::finite(&format!("{field}.value"), signal.value).err());
            if signal.unit.chars().count() > 24 {
                problems.push(Error::invalid(format!("{field}.unit"), &signal.unit, "at most 24 characters"));
            }
        }
    }
    problems.into_iter().next().map_or(Ok(()), Err)
}

fn name_problem<'a>(name: &'a str, field: &str, seen: &mut HashMap<&'a str, String>) -> Option<Error> {
    let plain = name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
        && name.starts_with(|c: char| c.is_ascii_alphabetic())
        && name.len() <= 40;
    if !plain {
        let allowed = "letters, digits and _, beginning with a letter, at most 40";
        return Some(Error::invalid(field, format!("“{name}”"), allowed));
    }
    if read_arithmetic(name).map_or(true, |parsed| parsed.names() != [name]) {
        return Some(Error::invalid(field, format!("“{name}”"), "a name that is not that of a function or constant"));
    }
    let other = seen.insert(name, field.to_owned())?;
    let allowed = format!("a name of its own; it is the {} already", crate::error::in_words(&other));
    Some(Error::invalid(field, format!("“{name}”"), allowed))
}

/// A right-hand side ready to be evaluated.
#[derive(Debug, Clone)]
struct Formula {
    expression: Arithmetic,
    /// Places of its names in the table of values.
    slots: Vec<usize>,
}

impl Formula {
    fn value<N: Number>(&self, table: &[N]) -> N {
        let mut values = [N::from(0.0); MOST_NAMES];
        for (value, slot) in values.iter_mut().zip(&self.slots) {
            *value = table[*slot];
        }
        self.expression.value(&values[..self.slots.len()])
    }
}

/// All formulas, over one table of values: states, inputs, parameters, definitions.
#[derive(Debug, Clone)]
struct Compiled {
    definitions: Vec<Formula>,
    rates: Vec<Formula>,
    outputs: Vec<Formula>,
    /// The summands of each rate, with their signs and texts.
    terms: Vec<Vec<(f64, String, Formula)>>,
    /// Place of the first definition in the table.
    first_definition: usize,
    width: usize,
}

impl Compiled {
    fn new(spec: &EquationsSpec) -> std::result::Result<Self, Vec<Error>> {
        let mut problems = Vec::new();
        let mut seen = HashMap::new();
        let mut slots: HashMap<&str, usize> = HashMap::new();
        for (field, count) in [
            ("process.inputs", spec.inputs.len()),
            ("process.parameters", spec.parameters.len()),
            ("process.definitions", spec.definitions.len()),
            ("process.rates", spec.rates.len()),
            ("process.outputs", spec.outputs.len()),
        ] {
            if count > MOST_SIGNALS {
                return Err(vec![Error::invalid(field, format!("{count} of them"), format!("at most {MOST_SIGNALS}"))]);
            }
        }
        if spec.states.is_empty() || spec.states.len() > MOST_STATES {
            let allowed = format!("1 to {MOST_STATES} states");
            problems.push(Error::invalid("process.states", format!("{} states", spec.states.len()), allowed));
        }
        for (kind, list) in [("inputs", &spec.inputs.len()), ("outputs", &spec.outputs.len())] {
            if *list == 0 {
                problems.push(Error::invalid(format!("process.{kind}"), "empty", "at least one"));
            }
        }
        for (kind, list) in [("states", &spec.states), ("inputs", &spec.inputs), ("parameters", &spec.parameters)] {
            for (k, named) in list.iter().enumerate() {
                let field = format!("process.{kind}[{k}]");
                problems.extend(name_problem(&named.name, &format!("{field}.name"), &mut seen));
                problems.extend(check::finite(&format!("{field}.value"), named.value).err());
                problems.extend(named.bound_problem(&field));
                let next = slots.len();
                slots.entry(&named.name).or_insert(next);
            }
        }
        let first_definition = slots.len();
        let mut definitions = Vec::new();
        for (k, definition) in spec.definitions.iter().enumerate() {
            let field = format!("process.definitions[{k}]");
            problems.extend(name_problem(&definition.name, &format!("{field}.name"), &mut seen));
            match formula(&definition.equals, &format!("{field}.equals"), &slots) {
                Ok(formula) => definitions.push(formula),
                Err(error) => problems.push(error),
            }
            let next = slots.len();
            slots.entry(&definition.name).or_insert(next);
        }
        for (k, rate) in spec.rates.iter().enumerate() {
            if !spec.states.iter().any(|state| state.name == rate.name) {
                let names: Vec<&str> = spec.states.iter().map(|state| state.name.as_str()).collect();
                let allowed = format!("one of the states {}", names.join(", "));
                problems.push(Error::invalid(format!("process.rates[{k}].name"), format!("“{}”", rate.name), allowed));
            }
        }
        let (mut rates, mut terms) = (Vec::new(), Vec::new());
        for state in &spec.states {
            let mut with_name = spec.rates.iter().enumerate().filter(|(_, rate)| rate.name == state.name);
            let Some((k, rate)) = with_name.next() else {
                let words = format!("Each state needs an equation of its rate: that of {} is missing.", state.name);
                problems.push(Error::said("process.rates", words));
                continue;
            };
            if let Some((other, _)) = with_name.next() {
                let allowed = format!("one equation for each state: the rate of {} stands there already", state.name);
                problems.push(Error::invalid(
                    format!("process.rates[{other}].name"),
                    format!("“{}”", rate.name),
                    allowed,
                ));
            }
            let field = format!("process.rates[{k}].equals");
            match formula(&rate.equals, &field, &slots) {
                Ok(formula) => rates.push(formula),
                Err(error) => {
                    problems.push(error);
                    continue;
                }
            }
            let parts = summands(&rate.equals)
                .into_iter()
                .map(|(sign, text)| formula(&text, &field, &slots).map(|formula| (sign, text, formula)));
            // A rate that was read is one whose summands can be read; were it not so, it is one term by itself.
            terms.push(parts.collect::<Result<Vec<_>>>().unwrap_or_default());
        }
        let mut outputs = Vec::new();
        let mut output_names = HashMap::new();
        for (k, output) in spec.outputs.iter().enumerate() {
            let field = format!("process.outputs[{k}]");
            problems.extend(name_problem(&output.name, &format!("{field}.name"), &mut output_names));
            match formula(&output.equals, &format!("{field}.equals"), &slots) {
                Ok(formula) => outputs.push(formula),
                Err(error) => problems.push(error),
            }
        }
        if problems.is_empty() {
            Ok(Self { definitions, rates, outputs, terms, first_definition, width: slots.len() })
        } else {
            Err(problems)
        }
    }

    /// The table of values with the definitions worked out.
    fn table<N: Number, R>(&self, x: &[N], u: &[N], p: &[N], then: impl FnOnce(&[N]) -> R) -> R {
        // Small enough for the stack in every case that the limits allow, or else on the heap.
        let mut room = [N::from(0.0); 160];
        let mut heap = Vec::new();
        let table = if self.width <= room.len() {
            &mut room[..self.width]
        } else {
            heap.resize(self.width, N::from(0.0));
            &mut heap[..]
        };
        table[..x.len()].copy_from_slice(x);
        table[x.len()..x.len() + u.len()].copy_from_slice(u);
        table[x.len() + u.len()..self.first_definition].copy_from_slice(p);
        for (k, definition) in self.definitions.iter().enumerate() {
            table[self.first_definition + k] = definition.value(table);
        }
        then(table)
    }

    fn problems_at_start(&self, spec: &EquationsSpec) -> Vec<Error> {
        let values = |list: &[NamedValue]| list.iter().map(|named| named.value).collect::<Vec<_>>();
        let (x, u, p) = (values(&spec.states), values(&spec.inputs), values(&spec.parameters));
        self.table(&x, &u, &p, |table| {
            let named = |kind: &str, what: &str, list: &[Formula], names: Vec<&String>| -> Vec<Error> {
                let bad = list.iter().zip(names).enumerate().filter_map(|(k, (formula, name))| {
                    let value = formula.value(table);
                    (!value.is_finite()).then(|| {
                        let sentence = format!(
                            "{what}{name} comes to no number at the start: look for a division by zero, or a root or logarithm of a negative number."
                        );
                        // Rates may stand in another order than the states.
                        let rate = spec.rates.iter().position(|rate| kind == "rates" && rate.name == *name);
                        Error::said(format!("process.{kind}[{}]", rate.unwrap_or(k)), sentence)
                    })
                });
                bad.collect()
            };
            let mut problems =
                named("definitions", "", &self.definitions, spec.definitions.iter().map(|d| &d.name).collect());
            problems.extend(named("rates", "The rate of ", &self.rates, spec.states.iter().map(|s| &s.name).collect()));
            problems.extend(named("outputs", "The output ", &self.outputs, spec.outputs.iter().map(|o| &o.name).collect()));
            problems
        })
    }
}

fn formula(text: &str, field: &str, slots: &HashMap<&str, usize>) -> Result<Formula> {
    if text.trim().is_empty() || text.chars().count() > LONGEST {
        return Err(Error::invalid(field, format!("“{text}”"), format!("1 to {LONGEST} characters")));
    }
    let expression = read_arithmetic(text).map_err(|error| {
        Error::invalid(field, format!("“{text}”"), format!("arithmetic such as a * (b - c) ({error})"))
    })?;
    let names = expression.names();
    if names.len() > MOST_NAMES {
        return Err(Error::invalid(field, format!("{} names", names.len()), format!("at most {MOST_NAMES}")));
    }
    let found = names
        .iter()
        .map(|name| {
            slots.get(name.as_str()).copied().ok_or_else(|| {
                let mut known: Vec<&str> = slots.keys().copied().collect();
                known.sort_unstable();
                Error::invalid(field, format!("“{name}”, which is unknown"), format!("the names {}", known.join(", ")))
            })
        })
        .collect::<Result<Vec<_>>>()?;
    Ok(Formula { slots: found, expression })
}

/// The summands of an expression at its outermost level, each with its sign.
fn summands(text: &str) -> Vec<(f64, String)> {
    let mut parts = Vec::new();
    let (mut depth, mut sign, mut part) = (0i32, 1.0, String::new());
    let mut previous = ' ';
    let mut before_previous = ' ';
    for c in text.replace('−', "-").replace('·', "*").chars() {
        depth += i32::from(c == '(') - i32::from(c == ')');
        let exponent = matches!(previous, 'e' | 'E') && (before_previous.is_ascii_digit() || before_previous == '.');
        let binary = !part.trim().is_empty() && !"+-*/^(,".contains(previous) && !exponent;
        if depth == 0 && (c == '+' || c == '-') && binary {
            parts.push((sign, std::mem::take(&mut part).trim().to_owned()));
            sign = if c == '-' { -1.0 } else { 1.0 };
        } else if depth == 0 && c == '-' && part.trim().is_empty() {
            sign = -sign;
        } else {
            part.push(c);
        }
        if c != ' ' {
            (before_previous, previous) = (previous, c);
        }
    }
    parts.push((sign, part.trim().to_owned()));
    parts
}

/// Equations of one's own at work.
#[derive(Debug, Clone)]
pub(super) struct OwnProcess {
    description: Description,
    compiled: Compiled,
    parameters: Vec<f64>,
    ports: Vec<Port>,
}

impl OwnProcess {
    pub(super) fn new(spec: &EquationsSpec) -> Result<Self> {
        let compiled = Compiled::new(spec).map_err(first)?;
        if let Some(problem) = compiled.problems_at_start(spec).into_iter().next() {
            return Err(problem);
        }
        let quantities = |list: &[NamedValue]| -> Vec<Quantity> {
            list.iter().map(|named| Quantity::new(&named.name, &named.unit, named.value, named.range(), "")).collect()
        };
        let balances = spec
            .states
            .iter()
            .zip(&compiled.terms)
            .map(|(state, terms)| Balance {
                name: state.name.clone(),
                unit: state.unit.clone(),
                terms: terms
                    .iter()
                    .map(|(sign, text, _)| Term {
                        name: text.clone(),
                        kind: if *sign > 0.0 { TermKind::In } else { TermKind::Out },
                    })
                    .collect(),
            })
            .collect();
        let outputs = spec.outputs.iter().map(|output| Quantity::output(&output.name, &output.unit, &output.equals));
        let title = if spec.title.is_empty() { "Equations of one's own" } else { &spec.title };
        let dead_time = DeadTime::new(0.0)?;
        Ok(Self {
            description: Description {
                batch: false,
                name: "equations".to_owned(),
                title: title.to_owned(),
                states: quantities(&spec.states),
                inputs: quantities(&spec.inputs),
                outputs: outputs.collect(),
                parameters: quantities(&spec.parameters),
                balances,
                drive: UsualDrive { input: spec.inputs[0].name.clone(), at_0: 0.0, at_100: 100.0 },
            },
            compiled,
            parameters: spec.parameters.iter().map(|parameter| parameter.value).collect(),
            ports: (0..spec.inputs.len()).map(|input| Port { input, dead_time }).collect(),
        })
    }
}

fn first(problems: Vec<Error>) -> Error {
    problems.into_iter().next().unwrap_or_else(|| Error::invalid("process", "not readable", "equations"))
}

impl Process for OwnProcess {
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
        self.parameters[index] = self.description.parameters[index].check("process.parameters", value)?;
        Ok(())
    }

    fn rates(&self, x: &[f64], u: &[f64], _: Held, rates: &mut [f64]) {
        crate::work::go_on();
        self.compiled.table(x, u, &self.parameters, |table| {
            for (rate, formula) in rates.iter_mut().zip(&self.compiled.rates) {
                *rate = formula.value(table);
            }
        });
    }

    fn outputs(&self, x: &[f64], u: &[f64], _: Held, outputs: &mut [f64]) {
        self.compiled.table(x, u, &self.parameters, |table| {
            for (output, formula) in outputs.iter_mut().zip(&self.compiled.outputs) {
                *output = formula.value(table);
            }
        });
    }

    fn terms(&self, x: &[f64], u: &[f64], _: Held, terms: &mut [f64]) {
        self.compiled.table(x, u, &self.parameters, |table| {
            for (term, (_, _, formula)) in terms.iter_mut().zip(self.compiled.terms.iter().flatten()) {
                *term = formula.value(table);
            }
        });
    }

    fn contents(&self, x: &[f64], contents: &mut [f64]) {
        contents.copy_from_slice(x);
    }

    fn in_dual_numbers(&self) -> Option<&dyn InDualNumbers> {
        Some(self)
    }
}

impl InDualNumbers for OwnProcess {
    fn dual_rates(&self, p: &[Dual], x: &[Dual], u: &[Dual], _: Held, rates: &mut [Dual]) {
        self.compiled.table(x, u, p, |table| {
            rates.iter_mut().zip(&self.compiled.rates).for_each(|(rate, formula)| *rate = formula.value(table));
        });
    }

    fn dual_outputs(&self, p: &[Dual], x: &[Dual], u: &[Dual], _: Held, outputs: &mut [Dual]) {
        self.compiled.table(x, u, p, |table| {
            outputs.iter_mut().zip(&self.compiled.outputs).for_each(|(output, formula)| *output = formula.value(table));
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(name: &str, value: f64) -> NamedValue {
        NamedValue { name: name.to_owned(), unit: String::new(), value, low: None, high: None }
    }

    fn equation(name: &str, equals: &str) -> Equation {
        Equation { name: name.to_owned(), equals: equals.to_owned() }
    }

    fn tank() -> EquationsSpec {
        EquationsSpec {
            title: "Tank".to_owned(),
            states: vec![named("level", 1.0)],
            inputs: vec![named("inflow", 0.2)],
            parameters: vec![named("area", 2.0), named("k", 0.3)],
            definitions: vec![equation("outflow", "k * sqrt(max(level, 0))")],
            rates: vec![equation("level", "inflow/area − outflow/area + 1e-3*0")],
            outputs: vec![OwnOutput { name: "level".into(), unit: "m".into(), equals: "level".into() }],
        }
    }

    #[test]
    fn equations_are_evaluated_and_their_summands_add_up() {
        let process = OwnProcess::new(&tank()).unwrap();
        let (mut rates, mut terms) = ([0.0], [0.0; 3]);
        process.rates(&[4.0], &[0.5], Held::default(), &mut rates);
        assert!((rates[0] - (0.5 - 0.6) / 2.0).abs() < 1e-15);
        process.terms(&[4.0], &[0.5], Held::default(), &mut terms);
        let balance = &process.description().balances[0];
        let sum: f64 = balance.terms.iter().zip(terms).map(|(term, value)| term.kind.sign() * value).sum();
        assert!((sum - rates[0]).abs() < 1e-15 && balance.terms[1].name == "outflow/area");
    }

    #[test]
    fn summands_are_told_from_signs_and_exponents() {
        let parts = |text: &str| -> Vec<(f64, String)> { summands(text) };
        assert_eq!(
            parts("-a*(b - c) + 2e-3/d - -e"),
            [(-1.0, "a*(b - c)".into()), (1.0, "2e-3/d".into()), (1.0, "e".into())]
        );
        assert_eq!(parts("a ^ -2"), [(1.0, "a ^ -2".into())]);
    }

    #[test]
    fn every_mistake_is_named_where_it_stands() {
        let refused = |edit: &dyn Fn(&mut EquationsSpec)| {
            let mut spec = tank();
            edit(&mut spec);
            let problems = spec.problems();
            problems.first().map(ToString::to_string).unwrap_or_default()
        };
        assert_eq!(refused(&|_| ()), "");
        assert!(
            refused(&|s| s.rates[0].equals = "inflo/area".into())
                .contains("right-hand side of rate 1 is “inflo”, which is unknown")
        );
        assert!(
            refused(&|s| s.rates.clear())
                .contains("Each state needs an equation of its rate: that of level is missing")
        );
        assert!(refused(&|s| s.rates.push(equation("level", "1"))).contains("name of rate 2"));
        assert!(refused(&|s| s.rates.push(equation("leve", "1"))).contains("one of the states level"));
        assert!(
            refused(&|s| s.parameters[0].value = 0.0)
                .contains("The rate of level comes to no number at the start: look for a division by zero")
        );
        assert!(refused(&|s| s.rates[0].equals = "(inflow".into()).contains("right-hand side of rate 1"));
        assert!(refused(&|s| s.inputs[0].name = "PI".into()).contains("not that of a function or constant"));
        assert!(
            refused(&|s| s.inputs[0].name = "level".into())
                .contains("a name of its own; it is the name of state 1 already")
        );
        assert!(refused(&|s| s.inputs[0].name = "2nd".into()).contains("beginning with a letter"));
        assert!(refused(&|s| s.definitions[0].equals = "outflow".into()).contains("unknown"));
    }
}
