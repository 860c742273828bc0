//! Transfer functions of low order with dead time by output-error fit, the dead time not rounded to the sample.

mod effect;
mod grid;
mod prepared;
mod search;
mod steps;
#[cfg(test)]
mod tests;
mod uncertainty;
mod unknowns;
#[cfg(test)]
mod verdict_tests;
mod verdicts;

pub(super) use effect::{verdict_of_effect, without_effect};
pub use uncertainty::{ExpectedError, Profile, ProfilePoint};
pub(super) use uncertainty::{REACH, expected, profile};

use super::covariance::LONG;
use super::data::{DataSet, held};
use super::loss::{Loss, ScaledLoss};
use super::model::{
    Criteria, FitOptions, FoundStep, FurtherStretch, Model, Operating, Parameter, Performance, SignalName,
    StartOfRecord,
};
use super::noise::{NoiseModel, Whitening};
use super::residuals::lag_one_correlation;
use super::structure::Structure;
use crate::Result;
use crate::lti::{DeadTime, FreeResponse, Response};
use crate::series::TimeAxis;
use prepared::{Before, Point, Prepared};
use unknowns::{Bounds, Layout, Rest};

/// A fit in % beyond which what is left is rounding, of which nothing is said.
const EXACT: f64 = 99.9999;
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

/// What is known at the end of a window.
pub(super) struct Followed {
    /// Gain, time constant and dead time.
    pub(super) parameters: Vec<Parameter>,
    /// The PV of the fit at the last sample; None where that is missing.
    pub(super) last: Option<f64>,
}

/// The first-order fit that is reached from a gain and time constant known roughly, or the one found from nothing, without
/// what is said of it; all else as in [`fit`].
pub(super) fn follow(data: &DataSet, options: &FitOptions, near: Option<[f64; 2]>) -> Result<Followed> {
    let stretches = std::slice::from_ref(data);
    let start = |prepared: &Prepared<'_>| {
        let Some([_, time_constant]) = near else { return prepared.best() };
        let mut unknowns = vec![0.0; prepared.layout.count];
        for place in &prepared.layout.paths[0].shape {
            unknowns[*place] = time_constant.ln();
        }
        prepared.best_near(&unknowns)
    };
    let fit = Fit::of(stretches, options, Rest::Unknown, start)?;
    let prepared = Prepared::new(stretches, &fit.layout, &fit.bounds);
    let residuals = prepared.residuals(&fit.point.unknowns, &fit.point.before);
    let (parameters, ..) = fit.parameters(&prepared, data, &residuals);
    let measured = data.output().values.last().zip(residuals.last());
    let last = measured.map(|(value, residual)| value - residual).filter(|value| value.is_finite());
    Ok(Followed { parameters, last })
}

