//! How sure the parameters are: covariance for coloured residuals, and profiles.

use super::super::covariance::{Covariances, Estimate, LONG, NORMAL_95};
use super::super::model::{Constraint, FitOptions, Model, Parameter};
use super::super::structure::{ParameterKind, Structure};
use super::prepared::Prepared;
use super::{DataSet, Fit, Layout, search};
use crate::numerics::in_parallel;
use crate::process::LinearSpec;
use crate::series::TimeAxis;
use crate::{Error, Result};
use nalgebra::DMatrix;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

impl Fit<'_> {
    /// The parameters of the model with their uncertainty, their covariance, and as how many samples without memory the data
    /// count.
    pub(super) fn parameters(
        &self,
        prepared: &Prepared<'_>,
        data: &DataSet,
        residuals: &[f64],
    ) -> (Vec<Parameter>, Vec<Vec<f64>>, Option<f64>) {
        let unknowns = &self.point.unknowns;
        let held = self.bounds.active(unknowns);
        let estimate = Estimate {
            count: self.layout.count,
            held: &held,
            loss: &self.loss,
            residuals,
            whitening: self.whitening.as_ref(),
        };
        let covariances = estimate.covariances(|visit| prepared.walk_whitened(unknowns, &self.point.before, visit));
        let mut parameters = Vec::new();
        // For each parameter: the unknown it comes from and its derivative by it, where it has an uncertainty.
        let mut origins: Vec<Option<(usize, f64)>> = Vec::new();
        for (k, path) in self.layout.paths.iter().enumerate() {
            let input = &data.inputs[k];
            // With a time constant at its upper bound, only its ratio to the gain is known.
            let tied = path
                .shape
                .iter()
                .any(|place| unknowns[*place] >= self.bounds.ranges[*place].1 && !self.bounds.is_fixed(*place));
            for (name, kind) in path.structure.process_parameters() {
                let place = Layout::place(path, *kind);
                let value =
                    if matches!(kind, ParameterKind::Shape(_)) { unknowns[place].exp() } else { unknowns[place] };
                let derivative = if matches!(kind, ParameterKind::Shape(_)) { value } else { 1.0 };
                let unknown = held.contains(&place) || (tied && *kind == ParameterKind::Gain);
                let error = |covariance: fn(&Covariances) -> &DMatrix<f64>| {
                    let known = covariances.as_ref().filter(|_| !unknown)?;
                    // Without an effect on the output it has no variance; without noise its variance is 0.
                    let acts = known.acts[place];
                    acts.then(|| covariance(known)[(place, place)].max(0.0).sqrt() * derivative.abs())
                };
                let standard_error = error(|known| &known.coloured);
                let unit = match kind {
                    ParameterKind::Gain => {
                        let per = if path.structure.is_integrating() { "/s" } else { "" };
                        format!("{}/{}{per}", data.output().unit, input.unit)
                    }
                    _ if *name == "damping" => String::new(),
                    _ => "s".to_owned(),
                };
                origins.push(standard_error.map(|_| (place, derivative)));
                parameters.push(Parameter {
                    name: (*name).to_owned(),
                    input: (self.layout.paths.len() > 1).then(|| input.tag.clone()),
                    value,
                    standard_error,
                    white_error: error(|known| &known.white),
                    interval: standard_error.map(|error| {
                        let half = covariances.as_ref().map_or(NORMAL_95, |known| known.quantile) * error;
                        [value - half, value + half]
                    }),
                    unit,
                    fixed: self.bounds.is_fixed(place),
                });
            }
        }
        let entry = |a: &Option<(usize, f64)>, b: &Option<(usize, f64)>| match (a, b, &covariances) {
            (Some((i, by_i)), Some((j, by_j)), Some(known)) => known.coloured[(*i, *j)] * by_i * by_j,
            _ => 0.0,
        };
        let covariance = origins.iter().map(|a| origins.iter().map(|b| entry(a, b)).collect()).collect();
        let effective = covariances.map(|known| known.effective);
        (parameters, covariance, effective)
    }
}

/// The standard error that a parameter would have.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ExpectedError {
    /// Name of the parameter.
    pub name: String,
    /// The value that the plan was made with.
    pub value: f64,
    /// Expected standard error; null where the record would not tell the parameter.
    pub standard_error: Option<f64>,
    /// Unit.
    pub unit: String,
}

