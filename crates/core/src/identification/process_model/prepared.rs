//! A data set made ready for the fit, and its residuals with their derivatives at given unknowns.

use super::unknowns::{Bounds, Layout};
use crate::Result;
use crate::identification::data::{DataSet, held};
use crate::identification::loss::ScaledLoss;
use crate::lti::{DeadTime, FreeResponse, MOST_SHAPE_PARAMETERS, Response, Sample};
use crate::numerics::NormalEquations;
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
    pub(super) before: Before,
    pub(super) sum_of_squares: f64,
}

/// Data without gaps in the inputs, all series about their means.
pub(super) struct Prepared<'a> {
    pub(super) layout: &'a Layout,
    pub(super) bounds: &'a Bounds,
    pub(super) axis: TimeAxis,
    pub(super) inputs: Vec<Vec<f64>>,
    pub(super) output: Vec<f64>,
    pub(super) input_means: Vec<f64>,
    pub(super) output_mean: f64,
    /// First value of each input, from its mean.
    pub(super) firsts: Vec<f64>,
    pub(super) samples: usize,
    /// By which the drift is measured: the length of all data, in s.
    pub(super) duration: f64,
}

impl<'a> Prepared<'a> {
    pub(super) fn new(data: &DataSet, layout: &'a Layout, bounds: &'a Bounds) -> Self {
        let input_means: Vec<f64> = data.inputs.iter().map(|series| held_mean(&series.values)).collect();
        let about = |values: Vec<f64>, mean: f64| values.into_iter().map(|value| value - mean).collect::<Vec<f64>>();
        let inputs: Vec<Vec<f64>> =
            data.inputs.iter().zip(&input_means).map(|(series, mean)| about(held(&series.values), *mean)).collect();
        let output_mean = data.output().mean();
        let finite = |value: &f64| if value.is_finite() { *value } else { f64::NAN };
        let output = about(data.output().values.iter().map(finite).collect(), output_mean);
        let samples = output.iter().filter(|value| value.is_finite()).count();
        Self {
            layout,
            bounds,
            axis: data.axis.clone(),
            firsts: inputs.iter().map(|series| series[0]).collect(),
            inputs,
            output,
            input_means,
            output_mean,
            samples,
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

    fn responses(&self, unknowns: &[f64], before: Before) -> Result<Vec<Response<'_>>> {
        let of_path = |(k, path): (usize, &super::unknowns::Path)| {
            let dead_time = DeadTime::new(unknowns[path.dead_time])?;
            let earlier = self.earlier(k, before);
            Ok(Response::new(path.dynamics(unknowns), &self.axis, &self.inputs[k], earlier, dead_time))
        };
        self.layout.paths.iter().enumerate().map(of_path).collect()
    }

    /// What each state at the start leaves behind: its path, its place among the unknowns.
    fn free_responses(&self, unknowns: &[f64]) -> Vec<(usize, usize, FreeResponse<'_>)> {
        let mut all = Vec::new();
        for (k, path) in self.layout.paths.iter().enumerate() {
            for (state, place) in &path.transients {
                all.push((k, *place, FreeResponse::new(path.dynamics(unknowns), &self.axis, *state)));
            }
        }
        all
    }

    /// The best linear unknowns for the non-linear ones in `unknowns`, for either assumption on the past.
    pub(super) fn linear_fits(&self, unknowns: &[f64]) -> Vec<Point> {
        let (Ok(mut at_first), Ok(mut at_mean)) =
            (self.responses(unknowns, Before::AtFirstValue), self.responses(unknowns, Before::AtMean))
        else {
            return Vec::new();
        };
        let mut free = self.free_responses(unknowns);
        let paths = self.layout.paths.len();
        // Columns: value and slope of each path under either assumption, then the free responses, drift, offset,
        // output.
        let common = 4 * paths;
        let columns = common + free.len() + usize::from(self.layout.drift.is_some()) + 1;
        let mut sums = NormalEquations::new(columns);
        let mut row = vec![0.0; columns + 1];
        for k in 0..self.output.len() {
            for path in 0..paths {
                for (side, responses) in [&mut at_first, &mut at_mean].into_iter().enumerate() {
                    let sample = responses[path].next().unwrap_or_default();
                    row[4 * path + 2 * side] = sample.value;
                    row[4 * path + 2 * side + 1] = sample.slope;
                }
            }
            for (j, (_, _, response)) in free.iter_mut().enumerate() {
                row[common + j] = response.next().unwrap_or_default().0;
            }
            if self.layout.drift.is_some() {
                row[columns - 2] = (self.axis.at(k) - self.axis.at(0)) / self.duration;
            }
            row[columns - 1] = 1.0;
            row[columns] = self.output[k];
            if row[columns].is_finite() {
                sums.add(&row);
            }
        }
        Before::BOTH
            .into_iter()
            .enumerate()
            .filter_map(|(side, before)| self.solved(unknowns, before, side, &sums, &free))
            .collect()
    }

    /// The linear unknowns from the sums of [`linear_fits`](Self::linear_fits).
    fn solved(
        &self,
        unknowns: &[f64],
        before: Before,
        side: usize,
        sums: &NormalEquations,
        free: &[(usize, usize, FreeResponse<'_>)],
    ) -> Option<Point> {
        let common = 4 * self.layout.paths.len();
        let (mut columns, mut places) = (Vec::new(), Vec::new());
        let mut known = Vec::new();
        for (k, path) in self.layout.paths.iter().enumerate() {
            let column = 4 * k + 2 * side;
            if self.bounds.is_fixed(path.gain) {
                known.push((column, self.bounds.ranges[path.gain].0));
            } else {
                columns.push(column);
                places.push(path.gain);
            }
            if let Some(lead) = path.lead {
                columns.push(column + 1);
                places.push(lead);
            }
        }
        for (j, (_, place, _)) in free.iter().enumerate() {
            columns.push(common + j);
            places.push(*place);
        }
        if let Some(place) = self.layout.drift {
            columns.push(common + free.len());
            places.push(place);
        }
        columns.push(sums.parameters() - 1);
        places.push(self.layout.offset);
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
            before,
            sum_of_squares,
        })
    }

    /// Visits every sample with its derivatives by the unknowns; last in the row is model minus output, NaN where
    /// missing.
    pub(super) fn walk(&self, unknowns: &[f64], before: Before, mut visit: impl FnMut(&mut [f64])) {
        let Ok(mut responses) = self.responses(unknowns, before) else { return };
        let mut free = self.free_responses(unknowns);
        let mut row = vec![0.0; self.layout.count + 1];
        for k in 0..self.output.len() {
            let mut modelled = unknowns[self.layout.offset];
            row[self.layout.offset] = 1.0;
            for (input, (path, response)) in self.layout.paths.iter().zip(&mut responses).enumerate() {
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
                let begun = if path.structure.is_integrating() { self.earlier(input, before) } else { 0.0 };
                row[path.dead_time] = -gain * (slope - begun + lead * bend);
            }
            for (path, place, response) in &mut free {
                let (value, value_by) = response.next().unwrap_or_default();
                let path = &self.layout.paths[*path];
                let coefficient = unknowns[*place];
                row[*place] = value;
                modelled += coefficient * value;
                for (j, shape) in path.shape.iter().enumerate() {
                    row[*shape] += coefficient * value_by[j];
                }
            }
            if let Some(place) = self.layout.drift {
                let share = (self.axis.at(k) - self.axis.at(0)) / self.duration;
                row[place] = share;
                modelled += unknowns[place] * share;
            }
            row[self.layout.count] = modelled - self.output[k];
            visit(&mut row);
        }
    }

    /// The normal equations at these unknowns under a loss.
    pub(super) fn sums(&self, unknowns: &[f64], before: Before, loss: &ScaledLoss) -> NormalEquations {
        let count = self.layout.count;
        let mut sums = NormalEquations::new(count);
        self.walk(unknowns, before, |row| {
            if row[count].is_finite() {
                let (residual, factor, _, _) = loss.of(row[count]);
                if factor != 1.0 {
                    row[..count].iter_mut().for_each(|derivative| *derivative *= factor);
                }
                row[count] = residual;
                sums.add(row);
            }
        });
        sums
    }

    /// Measured minus modelled; NaN where missing.
    pub(super) fn residuals(&self, unknowns: &[f64], before: Before) -> Vec<f64> {
        let mut residuals = Vec::with_capacity(self.output.len());
        self.walk(unknowns, before, |row| residuals.push(-row[self.layout.count]));
        residuals
    }
}

fn held_mean(values: &[f64]) -> f64 {
    let held = held(values);
    held.iter().sum::<f64>() / held.len() as f64
}