/// A fit with everything that its uncertainty is computed from.
struct Fit<'a> {
    options: &'a FitOptions,
    layout: Layout,
    bounds: Bounds,
    point: Point,
    loss: ScaledLoss,
    whitening: Option<Whitening>,
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
        options.check_paths(stretches[0].inputs.len())?;
        let none = vec![Vec::new(); stretches.len()];
        let layout = Layout::with(options, stretches[0].inputs.len(), &none, rest);
        let mut fit = Self::in_layout(stretches, options, layout, search)?;
        if options.find_steps {
            fit = fit.with_steps(stretches)?;
        }
        fit.slower_lag_first();
        Ok(fit)
    }

    /// The fit of the unknowns of a layout.
    fn in_layout(
        stretches: &[DataSet],
        options: &'a FitOptions,
        layout: Layout,
        search: impl FnOnce(&Prepared<'_>) -> Result<Point>,
    ) -> Result<Self> {
        let tags: Vec<String> = stretches[0].inputs.iter().map(|series| series.tag.clone()).collect();
        let axes: Vec<&TimeAxis> = stretches.iter().map(|data| &data.axis).collect();
        let bounds = Bounds::new(&layout, &axes, &tags, &options.constraints)?;
        let (point, loss, whitening) = {
            let prepared = Prepared::new(stretches, &layout, &bounds);
            let squares = search(&prepared)?;
            let (point, prepared) = match options.noise {
                NoiseModel::White => (squares, prepared),
                of_noise => likeliest(prepared, squares, of_noise == NoiseModel::Integrated)?,
            };
            let (point, loss) = robust(&prepared, point, options.loss);
            (point, loss, prepared.whitening)
        };
        Ok(Self { options, layout, bounds, point, loss, whitening })
    }

    /// Two lags can be listed either way: the slower one first, unless what is known of them tells them apart.
    fn slower_lag_first(&mut self) {
        for path in &self.layout.paths {
            if !matches!(path.structure, Structure::TwoLags | Structure::TwoLagsLead) {
                continue;
            }
            let [first, second] = path.shape[..] else { continue };
            let unknowns = &mut self.point.unknowns;
            if self.bounds.ranges[first] == self.bounds.ranges[second] && unknowns[first] < unknowns[second] {
                unknowns.swap(first, second);
            }
        }
    }

    fn model(&self, stretches: &[DataSet]) -> Model {
        let data = &stretches[0];
        let prepared = Prepared::new(stretches, &self.layout, &self.bounds).whitened(self.whitening.clone());
        let Point { unknowns, before, .. } = &self.point;
        let residuals = prepared.residuals(unknowns, before);
        let innovations =
            if self.whitening.is_some() { prepared.innovations(unknowns, before) } else { residuals.clone() };
        let of_noise = self.whitening.as_ref().map_or(0, |whitening| whitening.order() + 1);
        let free = self.layout.count - self.bounds.active(unknowns).len() + of_noise;
        let name = |series: &super::data::Series| SignalName { tag: series.tag.clone(), unit: series.unit.clone() };
        let (parameters, covariance, effective) = self.parameters(&prepared, data, &innovations);
        let outputs = prepared.stretches.iter().flat_map(|stretch| &stretch.output);
        let estimation = performance(outputs, &residuals, &innovations, free);
        let new: Vec<f64> = innovations.iter().copied().filter(|value| value.is_finite()).collect();
        let squares = new.iter().map(|value| value * value).sum::<f64>();
        let deviation = (squares / new.len().saturating_sub(free).max(1) as f64).sqrt();
        let held = self.bounds.active(unknowns);
        let sums = self.options.find_steps.then(|| prepared.sums(unknowns, before, &ScaledLoss::SQUARES));
        let found_steps = |k: usize| -> Vec<FoundStep> {
            let own = &self.layout.stretches[k].steps;
            let places: Vec<usize> = own.iter().map(|step| step.place).collect();
            let errors = sums.as_ref().map_or(Vec::new(), |sums| steps::errors(sums, &held, &places, deviation));
            own.iter()
                .zip(errors)
                .map(|(step, standard_error)| FoundStep {
                    at: stretches[k].axis.at(step.at) - stretches[k].axis.at(0),
                    size: unknowns[step.place],
                    standard_error,
                })
                .collect()
        };
        let of_stretch = |k: usize| {
            let own = prepared.residuals_in(k, unknowns, before);
            let (operating, start) = self.stretch(&prepared, k, found_steps(k));
            let performance = performance(prepared.stretches[k].output.iter(), &own, &own, 0);
            FurtherStretch { operating, start, performance }
        };
        let (operating, start) = self.stretch(&prepared, 0, found_steps(0));
        let mut model = Model {
            structure: self.options.structure,
            method: match self.options.loss {
                _ if self.options.noise == NoiseModel::Autoregression => {
                    "maximum likelihood with autoregressive noise".into()
                }
                _ if self.options.noise == NoiseModel::Integrated => "maximum likelihood with integrated noise".into(),
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
            paths: self.options.paths.clone(),
            rows: Vec::new(),
            physical: None,
            operating,
            start,
            first_stretch: (stretches.len() > 1).then(|| of_stretch(0).performance),
            further: (1..stretches.len()).map(of_stretch).collect(),
            criteria: Some(Criteria::new(squares, new.len(), free)),
            noise: self.whitening.as_ref().map(|whitening| whitening.fitted(deviation)),
            estimation,
            verdicts: Vec::new(),
        };
        model.verdicts = verdicts::judge(&model, stretches, self.options, &self.loss.without_outliers(&innovations));
        if model.estimation.fit_simulated > EXACT {
            return model;
        }
        let few = effective.and_then(|effective| verdicts::few_samples(effective, model.estimation.samples));
        let few = few.or_else(|| verdicts::short(model.estimation.samples));
        verdicts::put_last(&mut model, few);
        let drifts = verdicts::dead_time_beside_drift(&model);
        verdicts::put_last(&mut model, drifts);
        // On long data steps are sought only where they are asked for.
        if !self.options.find_steps && self.options.loss == Loss::Squares && model.estimation.samples <= LONG {
            let unexplained = self.unexplained_step(stretches);
            verdicts::put_first(&mut model, unexplained.map(|step| verdicts::of_unexplained_step(step, stretches)));
        }
        model
    }

    /// Where the process rested in a stretch, and what was under way at its start.
    fn stretch(&self, prepared: &Prepared<'_>, k: usize, steps: Vec<FoundStep>) -> (Operating, StartOfRecord) {
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
            steps,
        };
        (Operating { op: inputs[0], pv, inputs, outputs: vec![pv] }, start)
    }
}

