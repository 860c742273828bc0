//! What a model is fitted to: inputs and outputs on one time axis.

use crate::numerics::range;
use crate::series::{Record, Role, TimeAxis};
use crate::verdict::readable;
use crate::{Error, Result};

/// One signal of a data set.
#[derive(Debug, Clone, PartialEq)]
pub struct Series {
    /// Tag, as in the record.
    pub tag: String,
    /// Unit of the values.
    pub unit: String,
    /// A value a sample; NaN where missing.
    pub values: Vec<f64>,
}

impl Series {
    /// A series of this tag and unit.
    pub fn new(tag: impl Into<String>, unit: impl Into<String>, values: Vec<f64>) -> Self {
        Self { tag: tag.into(), unit: unit.into(), values }
    }

    /// Mean of the values that are there; 0 with none.
    #[must_use]
    pub fn mean(&self) -> f64 {
        let finite = self.values.iter().filter(|value| value.is_finite());
        let (sum, count) = finite.fold((0.0, 0usize), |(sum, count), value| (sum + value, count + 1));
        if count == 0 { 0.0 } else { sum / count as f64 }
    }

    /// Lowest and highest value.
    #[must_use]
    pub fn range(&self) -> (f64, f64) {
        range(&self.values)
    }
}

/// Inputs and outputs on one time axis. The first input is the OP, further ones are measured disturbances; the first
/// output
/// is the PV.
#[derive(Debug, Clone, PartialEq)]
pub struct DataSet {
    /// When the samples were taken.
    pub axis: TimeAxis,
    /// Inputs: each sample holds until the next.
    pub inputs: Vec<Series>,
    /// Outputs.
    pub outputs: Vec<Series>,
}

impl DataSet {
    /// One input and one output.
    #[must_use]
    pub fn single(axis: TimeAxis, input: Series, output: Series) -> Self {
        Self { axis, inputs: vec![input], outputs: vec![output] }
    }

    /// The OP, the PV, the named disturbances and the named further outputs of a record; the PV in `pv_unit`, the OP in
    /// %.
    pub fn of_record(record: &Record, pv_unit: &str, disturbances: &[String], outputs: &[String]) -> Result<Self> {
        let need = |role, name: &str| {
            record.channel(role).ok_or_else(|| {
                Error::unfit(format!("the record has no {name}"), format!("import it with a column for the {name}"))
            })
        };
        let (pv, op) = (need(Role::Pv, "PV")?, need(Role::Op, "OP")?);
        let mut inputs = vec![Series::new(&op.tag, "%", op.values_in("%")?.into_owned())];
        let further = |field: &str, tag: &String| -> Result<Series> {
            let channel = record.channels.iter().find(|channel| channel.tag == *tag).ok_or_else(|| {
                let tags: Vec<&str> = record.channels.iter().map(|channel| channel.tag.as_str()).collect();
                Error::invalid(field, tag, format!("one of {}", tags.join(", ")))
            })?;
            if channel.tag == pv.tag || channel.tag == op.tag {
                return Err(Error::invalid(field, tag, "a channel other than the PV and the OP"));
            }
            Ok(Series::new(&channel.tag, &channel.unit, channel.values.clone()))
        };
        for tag in disturbances {
            inputs.push(further("disturbances", tag)?);
        }
        let output = Series::new(&pv.tag, pv_unit, pv.values_in(pv_unit)?.into_owned());
        let mut all = vec![output];
        for tag in outputs {
            if disturbances.contains(tag) {
                return Err(Error::invalid("outputs", tag, "a channel that is no input"));
            }
            all.push(further("outputs", tag)?);
        }
        Ok(Self { axis: record.axis.clone(), inputs, outputs: all })
    }

    /// Means of the inputs, then of the outputs.
    #[must_use]
    pub fn means(&self) -> (Vec<f64>, Vec<f64>) {
        let of = |list: &[Series]| list.iter().map(Series::mean).collect();
        (of(&self.inputs), of(&self.outputs))
    }

