//! Physical models from files: the process, its channels and what is sought, as they are written on a command line.

use crate::Failure;
use crate::files::read_json;
use antistasis_core::identification::{
    MappedInput, MappedOutput, PhysicalOptions, Sought, SoughtKind, StartOfStates, Tie,
};
use antistasis_core::process::{Description, DetailedSpec, ProcessSpec};
use clap::Args;
use std::collections::BTreeMap;
use std::path::Path;

#[derive(Debug, Args)]
pub(crate) struct PhysicalArguments {
    /// Process of a physical model: a name of the library, or a file with one (JSON, equations of one's own too).
    #[arg(long, value_name = "NAME|FILE")]
    process: Option<String>,
    /// An input or output of the process and its column, NAME=COLUMN; a column in % takes the values at 0 and 100 % behind it,
    /// NAME=COLUMN:LOW:HIGH. May be repeated.
    #[arg(long, value_name = "NAME=COLUMN", requires = "process")]
    map: Vec<String>,
    /// What is sought: NAME, NAME=LOW:HIGH or NAME=LOW:START:HIGH; besides parameters `dead_time_of_INPUT`, `rangeability_of_INPUT`,
    /// `lag_of_OUTPUT` and `offset_of_OUTPUT`. May be repeated.
    #[arg(long, value_name = "NAME=LOW:HIGH", requires = "process")]
    free: Vec<String>,
    /// A number that is sought and known roughly, NAME=VALUE:DEVIATION; may be repeated.
    #[arg(long, value_name = "NAME=VALUE:DEVIATION", requires = "process")]
    prior: Vec<String>,
    /// A parameter that is a multiple of another one, NAME=OTHER or NAME=OTHER:FACTOR; may be repeated.
    #[arg(long, value_name = "NAME=OTHER:FACTOR", requires = "process")]
    tie: Vec<String>,
    /// An input that runs straight from sample to sample, such as weather; may be repeated.
    #[arg(long, value_name = "INPUT", requires = "process")]
    straight: Vec<String>,
    /// Take the states at the start from the process, as of a batch that was charged, instead of estimating them.
    #[arg(long, requires = "process")]
    start_known: bool,
    /// Beginnings of the search, spread over the bounds.
    #[arg(long, default_value_t = 6, requires = "process")]
    beginnings: usize,
    /// Print what the record can tell before anything is fitted, and fit nothing.
    #[arg(long, requires = "process", conflicts_with = "steady")]
    tell: bool,
    /// Print what the balances at rest imply for a parameter, and fit nothing.
    #[arg(long, value_name = "PARAMETER", requires = "process")]
    pub(crate) steady: Option<String>,
    /// Print the balances over the record instead of the model.
    #[arg(long, requires = "process", conflicts_with_all = ["tell", "steady"])]
    pub(crate) balances: bool,
}

/// What is asked of a physical model.
pub(crate) enum Asked<'a> {
    /// What the record can tell.
    Telling,
    /// What the balances at rest imply.
    Steady(&'a str),
    /// The balances over the record.
    Balances,
    /// The model.
    Model,
}

fn numbers(text: &str) -> Option<Vec<f64>> {
    text.split(':').map(|part| part.trim().parse().ok()).collect()
}

fn named<'a>(option: &str, text: &'a str, form: &str) -> Result<(&'a str, &'a str), Failure> {
    let parts = text.split_once('=').map(|(name, rest)| (name.trim(), rest.trim()));
    parts.ok_or_else(|| Failure(format!("{option} is {text}: it must be {form}")))
}

impl PhysicalArguments {
    /// Whether a physical model is asked for.
    pub(crate) fn is_given(&self) -> bool {
        self.process.is_some()
    }

