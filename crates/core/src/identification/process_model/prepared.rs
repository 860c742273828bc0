//! A data set made ready for the fit, and its residuals with their derivatives at given unknowns.

use super::unknowns::{Bounds, Layout, Own, Path, Rest, Transient};
use crate::Result;
use crate::identification::data::{DataSet, between, held};
use crate::identification::loss::ScaledLoss;
use crate::identification::noise::{Rows, Whitening};
use crate::lti::{DeadTime, FreeResponse, MOST_SHAPE_PARAMETERS, Response, Sample};
use crate::numerics::{NormalEquations, RowBlock};
use crate::series::TimeAxis;

/// What the inputs are taken to have been before the data.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Before {
    AtFirstValue,
    AtMean,
}

impl Before {
    pub(super) const BOTH: [Self; 2] = [Self::AtFirstValue, Self::AtMean];
}

/// Unknowns, and how well they fit.
#[derive(Debug, Clone)]
pub(super) struct Point {
    pub(super) unknowns: Vec<f64>,
    /// For each stretch.
    pub(super) before: Vec<Before>,
    pub(super) sum_of_squares: f64,
}

/// One stretch of data without gaps in the inputs, all series about their means, or about a known rest.
pub(super) struct Stretch {
    pub(super) axis: TimeAxis,
    pub(super) inputs: Vec<Vec<f64>>,
    pub(super) output: Vec<f64>,
    pub(super) input_means: Vec<f64>,
    pub(super) output_mean: f64,
    /// First value of each input, from its mean.
    pub(super) firsts: Vec<f64>,
    /// By which the drift is measured: the length of the stretch, in s.
    pub(super) duration: f64,
    /// The shape of each step: 0 before it, 1 after.
    pub(super) steps: Vec<Vec<f64>>,
}

/// Stretches made ready for a fit.
pub(super) struct Prepared<'a> {
    pub(super) layout: &'a Layout,
    pub(super) bounds: &'a Bounds,
    pub(super) stretches: Vec<Stretch>,
    pub(super) samples: usize,
    /// What makes the noise white; None where it is taken to be.
    pub(super) whitening: Option<Whitening>,
}

impl Stretch {
    fn new(data: &DataSet, own: &Own, rest: Rest) -> Self {
        let about_rest = |mean: f64| if rest == Rest::AtZero { 0.0 } else { mean };
        let input_means: Vec<f64> = data.inputs.iter().map(|series| about_rest(held_mean(&series.values))).collect();
        let about = |values: Vec<f64>, mean: f64| values.into_iter().map(|value| value - mean).collect::<Vec<f64>>();
        let inputs: Vec<Vec<f64>> =
            data.inputs.iter().zip(&input_means).map(|(series, mean)| about(held(&series.values), *mean)).collect();
        let output_mean = about_rest(data.output().mean());
        let finite = |value: &f64| if value.is_finite() { *value } else { f64::NAN };
        let output = about(data.output().values.iter().map(finite).collect(), output_mean);
        Self {
            axis: data.axis.clone(),
            firsts: inputs.iter().map(|series| series[0]).collect(),
            inputs,
            input_means,
            steps: own
                .steps
                .iter()
                .map(|step| (0..output.len()).map(|k| f64::from(u8::from(k >= step.at))).collect())
                .collect(),
            output,
            output_mean,
            duration: data.axis.duration(),
        }
    }

    /// What an input is taken to have been before the data, from its mean.
    pub(super) fn earlier(&self, input: usize, before: Before) -> f64 {
        match before {
            Before::AtFirstValue => self.firsts[input],
            Before::AtMean => 0.0,
        }
    }

    /// The share of the stretch that has gone by at a sample.
    pub(super) fn share(&self, k: usize) -> f64 {
        (self.axis.at(k) - self.axis.at(0)) / self.duration
    }