/// What a fit of the structure of `process` to a record with this OP would know, for white noise of this standard
/// deviation.
pub(in super::super) fn expected(process: &LinearSpec, data: &DataSet, noise: f64) -> Result<Vec<ExpectedError>> {
    let (structure, values) = Structure::of_process(process);
    let options = FitOptions::new(structure);
    let layout = Layout::new(&options, 1, 1);
    let tags = [data.inputs[0].tag.clone()];
    let bounds = super::Bounds::new(&layout, &[&data.axis], &tags, &[])?;
    let prepared = Prepared::new(std::slice::from_ref(data), &layout, &bounds);
    let mut unknowns = vec![0.0; layout.count];
    let path = &layout.paths[0];
    for ((_, kind), value) in structure.process_parameters().iter().zip(&values) {
        unknowns[Layout::place(path, *kind)] =
            if matches!(kind, ParameterKind::Shape(_)) { value.ln() } else { *value };
    }
    let sums = prepared.sums(&unknowns, &[super::Before::AtFirstValue], &super::ScaledLoss::SQUARES);
    let covariance = sums.inverse(&[]);
    let each = |((name, kind), value): (&(&'static str, ParameterKind), &f64)| {
        let place = Layout::place(path, *kind);
        let scale = if matches!(kind, ParameterKind::Shape(_)) { *value } else { 1.0 };
        let error = covariance.as_ref().map(|known| noise * known[(place, place)].max(0.0).sqrt() * scale);
        let unit = match kind {
            ParameterKind::Gain if structure.is_integrating() => {
                format!("{}/{}/s", data.output().unit, data.inputs[0].unit)
            }
            ParameterKind::Gain => format!("{}/{}", data.output().unit, data.inputs[0].unit),
            _ if *name == "damping" => String::new(),
            _ => "s".to_owned(),
        };
        ExpectedError {
            name: (*name).to_owned(),
            value: *value,
            standard_error: error.filter(|error| *error > 0.0),
            unit,
        }
    };
    Ok(structure.process_parameters().iter().zip(&values).map(each).collect())
}

/// How the sum of squares rises when one parameter is held away from its estimate and the others follow.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Profile {
    /// Name of the parameter.
    pub parameter: String,
    /// Its unit.
    pub unit: String,
    /// The points, from the lowest value on.
    pub points: Vec<ProfilePoint>,
    /// The rise up to which a value lies in the 95 % interval: `χ²₁ σ²`, times the ratio of the variances for coloured
    /// and for white
    /// residuals, relative to the least sum.
    pub allowed_rise: f64,
    /// Ends of the 95 % interval; an end is null where the sum does not rise that far.
    pub interval: [Option<f64>; 2],
}

/// A point of a profile.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ProfilePoint {
    /// Value of the parameter.
    pub value: f64,
    /// Sum of squares there over the least one, minus 1.
    pub rise: f64,
}

/// How far a profile reaches to either side, in standard errors.
pub(in super::super) const REACH: f64 = 4.0;

impl Profile {
    /// The rise up to which a value lies in the 95 % interval, with so many degrees of freedom and a standard error that is so many times
    /// that for white residuals.
    pub(in super::super) fn allowed(freedom: usize, coloured: f64) -> f64 {
        NORMAL_95 * NORMAL_95 / freedom.max(1) as f64 * coloured * coloured
    }

    /// Of points about an estimate, which is one of them, with the ends of the interval.
    pub(in super::super) fn of_points(parameter: &Parameter, mut points: Vec<ProfilePoint>, allowed_rise: f64) -> Self {
        points.sort_by(|a, b| a.value.total_cmp(&b.value));
        let crossing = |outward: &[&ProfilePoint]| {
            outward.windows(2).find(|pair| pair[0].rise <= allowed_rise && pair[1].rise > allowed_rise).map(|pair| {
                // The rise goes with the square of the distance: the root is interpolated.
                let root = |rise: f64| rise.max(0.0).sqrt();
                let share = (root(allowed_rise) - root(pair[0].rise)) / (root(pair[1].rise) - root(pair[0].rise));
                pair[0].value + share * (pair[1].value - pair[0].value)
            })
        };
        let middle = points.iter().position(|point| point.value == parameter.value).unwrap_or(0);
        let lower: Vec<&ProfilePoint> = points[..=middle].iter().rev().collect();
        let upper: Vec<&ProfilePoint> = points[middle..].iter().collect();
        let interval = [crossing(&lower), crossing(&upper)];
        Self { parameter: parameter.name.clone(), unit: parameter.unit.clone(), points, allowed_rise, interval }
    }
}

