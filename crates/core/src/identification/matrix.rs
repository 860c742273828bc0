//! A matrix of transfer functions: from every input to every output one of its own structure, or none.
//!
//! The cells of a row, which make one output together, are fitted jointly. Rows have no unknown in common and are fitted each by
//! itself: as long as what disturbs one output says nothing of what disturbs another, that is the likeliest matrix, too.

use super::data::{DataSet, Series};
use super::model::{
    Constraint, Criteria, FitOptions, FurtherStretch, Model, Operating, Performance, SignalName, StartOfRecord,
};
use super::process_model::{verdict_of_effect, without_effect};
use super::structure::Structure;
use super::validation::{Validation, validate, validate_together};
use crate::numerics::in_parallel;
use crate::process::{DetailedSpec, Element, NamedValue, ProcessSpec, TransferFunctionsSpec, name_for};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use std::borrow::Cow;

/// Correlation of the moves of two inputs above which their shares can hardly be told apart.
const TOGETHER: f64 = 0.9;

/// Fits a matrix to several stretches of data.
pub(super) fn fit(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    DataSet::validate_together(stretches, super::process_model::FEWEST_SAMPLES)?;
    let data = &stretches[0];
    check_cells(&options.cells, data)?;
    for (k, constraint) in options.constraints.iter().enumerate() {
        let tags: Vec<&str> = data.outputs.iter().map(|series| series.tag.as_str()).collect();
        if let Some(tag) = constraint.output.as_deref().filter(|tag| !tags.contains(tag)) {
            return Err(Error::invalid(format!("constraints[{k}].output"), tag, format!("one of {}", tags.join(", "))));
        }
    }
    let rows: Vec<Result<Model>> =
        in_parallel(&Vec::from_iter(0..data.outputs.len()), |output| fit_row(stretches, options, *output));
    let rows: Vec<Model> = rows.into_iter().collect::<Result<_>>()?;
    let name = |series: &Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
    let mut model = Model {
        structure: Structure::Matrix,
        method: format!("{}, row by row", rows[0].method),
        inputs: data.inputs.iter().map(name).collect(),
        outputs: data.outputs.iter().map(name).collect(),
        sample_time: None,
        parameters: Vec::new(),
        covariance: Vec::new(),
        matrices: None,
        paths: Vec::new(),
        operating: Operating { op: 0.0, pv: 0.0, inputs: Vec::new(), outputs: Vec::new() },
        start: StartOfRecord::default(),
        further: Vec::new(),
        first_stretch: None,
        noise: None,
        estimation: Performance::default(),
        criteria: None,
        verdicts: Vec::new(),
        physical: None,
        rows,
    };
    model.operating = rest(&model, data, 0)?;
    for (k, data) in stretches.iter().enumerate().skip(1) {
        model.further.push(FurtherStretch::at(rest(&model, data, k)?));
    }
    model.criteria = together(&model.rows);
    // A matrix is as good as the output that it knows least of.
    let of_rows = |own: &dyn Fn(&Model) -> Option<Performance>| worst(model.rows.iter().filter_map(own));
    let first_stretch = of_rows(&|row| row.first_stretch.clone());
    let estimation = of_rows(&|row| Some(row.estimation.clone())).unwrap_or_default();
    let further: Vec<Performance> = (0..model.further.len())
        .map(|k| of_rows(&|row| row.further.get(k).map(|own| own.performance.clone())).unwrap_or_default())
        .collect();
    model.further.iter_mut().zip(further).for_each(|(own, performance)| own.performance = performance);
    (model.first_stretch, model.estimation) = (first_stretch, estimation);
    model.verdicts = judge(&model, stretches);
    Ok(model)
}