    fn responses(&self, paths: &[Path], unknowns: &[f64], before: Before) -> Result<Vec<Response<'_>>> {
        let of_path = |(k, path): (usize, &Path)| {
            let dead_time = DeadTime::new(unknowns[path.dead_time])?;
            let earlier = self.earlier(k, before);
            Ok(Response::new(path.dynamics(unknowns), &self.axis, &self.inputs[k], earlier, dead_time))
        };
        paths.iter().enumerate().map(of_path).collect()
    }

    /// What each state at the start leaves behind.
    fn free_responses<'s>(&'s self, paths: &[Path], own: &Own, unknowns: &[f64]) -> Vec<(Transient, FreeResponse<'s>)> {
        let of = |transient: &Transient| {
            let dynamics = paths[transient.path].dynamics(unknowns);
            (*transient, FreeResponse::new(dynamics, &self.axis, transient.state))
        };
        own.transients.iter().map(of).collect()
    }
}

impl<'a> Prepared<'a> {
    pub(super) fn new(stretches: &[DataSet], layout: &'a Layout, bounds: &'a Bounds) -> Self {
        let stretches: Vec<Stretch> =
            stretches.iter().zip(&layout.stretches).map(|(data, own)| Stretch::new(data, own, layout.rest())).collect();
        let outputs = stretches.iter().flat_map(|stretch| &stretch.output);
        let samples = outputs.filter(|value| value.is_finite()).count();
        Self { layout, bounds, stretches, samples, whitening: None }
    }

    /// The same with noise that this makes white.
    pub(super) fn whitened(mut self, whitening: Option<Whitening>) -> Self {
        self.whitening = whitening;
        self
    }

    /// The stretches, each with the places of its own unknowns.
    fn parts(&self) -> impl Iterator<Item = (&Stretch, &Own)> {
        self.stretches.iter().zip(&self.layout.stretches)
    }

    /// The shortest mean sample time of the stretches, in s.
    pub(super) fn interval(&self) -> f64 {
        self.stretches.iter().map(|stretch| stretch.axis.mean_interval()).fold(f64::INFINITY, f64::min)
    }

    /// Length of the longest stretch, in s.
    pub(super) fn duration(&self) -> f64 {
        self.stretches.iter().map(|stretch| stretch.duration).fold(0.0, f64::max)
    }

    /// The best linear unknowns for the non-linear ones in `unknowns`, for either assumption on the past of all
    /// stretches.
    pub(super) fn linear_fits(&self, unknowns: &[f64]) -> Vec<Point> {
        // Columns: value of each path, and slope where it has a lead, under the one assumption and then the other; of each
        // stretch the free responses, steps, drift and offset; then the output.
        let of_paths: usize = self.layout.paths.iter().map(|path| 1 + usize::from(path.lead.is_some())).sum();
        let own_columns: usize = self.layout.stretches.iter().map(Own::count).sum();
        let columns = 2 * of_paths + own_columns;
        let mut sums = NormalEquations::new(columns);
        let mut block = RowBlock::new(columns + 1);
        let mut row = vec![0.0; columns + 1];
        let mut first = 2 * of_paths;
        for (stretch, own) in self.parts() {
            let sides = Before::BOTH.map(|before| stretch.responses(&self.layout.paths, unknowns, before));
            let [Ok(at_first), Ok(at_mean)] = sides else { return Vec::new() };
            let leads = self.layout.paths.iter().chain(&self.layout.paths).map(|path| path.lead.is_some());
            let responses: Vec<(Vec<f64>, Vec<f64>)> = at_first
                .into_iter()
                .chain(at_mean)
                .zip(leads)
                .map(|(response, has_lead)| response.bare().values(has_lead))
                .collect();
            let mut free = stretch.free_responses(&self.layout.paths, own, unknowns);
            row.fill(0.0);
            let mut filter = self.whitening.as_ref().map(|whitening| whitening.filter(row.len()));
            for (k, output) in stretch.output.iter().enumerate() {
                let mut column = 0;
                for (values, slopes) in &responses {
                    row[column] = values[k];
                    column += 1;
                    if let Some(slope) = slopes.get(k) {
                        row[column] = *slope;
                        column += 1;
                    }
                }
                column = first;
                let mut put = |value: f64| {
                    row[column] = value;
                    column += 1;
                };
                free.iter_mut().for_each(|(_, response)| put(response.next().unwrap_or_default().0));
                stretch.steps.iter().for_each(|shape| put(shape[k]));
                if own.drift.is_some() {
                    put(stretch.share(k));
                }
                if own.offset.is_some() {
                    put(1.0);
                }
                row[columns] = *output;
                match &mut filter {
                    None if output.is_finite() => block.put(&row, &mut sums),
                    None => {}
                    Some(filter) => {
                        if let Some(new) = filter.pass(&row) {
                            block.put(new, &mut sums);
                        }
                    }
                }
            }
            first += own.count();
        }
        block.flush(&mut sums);
        Before::BOTH
            .into_iter()
            .enumerate()
            .filter_map(|(side, before)| self.solved(unknowns, before, side * of_paths, 2 * of_paths, &sums))
            .collect()
    }