/// The profile of a parameter of the OP's path in a least-squares fit, over ±4 standard errors (Bates & Watts,
/// Nonlinear Regression
/// Analysis, 1988, section 6.1). Unlike ± the standard error, it shows an interval that is not symmetric.
pub(in super::super) fn profile(
    stretches: &[DataSet],
    options: &FitOptions,
    model: &Model,
    name: &str,
) -> Result<Profile> {
    let parameter = model.parameter(name).ok_or_else(|| {
        let names: Vec<&str> = model.parameters.iter().map(|known| known.name.as_str()).collect();
        Error::invalid("parameter", name, format!("one of {}", names.join(", ")))
    })?;
    let (Some(error), Some(white)) = (parameter.standard_error, parameter.white_error) else {
        return Err(Error::unfit(format!("the {name} has no standard error"), "its profile would tell nothing"));
    };
    // The model is known: its minimum is reached from there.
    let layout_of_model = Layout::new(options, stretches[0].inputs.len(), 1);
    let known = super::place_values(&layout_of_model, model);
    let best = Fit::of(stretches, options, super::Rest::Unknown, |prepared| {
        let mut unknowns = vec![0.0; prepared.layout.count];
        for path in &prepared.layout.paths {
            path.shape.iter().chain([&path.dead_time]).for_each(|place| unknowns[*place] = known[*place]);
        }
        prepared.best_near(&unknowns)
    })?;
    let (best, whitening) = (best.point, best.whitening);
    let tags: Vec<String> = stretches[0].inputs.iter().map(|series| series.tag.clone()).collect();
    let axes: Vec<&TimeAxis> = stretches.iter().map(|data| &data.axis).collect();
    let least = best.sum_of_squares;
    // Of long data the rise is all but a parabola: fewer points show it as well.
    let half: u32 = if model.estimation.samples > LONG { 8 } else { 16 };
    // Outward from the estimate; each start is where the two points before it lead.
    let outward = |direction: &f64| {
        let mut points = Vec::new();
        let (mut before, mut from) = (best.clone(), best.clone());
        for k in 1..=half {
            let value = parameter.value + direction * f64::from(k) / f64::from(half) * REACH * error;
            if value <= 0.0 && name != "gain" && name != "lead_time_constant" {
                break;
            }
            let held = Constraint { parameter: name.to_owned(), fixed: Some(value), ..Constraint::default() };
            let mut constraints: Vec<Constraint> =
                options.constraints.iter().filter(|known| known.parameter != name).cloned().collect();
            constraints.push(held);
            let layout = Layout::new(options, tags.len(), stretches.len());
            let Ok(bounds) = super::Bounds::new(&layout, &axes, &tags, &constraints) else { break };
            let prepared = Prepared::new(stretches, &layout, &bounds).whitened(whitening.clone());
            let mut start = from.clone();
            start.unknowns.iter_mut().zip(&before.unknowns).for_each(|(to, earlier)| *to += *to - earlier);
            let Some(point) = prepared.refined(&start, search::TOLERANCE, &super::ScaledLoss::SQUARES) else { break };
            points.push(ProfilePoint { value, rise: point.sum_of_squares / least - 1.0 });
            before = std::mem::replace(&mut from, point);
        }
        points
    };
    let mut points = vec![ProfilePoint { value: parameter.value, rise: 0.0 }];
    points.extend(in_parallel(&[-1.0, 1.0], outward).into_iter().flatten());
    let parameters = model.criteria.as_ref().map_or(0, |criteria| criteria.parameters);
    let freedom = model.estimation.samples.saturating_sub(parameters).max(1);
    let allowed_rise = Profile::allowed(freedom, error / white);
    Ok(Profile::of_points(parameter, points, allowed_rise))
}