    pub(crate) fn asked(&self) -> Asked<'_> {
        match &self.steady {
            _ if self.tell => Asked::Telling,
            Some(parameter) => Asked::Steady(parameter),
            None if self.balances => Asked::Balances,
            None => Asked::Model,
        }
    }

    /// The process with the channels, by the names that columns have in the record, and what is sought. `known` are the further
    /// known parameters and inputs, NAME=VALUE.
    pub(crate) fn options(
        &self,
        known: &[String],
        resolved: &dyn Fn(&str) -> String,
    ) -> Result<PhysicalOptions, Failure> {
        let Some(process) = &self.process else { return Err(Failure("--structure physical needs --process".into())) };
        let mut process = if Path::new(process).is_file() {
            read_json::<DetailedSpec>(Path::new(process))?
        } else {
            DetailedSpec::Library { process: process.clone(), parameters: BTreeMap::new() }
        };
        let describe = |process: &DetailedSpec| ProcessSpec::Detailed(process.clone()).describe("");
        let description = describe(&process).map_err(Failure::new)?;
        let mut rest = BTreeMap::new();
        for text in known {
            let (name, value) = named("--known", text, "NAME=VALUE")?;
            let name = name.replace('-', "_");
            let value: f64 =
                value.parse().map_err(|_| Failure(format!("--known is {text}: it must be NAME=VALUE, a number")))?;
            if description.inputs.iter().any(|own| own.name == name) {
                rest.insert(name, value);
            } else {
                set(&mut process, &description, &name, value)?;
            }
        }
        let (mut inputs, mut outputs) = (Vec::new(), Vec::new());
        for text in &self.map {
            let (name, column) = named("--map", text, "NAME=COLUMN or NAME=COLUMN:LOW:HIGH")?;
            let is_input = description.inputs.iter().any(|own| own.name == name);
            let is_output = description.outputs.iter().any(|own| own.name == name);
            // A column may have colons of its own: only two numbers at the end are a range.
            let mut parts: Vec<&str> = column.rsplitn(3, ':').collect();
            parts.reverse();
            let range = match &parts[..] {
                [_, low, high] => low.trim().parse().ok().zip(high.trim().parse().ok()),
                _ => None,
            };
            let tag = resolved(if range.is_some() { parts[0] } else { column });
            // Of a name that is both, a temperature that is measured, the output is meant.
            if is_output && range.is_none() {
                outputs.push(MappedOutput { output: name.to_owned(), tag, lag: 0.0, offset: 0.0 });
            } else if is_input {
                inputs.push(MappedInput {
                    input: name.to_owned(),
                    tag,
                    range: range.map(|(low, high)| [low, high]),
                    straight: self.straight.iter().any(|own| own == name),
                    dead_time: 0.0,
                    rangeability: None,
                });
            } else {
                let list = |list: &[antistasis_core::process::Quantity]| {
                    list.iter().map(|own| own.name.clone()).collect::<Vec<_>>().join(", ")
                };
                return Err(Failure(format!(
                    "--map {name}: there is no such signal; inputs are {}, outputs are {}",
                    list(&description.inputs),
                    list(&description.outputs)
                )));
            }
        }
        let mut sought = self.free.iter().map(|text| free(text)).collect::<Result<Vec<_>, _>>()?;
        for text in &self.prior {
            let (name, numbers_of) = named("--prior", text, "NAME=VALUE:DEVIATION")?;
            let Some([value, deviation]) = numbers(numbers_of).and_then(|list| <[f64; 2]>::try_from(list).ok()) else {
                return Err(Failure(format!("--prior is {text}: it must be NAME=VALUE:DEVIATION")));
            };
            let (kind, of) = kind_of(name);
            match sought.iter_mut().find(|own| own.kind == kind && own.name == of) {
                Some(own) => (own.value, own.deviation) = (Some(value), Some(deviation)),
                None => sought.push(Sought {
                    kind,
                    name: of,
                    value: Some(value),
                    deviation: Some(deviation),
                    ..Sought::default()
                }),
            }
        }
        let tied = self.tie.iter().map(|text| {
            let (parameter, other) = named("--tie", text, "NAME=OTHER or NAME=OTHER:FACTOR")?;
            let (to, factor) = other.split_once(':').unwrap_or((other, "1"));
            let factor = factor.trim().parse();
            let factor = factor.map_err(|_| Failure(format!("--tie is {text}: the factor must be a number")))?;
            Ok(Tie { parameter: parameter.to_owned(), to: to.trim().to_owned(), factor })
        });
        Ok(PhysicalOptions {
            tied: tied.collect::<Result<_, Failure>>()?,
            process,
            inputs,
            rest,
            outputs,
            sought,
            start: if self.start_known { StartOfStates::Known } else { StartOfStates::Estimated },
            beginnings: self.beginnings,
        })
    }
}

/// What `dead_time_of_power` and the like are about.
fn kind_of(name: &str) -> (SoughtKind, String) {
    let name = name.replace('-', "_");
    for (prefix, kind) in [
        ("dead_time_of_", SoughtKind::DeadTime),
        ("lag_of_", SoughtKind::Lag),
        ("offset_of_", SoughtKind::Offset),
        ("rangeability_of_", SoughtKind::Rangeability),
    ] {
        if let Some(of) = name.strip_prefix(prefix) {
            return (kind, of.to_owned());
        }
    }
    (SoughtKind::Parameter, name)
}

fn free(text: &str) -> Result<Sought, Failure> {
    let refused = || Failure(format!("--free is {text}: it must be NAME, NAME=LOW:HIGH or NAME=LOW:START:HIGH"));
    let (name, bounds) = text.split_once('=').unwrap_or((text, ""));
    let (kind, name) = kind_of(name.trim());
    let plain = Sought { kind, name, ..Sought::default() };
    if bounds.trim().is_empty() {
        return Ok(plain);
    }
    match numbers(bounds).ok_or_else(refused)?[..] {
        [low, high] => {
            // In the middle of the bounds: by ratio where they are above 0.
            let middle = if low > 0.0 { (low * high).sqrt() } else { 0.5 * (low + high) };
            Ok(Sought { value: Some(middle), low: Some(low), high: Some(high), ..plain })
        }
        [low, value, high] => Ok(Sought { value: Some(value), low: Some(low), high: Some(high), ..plain }),
        _ => Err(refused()),
    }
}

fn set(process: &mut DetailedSpec, description: &Description, name: &str, value: f64) -> Result<(), Failure> {
    let Some(place) = description.parameters.iter().position(|own| own.name == name) else {
        let names = |list: &[antistasis_core::process::Quantity]| {
            list.iter().map(|own| own.name.clone()).collect::<Vec<_>>().join(", ")
        };
        return Err(Failure(format!(
            "--known {name}: there is no such parameter or input; there are {}, {}",
            names(&description.parameters),
            names(&description.inputs)
        )));
    };
    match process {
        DetailedSpec::Library { parameters, .. } => {
            parameters.insert(name.to_owned(), value);
        }
        DetailedSpec::Equations(spec) => spec.parameters[place].value = value,
        _ => {}
    }
    Ok(())
}
