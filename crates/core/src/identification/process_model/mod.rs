//! Transfer functions of low order with dead time by output-error fit, the dead time not rounded to the sample.

mod prepared;
mod search;
#[cfg(test)]
mod tests;
mod uncertainty;
mod unknowns;
mod verdicts;

pub use uncertainty::{ExpectedError, Profile, ProfilePoint};
pub(super) use uncertainty::{expected, profile};

use super::data::{DataSet, held};
use super::loss::{Loss, ScaledLoss};
use super::model::{Criteria, FitOptions, FurtherStretch, Model, Operating, Performance, SignalName, StartOfRecord};
use super::residuals::lag_one_correlation;
use super::structure::Structure;
use crate::Result;
use crate::lti::{DeadTime, FreeResponse, Response};
use crate::series::TimeAxis;
use prepared::{Before, Point, Prepared};
use unknowns::{Bounds, Layout, Rest};

/// Fewest samples that a fit is made on.
pub(super) const FEWEST_SAMPLES: usize = 10;

/// Fits a process structure by least squares (or another loss) of the simulated output.
///
/// Each measured disturbance goes through a lag with dead time of its own. With the parameters of the process are
/// estimated the
/// offset, a drift where it is asked for, and what the states at the start left behind. What was still under way
/// through
/// the dead time when the data began cannot be estimated freely, since it would explain any single step by itself. It
/// is
/// taken as the first value of the input (a test that starts at rest) or as its mean (a record of ordinary operation),
/// whichever fits better.
///
/// Grids over dead time and time constants, on which the others follow by linear least squares, give the starts: on all
/// data
/// averaged in blocks, and on ever shorter stretches with ever shorter blocks, where the OP moves most, so that a fast
/// process is found in a long record. The best are refined by Levenberg–Marquardt over all unknowns with exact
/// derivatives.
///
/// Several stretches have the process in common; level, drift and what was under way are each stretch's own.
///
/// Errors when a series does not fit the axis, has too few usable samples, or moves in no stretch.
pub(super) fn fit(stretches: &[DataSet], options: &FitOptions) -> Result<Model> {
    Fit::of(stretches, options, Rest::Unknown, |prepared| prepared.best()).map(|fit| fit.model(stretches))
}

/// The same for deviations from rest without noise: level and drift are known to be 0.
pub(super) fn fit_from_rest(data: &DataSet, options: &FitOptions) -> Result<Model> {
    let stretches = std::slice::from_ref(data);
    Fit::of(stretches, options, Rest::AtZero, |prepared| prepared.best()).map(|fit| fit.model(stretches))
}

/// The first-order fit that is reached from a gain and time constant known roughly, or the one found from nothing; all
/// else as in
/// [`fit`].
pub(super) fn fit_near(data: &DataSet, options: &FitOptions, near: Option<[f64; 2]>) -> Result<Model> {
    let stretches = std::slice::from_ref(data);
    let Some([_, time_constant]) = near else { return fit(stretches, options) };
    let start = |prepared: &Prepared<'_>| {
        let mut unknowns = vec![0.0; prepared.layout.count];
        for place in &prepared.layout.paths[0].shape {
            unknowns[*place] = time_constant.ln();
        }
        let unknowns = prepared.bounds.clamped(&unknowns);
        let starts = prepared.linear_fits(&unknowns).into_iter();
        let refined = starts.filter_map(|start| prepared.refined(&start, search::TOLERANCE, &ScaledLoss::SQUARES));
        match refined.min_by(|a, b| a.sum_of_squares.total_cmp(&b.sum_of_squares)) {
            Some(point) => Ok(point),
            None => prepared.best(),
        }
    };
    Fit::of(stretches, options, Rest::Unknown, start).map(|fit| fit.model(stretches))
}

/// A fit with everything that its uncertainty is computed from.
struct Fit<'a> {
    options: &'a FitOptions,
    layout: Layout,
    bounds: Bounds,
    point: Point,
    loss: ScaledLoss,
}