/// Refuses cells that are no matrix of transfer functions over these signals, an output that nothing reaches, and an input that
/// reaches nothing.
fn check_cells(cells: &[Vec<Option<Structure>>], data: &DataSet) -> Result<()> {
    let (outputs, inputs) = (data.outputs.len(), data.inputs.len());
    if cells.is_empty() {
        return Ok(());
    }
    if cells.len() != outputs || cells.iter().any(|row| row.len() != inputs) {
        let given = format!("{} rows of {} cells", cells.len(), cells.first().map_or(0, Vec::len));
        return Err(Error::invalid("cells", given, format!("{outputs} rows, one an output, of {inputs} cells")));
    }
    for (i, row) in cells.iter().enumerate() {
        for (j, cell) in row.iter().enumerate() {
            if let Some(other) = cell.filter(|structure| !structure.is_process()) {
                let allowed = "a transfer function with dead time, or none";
                return Err(Error::invalid(format!("cells[{i}][{j}]"), other.name(), allowed));
            }
        }
        if row.iter().all(Option::is_none) {
            let text = format!("No input acts on {}: give it one, or leave it out.", data.outputs[i].tag);
            return Err(Error::said(format!("cells[{i}]"), text));
        }
    }
    match (0..inputs).find(|j| cells.iter().all(|row| row[*j].is_none())) {
        None => Ok(()),
        Some(j) => {
            let text = format!("{} acts on no output: give it one, or leave it out.", data.inputs[j].tag);
            Err(Error::said(format!("cells[0][{j}]"), text))
        }
    }
}

/// The model of one output.
fn fit_row(stretches: &[DataSet], options: &FitOptions, output: usize) -> Result<Model> {
    let data = &stretches[0];
    let tag = &data.outputs[output].tag;
    let cells: Vec<Option<Structure>> =
        options.cells.get(output).cloned().unwrap_or_else(|| vec![Some(Structure::Fopdt); data.inputs.len()]);
    let mut own: Vec<(&str, Structure)> =
        data.inputs.iter().zip(cells).filter_map(|(series, cell)| Some((series.tag.as_str(), cell?))).collect();
    // What integrates leads, since the level of such a row is where it begins and not where it rests.
    own.sort_by_key(|(_, structure)| !structure.is_integrating());
    let of_row = |constraint: &Constraint| {
        let of = constraint.output.as_ref().unwrap_or(&data.outputs[0].tag);
        let input = constraint.input.as_ref().unwrap_or(&data.inputs[0].tag);
        (of == tag).then(|| Constraint { input: Some(input.clone()), ..constraint.clone() })
    };
    let row_options = FitOptions {
        structure: own[0].1,
        paths: own[1..].iter().map(|(_, structure)| *structure).collect(),
        disturbances: own[1..].iter().map(|(input, _)| (*input).to_owned()).collect(),
        outputs: Vec::new(),
        cells: Vec::new(),
        constraints: options.constraints.iter().filter_map(of_row).collect(),
        ..options.clone()
    };
    let parts: Vec<DataSet> =
        stretches.iter().map(|data| data.of(own.iter().map(|(input, _)| *input), [tag.as_str()])).collect();
    super::process_model::fit(&parts, &row_options).map_err(|error| match error {
        Error::Unfit { what, remedy } => Error::Unfit { what: format!("{tag}: {what}"), remedy },
        other => other,
    })
}

/// The agreement that is worst.
fn worst(all: impl Iterator<Item = Performance>) -> Option<Performance> {
    all.min_by(|a, b| a.fit_simulated.total_cmp(&b.fit_simulated))
}

/// Figures for the choice among matrices on the same data: those of independent rows add up.
fn together(rows: &[Model]) -> Option<Criteria> {
    rows.iter().map(|row| row.criteria.clone()).try_fold(Criteria::default(), |sum, own| {
        own.map(|own| Criteria {
            aic: sum.aic + own.aic,
            bic: sum.bic + own.bic,
            parameters: sum.parameters + own.parameters,
        })
    })
}

/// Where all rows rest together in a stretch: at the first value of each input, moved by as little as lets the outputs that
/// integrate stand still.
fn rest(model: &Model, data: &DataSet, stretch: usize) -> Result<Operating> {
    let rows: Vec<Model> = model.rows.iter().map(|row| row.in_stretch(stretch)).collect();
    let places: Vec<Vec<usize>> = rows
        .iter()
        .map(|row| row.inputs.iter().filter_map(|input| model.inputs.iter().position(|own| own == input)).collect())
        .collect();
    let gain = |row: &Model, k: usize| row.process_of(k, &row.inputs[k].tag).map(|process| process.gain());
    let mut inputs: Vec<f64> = data.inputs.iter().map(|series| super::held(&series.values)[0]).collect();
    let integrating: Vec<usize> = (0..rows.len()).filter(|k| rows[*k].structure.is_integrating()).collect();
    if !integrating.is_empty() {
        let mut slopes = DMatrix::zeros(integrating.len(), inputs.len());
        let mut runs = DVector::zeros(integrating.len());
        for (i, k) in integrating.iter().enumerate() {
            for (own, place) in places[*k].iter().enumerate() {
                if rows[*k].path_of(own).is_integrating() {
                    let by = gain(&rows[*k], own)?;
                    slopes[(i, *place)] = by;
                    runs[i] += by * (inputs[*place] - rows[*k].operating.inputs[own]);
                }
            }
        }
        let moved = slopes.svd(true, true).solve(&runs, 1e-9).unwrap_or_else(|_| DVector::zeros(inputs.len()));
        inputs.iter_mut().zip(moved.iter()).for_each(|(value, by)| *value -= by);
    }
    let mut outputs = Vec::with_capacity(rows.len());
    for (row, places) in rows.iter().zip(&places) {
        let mut output = row.operating.pv;
        for (own, place) in places.iter().enumerate() {
            if !row.path_of(own).is_integrating() {
                output += gain(row, own)? * (inputs[*place] - row.operating.inputs[own]);
            }
        }
        outputs.push(output);
    }
    Ok(Operating { op: inputs[0], pv: outputs[0], inputs, outputs })
}

