//! What a model is fitted to: inputs and outputs on one time axis.

use crate::numerics::range;
use crate::series::{Record, Role, TimeAxis};
use crate::verdict::readable;
use crate::{Error, Result, check};

/// Values that are missing between two stretches: longer than any noise is followed.
const APART: usize = 100;

/// Series of stretches one after the other, with missing values between, so that what is read off neighbours ends with
/// its stretch.
pub(super) fn apart(stretches: impl Iterator<Item = Vec<f64>>) -> Vec<f64> {
    let mut all = Vec::new();
    for (k, stretch) in stretches.enumerate() {
        if k > 0 {
            all.resize(all.len() + APART, f64::NAN);
        }
        all.extend(stretch);
    }
    all
}

/// Visits the rows of a walk that lie between two stretches: no derivatives, no value.
pub(super) fn between(count: usize, mut visit: impl FnMut(&mut [f64])) {
    let mut row = vec![0.0; count + 1];
    for _ in 0..APART {
        row.fill(0.0);
        row[count] = f64::NAN;
        visit(&mut row);
    }
}

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

    /// The same data with these tags of the OP and the PV, which are told by their roles: records of one loop may call
    /// them differently.
    #[must_use]
    pub fn named(mut self, op: &str, pv: &str) -> Self {
        if let (Some(input), Some(output)) = (self.inputs.first_mut(), self.outputs.first_mut()) {
            op.clone_into(&mut input.tag);
            pv.clone_into(&mut output.tag);
        }
        self
    }

    /// The signals with these tags alone; those that are missing are left out.
    #[must_use]
    pub fn of<'a>(
        &self,
        inputs: impl IntoIterator<Item = &'a str>,
        outputs: impl IntoIterator<Item = &'a str>,
    ) -> Self {
        let found = |list: &[Series], tag: &str| list.iter().find(|series| series.tag == tag).cloned();
        Self {
            axis: self.axis.clone(),
            inputs: inputs.into_iter().filter_map(|tag| found(&self.inputs, tag)).collect(),
            outputs: outputs.into_iter().filter_map(|tag| found(&self.outputs, tag)).collect(),
        }
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
        let cut = |series: &Series| Series::new(&series.tag, &series.unit, series.values[range.clone()].to_vec());
        Self {
            axis: self.axis.slice(range.clone()),
            inputs: self.inputs.iter().map(cut).collect(),
            outputs: self.outputs.iter().map(cut).collect(),
        }
    }

    /// Refuses series that do not fit the axis, have fewer than `fewest` usable samples of the output, or stand still.
    pub fn validate(&self, fewest: usize) -> Result<()> {
        Self::validate_together(std::slice::from_ref(self), fewest)
    }

    /// Refuses stretches that a model cannot be fitted to together: each has the signals of the first and enough usable
    /// samples of the output, and every signal moves in one of them at least.
    pub fn validate_together(stretches: &[Self], fewest: usize) -> Result<()> {
        let Some(first) = stretches.first() else {
            return Err(Error::unfit("there are no data", "choose a record"));
        };
        for (k, data) in stretches.iter().enumerate() {
            let place = if stretches.len() > 1 { format!(" in stretch {}", k + 1) } else { String::new() };
            data.usable(fewest, &place)?;
            for (own, of_first) in [(&data.inputs, &first.inputs), (&data.outputs, &first.outputs)] {
                let tags =
                    |list: &[Series]| list.iter().map(|series| series.tag.clone()).collect::<Vec<_>>().join(", ");
                if tags(own) != tags(of_first) {
                    return Err(Error::unfit(
                        format!("stretch {} has {} where the first has {}", k + 1, tags(own), tags(of_first)),
                        "rename the channels so that the same signal has the same tag",
                    ));
                }
                if let Some((one, other)) = own.iter().zip(of_first).find(|(one, other)| one.unit != other.unit) {
                    return Err(Error::unfit(
                        format!(
                            "{} is in {} in stretch {} and in {} in the first",
                            one.tag,
                            one.unit,
                            k + 1,
                            other.unit
                        ),
                        "convert one of them in the preparation",
                    ));
                }
            }
        }
        for (k, (name, _)) in first.called().enumerate() {
            let remedy = match name.as_str() {
                "OP" => "record a test in which it moves",
                "PV" => "check the transmitter and the choice of the column",
                _ => "leave it out of the fit",
            };
            let still =
                |data: &Self| data.called().nth(k).and_then(|(name, series)| moves(&name, series, remedy).err());
            if let Some(refusal) =
                stretches.iter().map(still).collect::<Option<Vec<Error>>>().and_then(|all| all.into_iter().next())
            {
                return Err(refusal);
            }
        }
        Ok(())
    }

    /// Refuses series that do not fit the axis or have fewer than `fewest` usable samples of the output.
    fn usable(&self, fewest: usize, place: &str) -> Result<()> {
        let Some(output) = self.outputs.first() else { return Err(Error::unfit("there is no PV", "choose one")) };
        if self.inputs.is_empty() {
            return Err(Error::unfit("there is no OP", "choose one"));
        }
        for (name, series) in self.called() {
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
                format!("only {samples} samples of the PV{place} are usable"),
                format!("a fit needs at least {fewest}"),
            ));
        }
        Ok(())
    }

    fn called(&self) -> impl Iterator<Item = (String, &Series)> {
        let call = |plain: &str, k: usize, series: &Series| if k == 0 { plain.to_owned() } else { series.tag.clone() };
        let inputs = self.inputs.iter().enumerate().map(move |(k, series)| (call("OP", k, series), series));
        inputs.chain(self.outputs.iter().enumerate().map(move |(k, series)| (call("PV", k, series), series)))
    }

    /// Refuses outputs with missing samples.
    pub fn without_gaps(&self) -> Result<()> {
        for (name, series) in self.called().skip(self.inputs.len()) {
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

    /// The sample time that evenly spaced stretches have in common.
    pub(super) fn sample_time_of(stretches: &[Self]) -> Result<f64> {
        let times = stretches.iter().map(Self::sample_time).collect::<Result<Vec<f64>>>()?;
        let first = times.first().copied().unwrap_or(1.0);
        match times.iter().position(|time| (time / first - 1.0).abs() > 1e-3) {
            None => Ok(first),
            Some(k) => Err(Error::unfit(
                format!("stretch {} has a sample every {} s and the first one every {first} s", k + 1, times[k]),
                "resample one of them in the preparation, or take a structure with dead time",
            )),
        }
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
    let (low, high) = range(&series.values);
    let largest = low.abs().max(high.abs());
    if low <= high && (largest > check::LARGEST_SAMPLE || (low < high && high - low < check::LEAST_CHANGE)) {
        return Err(Error::unfit(
            format!("the {name} runs from {low:e} to {high:e} {}", series.unit),
            "values may be as large as 1e15 and changes as small as 1e-15: convert it to another unit",
        ));
    }
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