    /// The linear unknowns from the sums of [`linear_fits`](Self::linear_fits): those of the paths stand from `column` on,
    /// those of the stretches from `own` on.
    fn solved(
        &self,
        unknowns: &[f64],
        before: Before,
        mut column: usize,
        own: usize,
        sums: &NormalEquations,
    ) -> Option<Point> {
        let (mut columns, mut places) = (Vec::new(), Vec::new());
        let mut known = Vec::new();
        for path in &self.layout.paths {
            if self.bounds.is_fixed(path.gain) {
                known.push((column, self.bounds.ranges[path.gain].0));
            } else {
                columns.push(column);
                places.push(path.gain);
            }
            column += 1;
            if let Some(lead) = path.lead {
                columns.push(column);
                places.push(lead);
                column += 1;
            }
        }
        columns.extend(own..sums.parameters());
        for own in &self.layout.stretches {
            places.extend(own.transients.iter().map(|transient| transient.place));
            places.extend(own.steps.iter().map(|step| step.place));
            places.extend(own.drift);
            places.extend(own.offset);
        }
        let (solution, sum_of_squares) = sums.less(&known).selected(&columns).linear_solution()?;
        let mut found = unknowns.to_vec();
        for (place, value) in places.iter().zip(solution) {
            found[*place] = value;
        }
        for path in &self.layout.paths {
            if self.bounds.is_fixed(path.gain) {
                found[path.gain] = self.bounds.ranges[path.gain].0;
            }
            if let Some(lead) = path.lead {
                found[lead] /= found[path.gain];
            }
        }
        found.iter().all(|value| value.is_finite()).then(|| Point {
            unknowns: self.bounds.clamped(&found),
            before: vec![before; self.stretches.len()],
            sum_of_squares,
        })
    }

    /// Visits every sample with its derivatives by the unknowns; last in the row is model minus output, NaN where
    /// missing. Between two stretches lie rows without a value, so that what is read off neighbours ends there.
    pub(super) fn walk(&self, unknowns: &[f64], before: &[Before], mut visit: impl FnMut(&mut [f64])) {
        for (k, before) in before.iter().enumerate() {
            if k > 0 {
                between(self.layout.count, &mut visit);
            }
            self.walk_stretch(k, unknowns, *before, &mut visit);
        }
    }