/// What is said of a matrix: the words on each row with the tags that they are about, cells that are none, and inputs that moved
/// together.
fn judge(model: &Model, stretches: &[DataSet]) -> Vec<Verdict> {
    let mut verdicts = moved_together(stretches);
    for row in &model.rows {
        // Of several the row says it itself.
        let alone = if row.inputs.len() == 1 { without_effect(row) } else { Vec::new() };
        let said: Vec<Verdict> = alone.into_iter().map(|gain| verdict_of_effect(row, gain)).collect();
        verdicts.extend(of_row(row, &said));
        verdicts.extend(of_row(row, &row.verdicts));
    }
    verdicts
}

/// Words on a row, which speak of one OP and one PV, with the tags of its own.
fn of_row<'a>(row: &'a Model, verdicts: &'a [Verdict]) -> impl Iterator<Item = Verdict> + 'a {
    let (input, output) = (&row.inputs[0].tag, &row.outputs[0].tag);
    verdicts.iter().map(move |verdict| {
        let mut named = verdict.clone();
        named.text = verdict
            .text
            .replace("The OP", input)
            .replace("the OP", input)
            .replace("The PV", output)
            .replace("the PV", output);
        if !named.text.contains(output.as_str()) {
            named.text = format!("{output}: {}", named.text);
        }
        named
    })
}

/// Inputs that moved together, so that what each of them did cannot be told apart.
fn moved_together(stretches: &[DataSet]) -> Vec<Verdict> {
    let inputs = &stretches[0].inputs;
    let moves = |k: usize| -> Vec<f64> {
        stretches
            .iter()
            .flat_map(|data| {
                let values = super::held(&data.inputs[k].values);
                let mean = values.iter().sum::<f64>() / values.len() as f64;
                values.into_iter().map(move |value| value - mean)
            })
            .collect()
    };
    let all: Vec<Vec<f64>> = (0..inputs.len()).map(moves).collect();
    let product = |a: &[f64], b: &[f64]| a.iter().zip(b).map(|(a, b)| a * b).sum::<f64>();
    let mut verdicts = Vec::new();
    for a in 0..all.len() {
        for b in a + 1..all.len() {
            let size = (product(&all[a], &all[a]) * product(&all[b], &all[b])).sqrt();
            let correlation = product(&all[a], &all[b]) / size.max(f64::MIN_POSITIVE);
            if correlation.abs() > TOGETHER {
                verdicts.push(Verdict::new(
                    Tone::Bad,
                    format!(
                        "{} and {} move together (correlation {}): which of them did what cannot be told. Step one after the other.",
                        inputs[a].tag,
                        inputs[b].tag,
                        readable(correlation)
                    ),
                    "correlation of two inputs above 0.9 (common practice)",
                ));
            }
        }
    }
    verdicts
}

impl Model {
    /// Whether it is a matrix with a model an output.
    #[must_use]
    pub fn is_matrix(&self) -> bool {
        !self.rows.is_empty()
    }

    /// The model of one output: the row of a matrix, or the model itself.
    ///
    /// Errors when there is no such output.
    pub fn of_output(&self, output: usize) -> Result<&Self> {
        if self.is_matrix() { self.rows.get(output) } else { (output < self.outputs.len()).then_some(self) }
            .ok_or_else(|| Error::invalid("output", output, format!("0 to {}", self.outputs.len() - 1)))
    }