impl<'a> Fit<'a> {
    /// The fit whose least-squares minimum `search` finds.
    fn of(
        stretches: &[DataSet],
        options: &'a FitOptions,
        rest: Rest,
        search: impl FnOnce(&Prepared<'_>) -> Result<Point>,
    ) -> Result<Self> {
        DataSet::validate_together(stretches, FEWEST_SAMPLES)?;
        options.loss.validate()?;
        let inputs = &stretches[0].inputs;
        let layout = Layout::with(options, inputs.len(), stretches.len(), rest);
        let tags: Vec<String> = inputs.iter().map(|series| series.tag.clone()).collect();
        let axes: Vec<&TimeAxis> = stretches.iter().map(|data| &data.axis).collect();
        let bounds = Bounds::new(&layout, &axes, &tags, &options.constraints)?;
        let (point, loss) = {
            let prepared = Prepared::new(stretches, &layout, &bounds);
            let squares = search(&prepared)?;
            robust(&prepared, squares, options.loss)
        };
        let mut fit = Self { options, layout, bounds, point, loss };
        fit.slower_lag_first();
        Ok(fit)
    }

    /// Two lags can be listed either way: the slower one first, unless what is known of them tells them apart.
    fn slower_lag_first(&mut self) {
        if !matches!(self.options.structure, Structure::TwoLags | Structure::TwoLagsLead) {
            return;
        }
        let [first, second] = self.layout.paths[0].shape[..] else { return };
        if self.bounds.ranges[first] == self.bounds.ranges[second] {
            let unknowns = &mut self.point.unknowns;
            if unknowns[first] < unknowns[second] {
                unknowns.swap(first, second);
            }
        }
    }

    fn model(&self, stretches: &[DataSet]) -> Model {
        let data = &stretches[0];
        let prepared = Prepared::new(stretches, &self.layout, &self.bounds);
        let Point { unknowns, before, .. } = &self.point;
        let residuals = prepared.residuals(unknowns, before);
        let free = self.layout.count - self.bounds.active(unknowns).len();
        let name = |series: &super::data::Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
        let (parameters, covariance) = self.parameters(&prepared, data, &residuals);
        let outputs = prepared.stretches.iter().flat_map(|stretch| &stretch.output);
        let estimation = performance(outputs, &residuals, free);
        let of_stretch = |k: usize| {
            let own = prepared.residuals_in(k, unknowns, before);
            let (operating, start) = self.stretch(&prepared, k);
            let performance = performance(prepared.stretches[k].output.iter(), &own, 0);
            FurtherStretch { operating, start, performance }
        };
        let (operating, start) = self.stretch(&prepared, 0);
        let squares = residuals.iter().filter(|value| value.is_finite()).map(|value| value * value).sum();
        let mut model = Model {
            structure: self.options.structure,
            method: match self.options.loss {
                Loss::Squares => "output error, least squares".into(),
                Loss::Huber { width } => format!("output error, Huber loss of width {width}"),
                Loss::Absolute => "output error, absolute value".into(),
                Loss::DeadBand { width } => format!("output error, dead band of {width} times the noise"),
            },
            inputs: data.inputs.iter().map(name).collect(),
            outputs: vec![name(data.output())],
            sample_time: None,
            parameters,
            covariance,
            matrices: None,
            operating,
            start,
            first_stretch: (stretches.len() > 1).then(|| of_stretch(0).performance),
            further: (1..stretches.len()).map(of_stretch).collect(),
            criteria: Some(Criteria::new(squares, estimation.samples, free)),
            estimation,
            verdicts: Vec::new(),
        };
        model.verdicts = verdicts::judge(&model, stretches, self.options, &self.loss.without_outliers(&residuals));
        model
    }

    /// Where the process rested in a stretch, and what was under way at its start.
    fn stretch(&self, prepared: &Prepared<'_>, k: usize) -> (Operating, StartOfRecord) {
        let unknowns = &self.point.unknowns;
        let (stretch, own) = (&prepared.stretches[k], &self.layout.stretches[k]);
        let drift = own.drift.map_or(0.0, |place| unknowns[place]) / stretch.duration;
        let offset = stretch.output_mean + own.offset.map_or(0.0, |place| unknowns[place]);
        let is_integrating = self.options.structure.is_integrating();
        let mut inputs: Vec<f64> = stretch.firsts.iter().zip(&stretch.input_means).map(|(a, b)| a + b).collect();
        let pv = if is_integrating {
            inputs.clone_from(&stretch.input_means);
            inputs[0] -= drift / unknowns[self.layout.paths[0].gain];
            offset
        } else {
            let lifts = self.layout.paths.iter().zip(&stretch.firsts).map(|(path, first)| unknowns[path.gain] * first);
            offset + lifts.sum::<f64>()
        };
        let earlier = |input: usize| stretch.earlier(input, self.point.before[k]) + stretch.input_means[input];
        let start = StartOfRecord {
            inputs: (0..inputs.len()).map(earlier).collect(),
            transients: own.transients.iter().map(|transient| unknowns[transient.place]).collect(),
            // Of an integrating process the drift is where its resting OP comes from.
            drift: if is_integrating { 0.0 } else { drift },
        };
        (Operating { op: inputs[0], pv, inputs, outputs: vec![pv] }, start)
    }
}

/// How a fit with so many free unknowns agrees with outputs about their means.
fn performance<'o>(outputs: impl Iterator<Item = &'o f64>, residuals: &[f64], free: usize) -> Performance {
    let finite = residuals.iter().filter(|value| value.is_finite());
    let (squares, samples) = finite.fold((0.0, 0usize), |(sum, count), value| (sum + value * value, count + 1));
    let total: f64 = outputs.filter(|value| value.is_finite()).map(|value| value * value).sum();
    let fit = 100.0 * (1.0 - (squares / total).sqrt());
    Performance {
        fit_simulated: fit,
        fit_one_step: fit,
        residual_deviation: (squares / samples.saturating_sub(free).max(1) as f64).sqrt(),
        residual_correlation: lag_one_correlation(residuals),
        samples,
    }
}