    fn walk_stretch(&self, stretch: usize, unknowns: &[f64], before: Before, visit: &mut impl FnMut(&mut [f64])) {
        let (stretch, own) = (&self.stretches[stretch], &self.layout.stretches[stretch]);
        let paths = &self.layout.paths;
        let Ok(mut responses) = stretch.responses(paths, unknowns, before) else { return };
        let mut free = stretch.free_responses(paths, own, unknowns);
        let mut row = vec![0.0; self.layout.count + 1];
        if let [path] = &paths[..]
            && path.lead.is_none()
            && own.steps.is_empty()
            && let Some(response) = responses.pop()
        {
            return self.walk_single(stretch, own, (path, response), &mut free, unknowns, before, &mut row, visit);
        }
        for (k, output) in stretch.output.iter().enumerate() {
            let mut modelled = 0.0;
            if let Some(place) = own.offset {
                modelled = unknowns[place];
                row[place] = 1.0;
            }
            for (input, (path, response)) in paths.iter().zip(&mut responses).enumerate() {
                let Sample { value, slope, bend, value_by, slope_by } = response.next().unwrap_or_default();
                let gain = unknowns[path.gain];
                let lead = path.lead.map_or(0.0, |place| unknowns[place]);
                let unit = value + lead * slope;
                row[path.gain] = unit;
                modelled += gain * unit;
                if let Some(place) = path.lead {
                    row[place] = gain * slope;
                }
                for (j, place) in path.shape.iter().enumerate().take(MOST_SHAPE_PARAMETERS) {
                    row[*place] = gain * (value_by[j] + lead * slope_by[j]);
                }
                // An integrator begins at 0 however early its input arrives: only what came since then is shifted.
                let begun = if path.structure.is_integrating() { stretch.earlier(input, before) } else { 0.0 };
                row[path.dead_time] = -gain * (slope - begun + lead * bend);
            }
            for (transient, response) in &mut free {
                let (value, value_by) = response.next().unwrap_or_default();
                let coefficient = unknowns[transient.place];
                row[transient.place] = value;
                modelled += coefficient * value;
                for (j, shape) in paths[transient.path].shape.iter().enumerate() {
                    row[*shape] += coefficient * value_by[j];
                }
            }
            if let Some(place) = own.drift {
                row[place] = stretch.share(k);
                modelled += unknowns[place] * row[place];
            }
            for (step, shape) in own.steps.iter().zip(&stretch.steps) {
                row[step.place] = shape[k];
                modelled += unknowns[step.place] * shape[k];
            }
            row[self.layout.count] = modelled - output;
            visit(&mut row);
        }
    }