    /// What a matrix says of one output is said by its row: that model with the place of an input and of the output in it, and
    /// the data as it wants them. None for the input where nothing goes from there.
    pub(super) fn cell(&self, input: usize, output: usize) -> Option<(&Self, Option<usize>)> {
        let row = self.rows.get(output)?;
        Some((row, row.inputs.iter().position(|own| Some(own) == self.inputs.get(input))))
    }

    /// The signals of this model out of data that may have more of them.
    #[must_use]
    pub fn own_data<'a>(&self, data: &'a DataSet) -> Cow<'a, DataSet> {
        let tags = |list: &[SignalName]| list.iter().map(|own| own.tag.clone()).collect::<Vec<_>>();
        let (inputs, outputs) = (tags(&self.inputs), tags(&self.outputs));
        let has = |list: &[Series], own: &[String]| list.iter().map(|series| &series.tag).eq(own);
        if has(&data.inputs, &inputs) && has(&data.outputs, &outputs) {
            return Cow::Borrowed(data);
        }
        Cow::Owned(data.of(inputs.iter().map(String::as_str), outputs.iter().map(String::as_str)))
    }

    /// The structure of the way from an input.
    pub(super) fn path_of(&self, input: usize) -> Structure {
        self.as_fitted().path(input)
    }

    /// What `of` makes of each row and its data.
    pub(super) fn by_row<T>(&self, data: &DataSet, of: impl Fn(&Self, &DataSet) -> Result<T>) -> Result<Vec<T>> {
        self.rows.iter().map(|row| of(row, &row.own_data(data))).collect()
    }

    /// The model as a process to be simulated: the way from the OP to the PV, or a matrix with all its inputs and outputs, called
    /// as their tags as far as these are names, at rest where the model is.
    ///
    /// Errors for polynomial and state-space models, which are reduced to a process structure first.
    pub fn as_process(&self) -> Result<ProcessSpec> {
        if let Some(physical) = &self.physical {
            return Ok(physical.process());
        }
        if !self.is_matrix() {
            return self.process().map(ProcessSpec::Linear);
        }
        let mut names: Vec<String> = Vec::new();
        let mut signals = |list: &[SignalName], at: &[f64]| -> Vec<NamedValue> {
            let of = |(own, value): (&SignalName, &f64)| {
                names.push(name_for(&own.tag, &names));
                let name = names.last().cloned().unwrap_or_default();
                NamedValue { name, unit: own.unit.clone(), value: *value, low: None, high: None }
            };
            list.iter().zip(at).map(of).collect()
        };
        let inputs = signals(&self.inputs, &self.operating.inputs);
        let outputs = signals(&self.outputs, &self.operating.outputs);
        let mut elements = Vec::new();
        for (row, output) in self.rows.iter().zip(&outputs) {
            for (k, own) in row.inputs.iter().enumerate() {
                let process = row.process_of(k, &own.tag)?;
                let (numerator, denominator) = process.polynomials();
                let called = self.inputs.iter().zip(&inputs).find(|(input, _)| *input == own);
                let input = called.map(|(_, named)| named.name.clone()).unwrap_or_default();
                let dead_time = process.dead_time();
                elements.push(Element { output: output.name.clone(), input, numerator, denominator, dead_time });
            }
        }
        Ok(DetailedSpec::TransferFunctions(TransferFunctionsSpec { inputs, outputs, elements }).into())
    }
}

/// A matrix held against the data of its rows: each by itself, and the worst of them for all.
pub(super) fn held_against(model: &Model, stretches: &[DataSet], seen: bool) -> Result<Validation> {
    let mut outputs = Vec::with_capacity(model.rows.len());
    for row in &model.rows {
        let own: Vec<DataSet> = stretches.iter().map(|data| row.own_data(data).into_owned()).collect();
        outputs.push(if seen { validate_together(row, &own)? } else { validate(row, &own[0], false)? });
    }
    let verdicts =
        model.rows.iter().zip(&outputs).flat_map(|(row, own)| of_row(row, &own.verdicts).collect::<Vec<_>>()).collect();
    let least = outputs
        .iter()
        .min_by(|a, b| a.performance.fit_simulated.total_cmp(&b.performance.fit_simulated))
        .cloned()
        .ok_or_else(|| Error::unfit("the matrix has no rows", "fit it again"))?;
    Ok(Validation { verdicts, outputs, ..least })
}