    /// The PV.
    #[must_use]
    pub fn output(&self) -> &Series {
        &self.outputs[0]
    }

    /// The samples with these indices, the time starting at 0 again.
    #[must_use]
    pub fn slice(&self, range: std::ops::Range<usize>) -> Self {
        let cut = |series: &Series| Series { values: series.values[range.clone()].to_vec(), ..series.clone() };
        Self {
            axis: self.axis.slice(range.clone()),
            inputs: self.inputs.iter().map(cut).collect(),
            outputs: self.outputs.iter().map(cut).collect(),
        }
    }

    /// Refuses series that do not fit the axis, have fewer than `fewest` usable samples of the output, or stand still.
    pub fn validate(&self, fewest: usize) -> Result<()> {
        let Some(output) = self.outputs.first() else { return Err(Error::unfit("there is no PV", "choose one")) };
        if self.inputs.is_empty() {
            return Err(Error::unfit("there is no OP", "choose one"));
        }
        for (name, series) in self.named() {
            if series.values.len() != self.axis.len() {
                return Err(Error::invalid(
                    format!("number of {name} samples"),
                    series.values.len(),
                    format!("{}, one for each time", self.axis.len()),
                ));
            }
        }
        let samples = output.values.iter().filter(|value| value.is_finite()).count();
        if samples < fewest {
            return Err(Error::unfit(
                format!("only {samples} samples of the PV are usable"),
                format!("a fit needs at least {fewest}"),
            ));
        }
        for (name, series) in self.named() {
            let remedy = match name.as_str() {
                "OP" => "record a test in which it moves",
                "PV" => "check the transmitter and the choice of the column",
                _ => "leave it out of the fit",
            };
            moves(&name, series, remedy)?;
        }
        Ok(())
    }

    fn named(&self) -> impl Iterator<Item = (String, &Series)> {
        let call = |plain: &str, k: usize, series: &Series| if k == 0 { plain.to_owned() } else { series.tag.clone() };
        let inputs = self.inputs.iter().enumerate().map(move |(k, series)| (call("OP", k, series), series));
        inputs.chain(self.outputs.iter().enumerate().map(move |(k, series)| (call("PV", k, series), series)))
    }

    /// Refuses outputs with missing samples.
    pub fn without_gaps(&self) -> Result<()> {
        for (name, series) in self.named().skip(self.inputs.len()) {
            let missing = series.values.iter().filter(|value| !value.is_finite()).count();
            if missing > 0 {
                return Err(Error::unfit(
                    format!("{missing} samples of the {name} are missing, which this structure cannot pass over"),
                    "fill the gaps in the preparation, or take ARX or a structure with dead time",
                ));
            }
        }
        Ok(())
    }

    /// The sample time of evenly spaced data.
    pub fn sample_time(&self) -> Result<f64> {
        match &self.axis {
            TimeAxis::Uniform { interval, .. } => Ok(*interval),
            TimeAxis::Irregular(_) => Err(Error::unfit(
                "the samples are not evenly spaced, which this structure needs",
                "resample the record, or take a structure with dead time, which does not need it",
            )),
        }
    }
}

/// Missing inputs filled with the last known one, leading ones with the first.
#[must_use]
pub(crate) fn held(input: &[f64]) -> Vec<f64> {
    let mut last = input.iter().copied().find(|value| value.is_finite()).unwrap_or(0.0);
    let hold = |value: &f64| {
        if value.is_finite() {
            last = *value;
        }
        last
    };
    input.iter().map(hold).collect()
}

/// Refuses a series that stands still.
fn moves(name: &str, series: &Series, remedy: &str) -> Result<()> {
    let mut finite = series.values.iter().filter(|value| value.is_finite());
    let Some(first) = finite.next() else {
        return Err(Error::unfit(format!("the {name} has no usable sample"), remedy));
    };
    if finite.all(|value| value == first) {
        let shown = format!("{} {}", readable(*first), series.unit);
        return Err(Error::unfit(format!("the {name} never moves, it stands at {}", shown.trim_end()), remedy));
    }
    Ok(())
}