    /// The usual case, one path without a lead and no steps: what does not change from row to row is looked up before.
    #[allow(clippy::too_many_arguments)]
    fn walk_single(
        &self,
        stretch: &Stretch,
        own: &Own,
        (path, response): (&Path, Response<'_>),
        free: &mut [(Transient, FreeResponse<'_>)],
        unknowns: &[f64],
        before: Before,
        row: &mut [f64],
        visit: &mut impl FnMut(&mut [f64]),
    ) {
        let last = self.layout.count;
        let (gain_at, dead_time_at, gain) = (path.gain, path.dead_time, unknowns[path.gain]);
        let shapes = path.shape.len();
        let shape_at = [0, 1].map(|j| path.shape.get(j).copied().unwrap_or(last));
        let begun = if path.structure.is_integrating() { stretch.earlier(0, before) } else { 0.0 };
        let level = own.offset.map(|place| (place, unknowns[place]));
        let drift = own.drift.map(|place| (place, unknowns[place]));
        let mut measured = stretch.output.iter().enumerate();
        response.each(|Sample { value, slope, value_by, .. }| {
            let Some((k, output)) = measured.next() else { return false };
            let mut modelled = gain * value;
            // Who visits a row may change it: all of it is written anew.
            if let Some((place, level)) = level {
                row[place] = 1.0;
                modelled += level;
            }
            let mut by_shape = value_by.map(|by| gain * by);
            for (transient, left) in free.iter_mut() {
                let Some((value, value_by)) = left.next() else { return false };
                let coefficient = unknowns[transient.place];
                row[transient.place] = value;
                modelled += coefficient * value;
                by_shape.iter_mut().zip(value_by).for_each(|(sum, by)| *sum += coefficient * by);
            }
            row[gain_at] = value;
            row[dead_time_at] = -gain * (slope - begun);
            for j in 0..shapes {
                row[shape_at[j]] = by_shape[j];
            }
            if let Some((place, per_stretch)) = drift {
                row[place] = stretch.share(k);
                modelled += per_stretch * row[place];
            }
            row[last] = modelled - output;
            visit(row);
            true
        });
    }

    /// The same as [`walk`](Self::walk), each row less what its predecessors tell of it: where nothing does, its last entry is
    /// NaN.
    pub(super) fn walk_whitened(&self, unknowns: &[f64], before: &[Before], mut visit: impl FnMut(&mut [f64])) {
        let Some(whitening) = &self.whitening else { return self.walk(unknowns, before, visit) };
        let mut filter = whitening.filter(self.layout.count + 1);
        let mut missing = vec![0.0; self.layout.count + 1];
        self.walk(unknowns, before, |row| match filter.pass(row) {
            Some(new) => visit(new),
            None => {
                missing.fill(0.0);
                missing[row.len() - 1] = f64::NAN;
                visit(&mut missing);
            }
        });
    }

    /// The normal equations at these unknowns under a loss.
    pub(super) fn sums(&self, unknowns: &[f64], before: &[Before], loss: &ScaledLoss) -> NormalEquations {
        let count = self.layout.count;
        let mut sums = NormalEquations::new(count);
        let mut block = RowBlock::new(count + 1);
        self.walk_whitened(unknowns, before, |row| {
            if row[count].is_finite() {
                let (residual, factor, _, _) = loss.of(row[count]);
                if factor != 1.0 {
                    row[..count].iter_mut().for_each(|derivative| *derivative *= factor);
                }
                row[count] = residual;
                block.put(row, &mut sums);
            }
        });
        block.flush(&mut sums);
        sums
    }

    /// All rows, the residual last.
    pub(super) fn rows(&self, unknowns: &[f64], before: &[Before]) -> Rows {
        let mut rows = Rows { width: self.layout.count + 1, values: Vec::new() };
        let held = self.bounds.active(unknowns);
        self.walk(unknowns, before, |row| {
            held.iter().for_each(|place| row[*place] = 0.0);
            rows.values.extend_from_slice(row);
        });
        rows
    }

    /// The rows of a stretch, whitened, the residual last.
    pub(super) fn whitened_rows_in(&self, stretch: usize, unknowns: &[f64], before: Before) -> WhitenedRows {
        let width = self.layout.count + 1;
        let mut rows = WhitenedRows { width, values: Vec::new(), there: Vec::new() };
        let mut filter = self.whitening.as_ref().map(|whitening| whitening.filter(width));
        self.walk_stretch(stretch, unknowns, before, &mut |row: &mut [f64]| {
            let is_there = row[row.len() - 1].is_finite();
            match &mut filter {
                Some(filter) => rows.push(filter.pass(row).map(|row| &*row)),
                None => rows.push(is_there.then_some(row)),
            }
        });
        rows
    }

    /// What is new in the residuals, in the order of [`walk`](Self::walk); the residuals themselves where noise is white.
    pub(super) fn innovations(&self, unknowns: &[f64], before: &[Before]) -> Vec<f64> {
        let mut residuals = Vec::new();
        self.walk_whitened(unknowns, before, |row| residuals.push(-row[self.layout.count]));
        residuals
    }

    /// Measured minus modelled, in the order of [`walk`](Self::walk); NaN where missing.
    pub(super) fn residuals(&self, unknowns: &[f64], before: &[Before]) -> Vec<f64> {
        let mut residuals = Vec::new();
        self.walk(unknowns, before, |row| residuals.push(-row[self.layout.count]));
        residuals
    }

    /// Measured minus modelled in one stretch.
    pub(super) fn residuals_in(&self, stretch: usize, unknowns: &[f64], before: &[Before]) -> Vec<f64> {
        let mut residuals = Vec::new();
        let mut push = |row: &mut [f64]| residuals.push(-row[self.layout.count]);
        self.walk_stretch(stretch, unknowns, before[stretch], &mut push);
        residuals
    }
}

/// Rows of a stretch, of which some are missing.
pub(super) struct WhitenedRows {
    width: usize,
    values: Vec<f64>,
    there: Vec<bool>,
}

impl WhitenedRows {
    fn push(&mut self, row: Option<&[f64]>) {
        self.there.push(row.is_some());
        match row {
            Some(row) => self.values.extend_from_slice(row),
            None => self.values.resize(self.values.len() + self.width, 0.0),
        }
    }

    pub(super) fn len(&self) -> usize {
        self.there.len()
    }

    pub(super) fn get(&self, k: usize) -> Option<&[f64]> {
        self.there.get(k).filter(|there| **there).map(|_| &self.values[k * self.width..(k + 1) * self.width])
    }
}

fn held_mean(values: &[f64]) -> f64 {
    let held = held(values);
    held.iter().sum::<f64>() / held.len() as f64
}