/// How a fit with so many free unknowns agrees with outputs about their means.
fn performance<'o>(
    outputs: impl Iterator<Item = &'o f64>,
    residuals: &[f64],
    innovations: &[f64],
    free: usize,
) -> Performance {
    let finite = residuals.iter().filter(|value| value.is_finite());
    let (squares, samples) = finite.fold((0.0, 0usize), |(sum, count), value| (sum + value * value, count + 1));
    let total: f64 = outputs.filter(|value| value.is_finite()).map(|value| value * value).sum();
    let fit = |squares: f64| 100.0 * (1.0 - (squares / total).sqrt());
    Performance {
        fit_simulated: fit(squares),
        fit_one_step: fit(innovations.iter().filter(|value| value.is_finite()).map(|value| value * value).sum()),
        residual_deviation: (squares / samples.saturating_sub(free).max(1) as f64).sqrt(),
        residual_correlation: lag_one_correlation(innovations),
        samples,
    }
}

/// Process and noise by maximum likelihood: in turn the noise from what the process leaves, and the process from what is new in
/// the output, until neither changes. Each turn raises the likelihood of both together.
///
/// The turns begin at the least-squares minimum and, since slow noise or a closed loop can put that far off, where the search
/// ends for noise of a long memory; the likelier end counts.
fn likeliest<'a>(prepared: Prepared<'a>, squares: Point, integrated: bool) -> Result<(Point, Prepared<'a>)> {
    /// Pole of the noise of the second beginning, and turns at most.
    const SLOW: f64 = 0.98;
    const TURNS: usize = 20;
    /// A turn that makes the logarithm of the likelihood grow by less is the last.
    const SETTLED: f64 = 1e-2;
    /// Relative change of the squares at which the process is good enough for a turn, and to be compared.
    const TURN: f64 = 1e-6;
    const NEAR: f64 = 1e-5;
    let mut prepared = prepared.whitened(Some(Whitening::of_pole(SLOW)));
    let slow = prepared.best_start();
    let mut best: Option<(f64, Point, Whitening)> = None;
    for start in std::iter::once(squares).chain(slow) {
        let mut point = start;
        if let Some((_, known, whitening)) = &best {
            // Beside the noise that was found, a start that leads there too, or to something clearly worse, is not worth its turns.
            prepared.whitening = Some(whitening.clone());
            match prepared.refined(&point, search::COARSE_TOLERANCE, &ScaledLoss::SQUARES) {
                Some(near) if prepared.is_apart(&near, known) => point = near,
                _ => continue,
            }
        }
        let mut reached = f64::NEG_INFINITY;
        for _ in 0..TURNS {
            let residuals = prepared.residuals(&point.unknowns, &point.before);
            let Some(whitening) = Whitening::of(&residuals, integrated) else { break };
            prepared.whitening = Some(whitening.clone());
            let Some(found) = prepared.refined(&point, TURN, &ScaledLoss::SQUARES) else { break };
            let samples = prepared.samples - if integrated { prepared.stretches.len() } else { 0 };
            let likelihood = whitening.likelihood(found.sum_of_squares, samples, prepared.stretches.len());
            let settled = likelihood - reached < SETTLED;
            point = found;
            reached = reached.max(likelihood);
            if best.as_ref().is_none_or(|(known, ..)| likelihood > *known) {
                best = Some((likelihood, point.clone(), whitening));
            }
            if settled {
                break;
            }
        }
    }
    let (_, mut point, mut whitening) =
        best.ok_or_else(|| crate::Error::unfit("the residuals tell no noise model", "fit without one"))?;
    if prepared.samples <= LONG {
        // What level and gain have taken out of the noise is given back to its memory.
        whitening = whitening.restricted(&prepared.rows(&point.unknowns, &point.before)).0;
    }
    prepared.whitening = Some(whitening.clone());
    // Beside slow noise a dead time has a minimum of its own between any two samples: the neighbours are tried, too.
    let place = prepared.layout.paths[0].dead_time;
    let interval = prepared.interval();
    let mut deepest: Option<Point> = None;
    for shift in [0.0, -0.7, 0.7] {
        let mut start = point.clone();
        start.unknowns[place] += shift * interval;
        start.unknowns = prepared.bounds.clamped(&start.unknowns);
        let is_deeper =
            |found: &Point| deepest.as_ref().is_none_or(|known| found.sum_of_squares < known.sum_of_squares);
        // Whether it comes back to a minimum that is known shows long before the last digit.
        let Some(near) = prepared.refined(&start, NEAR, &ScaledLoss::SQUARES) else { continue };
        let is_known = |known: &Point| (known.unknowns[place] - near.unknowns[place]).abs() < 0.05 * interval;
        if deepest.as_ref().is_some_and(is_known) {
            continue;
        }
        let found = prepared.refined(&near, search::TOLERANCE, &ScaledLoss::SQUARES);
        if let Some(found) = found.filter(is_deeper) {
            deepest = Some(found);
        }
    }
    point = deepest.unwrap_or(point);
    if integrated {
        // The level does not show in the moves: it is where the model lies in the middle of the data.
        for (k, own) in prepared.layout.stretches.iter().enumerate() {
            let left = prepared.residuals_in(k, &point.unknowns, &point.before);
            let finite: Vec<f64> = left.into_iter().filter(|value| value.is_finite()).collect();
            if let Some(place) = own.offset {
                point.unknowns[place] += finite.iter().sum::<f64>() / finite.len().max(1) as f64;
            }
        }
    }
    Ok((point, prepared.whitened(Some(whitening))))
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
        scaled = loss.scaled(&prepared.innovations(&point.unknowns, &point.before));
        if let Some(better) = prepared.refined(&point, search::TOLERANCE, &scaled) {
            point = better;
        }
    }
    (point, scaled)
}