/// The minimum of another loss than squares, from the least-squares one: the noise is judged by the residuals there,
/// and once
/// more by those at the first minimum of the loss.
fn robust(prepared: &Prepared<'_>, squares: Point, loss: Loss) -> (Point, ScaledLoss) {
    if loss == Loss::Squares {
        return (squares, ScaledLoss::SQUARES);
    }
    let mut point = squares;
    let mut scaled = ScaledLoss::SQUARES;
    for _ in 0..2 {
        scaled = loss.scaled(&prepared.residuals(&point.unknowns, &point.before));
        if let Some(better) = prepared.refined(&point, search::TOLERANCE, &scaled) {
            point = better;
        }
    }
    (point, scaled)
}

/// The PV of a process model for these inputs, in the record that it was fitted to.
pub(super) fn simulate(model: &Model, axis: &TimeAxis, inputs: &[&[f64]]) -> Result<Vec<f64>> {
    let layout = Layout::new(&FitOptions::new(model.structure), inputs.len(), 1);
    let own = simulate_paths(model, axis, inputs, &model.start.inputs)?;
    let mut output: Vec<f64> = own.into_iter().map(|value| value + model.operating.pv).collect();
    let unknowns = place_values(&layout, model);
    for (transient, coefficient) in layout.stretches[0].transients.iter().zip(&model.start.transients) {
        let free = FreeResponse::new(layout.paths[transient.path].dynamics(&unknowns), axis, transient.state);
        for (value, (left, _)) in output.iter_mut().zip(free) {
            *value += coefficient * left;
        }
    }
    if model.start.drift != 0.0 {
        let start = axis.at(0);
        output.iter_mut().enumerate().for_each(|(k, value)| *value += model.start.drift * (axis.at(k) - start));
    }
    Ok(output)
}

/// Deviation of the PV from rest for these inputs, which stood at `earlier` before.
pub(super) fn simulate_paths(model: &Model, axis: &TimeAxis, inputs: &[&[f64]], earlier: &[f64]) -> Result<Vec<f64>> {
    let layout = Layout::new(&FitOptions::new(model.structure), inputs.len(), 1);
    let unknowns = place_values(&layout, model);
    let mut output = vec![0.0; axis.len()];
    for (k, path) in layout.paths.iter().enumerate() {
        let rest = model.operating.inputs[k];
        let deviation: Vec<f64> = held(inputs[k]).iter().map(|value| value - rest).collect();
        let lead = path.lead.map_or(0.0, |place| unknowns[place]);
        let dead_time = DeadTime::new(unknowns[path.dead_time])?;
        let response = Response::new(path.dynamics(&unknowns), axis, &deviation, earlier[k] - rest, dead_time);
        for (value, sample) in output.iter_mut().zip(response) {
            *value += unknowns[path.gain] * (sample.value + lead * sample.slope);
        }
    }
    Ok(output)
}

/// What the inputs of other data make of the PV, and the shapes that what was under way at their start can add; for
/// either assumption
/// on the past.
pub(super) fn responses(model: &Model, data: &DataSet) -> Result<Vec<super::agreement::Response>> {
    let inputs: Vec<&[f64]> = data.inputs.iter().map(|series| series.values.as_slice()).collect();
    let layout = Layout::new(&FitOptions::new(model.structure), inputs.len(), 1);
    let unknowns = place_values(&layout, model);
    let mut bases: Vec<Vec<Vec<f64>>> = Vec::new();
    for transient in &layout.stretches[0].transients {
        let free = FreeResponse::new(layout.paths[transient.path].dynamics(&unknowns), &data.axis, transient.state);
        bases.push(vec![free.map(|(value, _)| value).collect()]);
    }
    if model.structure.is_integrating() || model.start.drift != 0.0 {
        // The level at the start is a state like any other.
        bases.push(vec![vec![1.0; data.axis.len()]]);
    }
    if model.start.drift != 0.0 {
        bases.push(vec![(0..data.axis.len()).map(|k| data.axis.at(k) - data.axis.at(0)).collect()]);
    }
    let with = |before: Before| {
        let earlier: Vec<f64> = data
            .inputs
            .iter()
            .map(|series| if before == Before::AtMean { series.mean() } else { held(&series.values)[0] })
            .collect();
        let own = simulate_paths(model, &data.axis, &inputs, &earlier)?;
        let outputs = vec![own.into_iter().map(|value| value + model.operating.pv).collect()];
        Ok(super::agreement::Response { outputs, bases: bases.clone() })
    };
    Before::BOTH.into_iter().map(with).collect()
}

/// The unknowns of a layout from the parameters of a model; offset, drift and transients stay 0.
fn place_values(layout: &Layout, model: &Model) -> Vec<f64> {
    use super::structure::ParameterKind;
    let mut unknowns = vec![0.0; layout.count];
    let mut values = model.parameters.iter().map(|parameter| parameter.value);
    for path in &layout.paths {
        for (_, kind) in path.structure.process_parameters() {
            let value = values.next().unwrap_or_default();
            let inward = if matches!(kind, ParameterKind::Shape(_)) { value.ln() } else { value };
            unknowns[Layout::place(path, *kind)] = inward;
        }
    }
    unknowns
}