/// The PV of a process model for these inputs, in the record that it was fitted to.
pub(super) fn simulate(model: &Model, axis: &TimeAxis, inputs: &[&[f64]]) -> Result<Vec<f64>> {
    let layout = Layout::new(&model.as_fitted(), inputs.len(), 1);
    let own = simulate_paths(model, axis, inputs, &model.start.inputs)?;
    let mut output: Vec<f64> = own.into_iter().map(|value| value + model.operating.pv).collect();
    let unknowns = place_values(&layout, model);
    for (transient, coefficient) in layout.stretches[0].transients.iter().zip(&model.start.transients) {
        let free = FreeResponse::new(layout.paths[transient.path].dynamics(&unknowns), axis, transient.state);
        for (value, (left, _)) in output.iter_mut().zip(free) {
            *value += coefficient * left;
        }
    }
    add_steps(&model.start, axis, &mut output);
    if model.start.drift != 0.0 {
        let start = axis.at(0);
        output.iter_mut().enumerate().for_each(|(k, value)| *value += model.start.drift * (axis.at(k) - start));
    }
    Ok(output)
}

/// Adds the steps that were found in the record of a model.
pub(super) fn add_steps(start: &StartOfRecord, axis: &TimeAxis, output: &mut [f64]) {
    for step in &start.steps {
        // Half a sample early: times are sums of samples.
        let from = step.at - 0.5 * axis.mean_interval();
        output
            .iter_mut()
            .enumerate()
            .filter(|(k, _)| axis.at(*k) - axis.at(0) >= from)
            .for_each(|(_, value)| *value += step.size);
    }
}

/// Deviation of the PV from rest for these inputs, which stood at `earlier` before.
pub(super) fn simulate_paths(model: &Model, axis: &TimeAxis, inputs: &[&[f64]], earlier: &[f64]) -> Result<Vec<f64>> {
    let layout = Layout::new(&model.as_fitted(), inputs.len(), 1);
    let unknowns = place_values(&layout, model);
    let mut output = vec![0.0; axis.len()];
    for (k, path) in layout.paths.iter().enumerate() {
        let rest = model.operating.inputs[k];
        let deviation: Vec<f64> = held(inputs[k]).iter().map(|value| value - rest).collect();
        let lead = path.lead.map_or(0.0, |place| unknowns[place]);
        let dead_time = DeadTime::new(unknowns[path.dead_time])?;
        let response = Response::new(path.dynamics(&unknowns), axis, &deviation, earlier[k] - rest, dead_time);
        for (value, sample) in output.iter_mut().zip(response.bare()) {
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
    let layout = Layout::new(&model.as_fitted(), inputs.len(), 1);
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
