//! Parameters over time: recursive least squares, and a fit in a sliding window.

use super::covariance::NORMAL_95;
use super::data::{DataSet, held};
use super::model::{Constraint, FitOptions};
use super::process_model;
use super::structure::Structure;
use crate::numerics::{RecursiveLeastSquares, deviation_by_median, in_parallel};
use crate::{Error, Result, check};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use std::ops::Range;
use utoipa::ToSchema;

/// Points kept for drawing.
const MOST_POINTS: usize = 2000;

/// How the parameters of an ARX model are followed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RecursiveOptions {
    /// Coefficients of A after the leading 1, 1 to 6.
    #[schema(minimum = 1, maximum = 6)]
    pub na: usize,
    /// Coefficients of B, 1 to 6.
    #[schema(minimum = 1, maximum = 6)]
    pub nb: usize,
    /// Delay in samples, 1 to 1000.
    #[schema(minimum = 1, maximum = 1000)]
    pub nk: usize,
    /// Forgetting factor λ, 0.9 to 1: the memory is about `1/(1 − λ)` samples.
    #[schema(minimum = 0.9, maximum = 1)]
    pub forgetting: f64,
    /// Bound on the trace of the covariance, relative to its start of 1 a parameter; above 0. Nothing is forgotten
    /// while it is reached, so that the
    /// covariance does not wind up when the OP stands still.
    #[schema(exclusive_minimum = 0)]
    pub covariance_bound: f64,
    /// Dead zone in PV units: while the prediction error is no larger, nothing is learnt. 0 for none.
    #[schema(minimum = 0)]
    pub dead_zone: f64,
}

impl Default for RecursiveOptions {
    fn default() -> Self {
        Self { na: 1, nb: 1, nk: 1, forgetting: 0.995, covariance_bound: 10.0, dead_zone: 0.0 }
    }
}

/// A quantity over time with its band.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Course {
    /// Name: `a1`, `gain`, `time_constant`, …
    pub name: String,
    /// Unit.
    pub unit: String,
    /// The values; null where it cannot be told.
    pub values: Vec<Option<f64>>,
    /// Half widths of the 95 % band.
    pub half_widths: Vec<Option<f64>>,
}

impl Course {
    fn new(name: impl Into<String>, unit: impl Into<String>) -> Self {
        Self { name: name.into(), unit: unit.into(), ..Self::default() }
    }

    fn push(&mut self, value: f64, half_width: f64) {
        let finite = |value: f64| Some(value).filter(|value| value.is_finite());
        self.values.push(finite(value));
        self.half_widths.push(finite(half_width));
    }
}

/// Parameters over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Courses {
    /// Times in s from the start of the data.
    pub times: Vec<f64>,
    /// The parameters, and what follows from them.
    pub courses: Vec<Course>,
    /// The PV as it was predicted one sample ahead; null where it was not.
    pub predicted: Vec<Option<f64>>,
    /// The PV.
    pub measured: Vec<Option<f64>>,
}

impl RecursiveOptions {
    fn validate(&self) -> Result<()> {
        for (name, value, most) in [("na", self.na, 6), ("nb", self.nb, 6), ("nk", self.nk, 1000)] {
            if !(1..=most).contains(&value) {
                return Err(Error::invalid(format!("recursive.{name}"), value, format!("1 to {most}")));
            }
        }
        check::within("recursive.forgetting", self.forgetting, 0.9, 1.0, "")?;
        check::positive("recursive.covariance_bound", self.covariance_bound, "")?;
        check::not_negative("recursive.dead_zone", self.dead_zone, "").map(drop)
    }
}

/// Recursive least squares with forgetting (Åström & Wittenmark, Adaptive Control, 2nd ed. 1995, eqs. 2.21) in a form that
/// keeps the covariance positive, a bound on the covariance and a dead zone, on the OP and PV in deviations from their means, with a level. The bands use the noise as it was met so far.
///
/// For a first-order A, gain and time constant follow with bands by linearisation.
pub fn recursive(data: &DataSet, options: &RecursiveOptions) -> Result<Courses> {
    options.validate()?;
    data.validate(20)?;
    let interval = data.sample_time()?;
    let about = |values: Vec<f64>, mean: f64| values.into_iter().map(|value| value - mean).collect::<Vec<f64>>();
    let u = about(held(&data.inputs[0].values), data.inputs[0].mean());
    let mean = data.output().mean();
    let y = about(data.output().values.clone(), mean);
    let named = options.na + options.nb;
    // One more for the level, as the means need not be those of rest.
    let count = named + 1;
    // Scaled so that a covariance of 1 is a wide one for either kind of coefficient.
    let power = |series: &[f64]| {
        let finite: Vec<f64> = series.iter().copied().filter(|value| value.is_finite()).collect();
        (finite.iter().map(|value| value * value).sum::<f64>() / finite.len().max(1) as f64)
            .sqrt()
            .max(f64::MIN_POSITIVE)
    };
    let (size_u, size_y) = (power(&u), power(&y));
    let bound = options.covariance_bound * count as f64;
    let mut estimator = RecursiveLeastSquares::new(vec![0.0; count], 1.0, options.forgetting, bound);
    let mut regressors = vec![0.0; count];
    let (mut noise, mut seen) = (0.0_f64, 0.0_f64);
    let mut courses: Vec<Course> = (1..=options.na).map(|k| Course::new(format!("a{k}"), "")).collect();
    let unit = format!("{}/{}", data.output().unit, data.inputs[0].unit);
    courses.extend((1..=options.nb).map(|k| Course::new(format!("b{k}"), unit.clone())));
    let derived = options.na == 1;
    if derived {
        courses.push(Course::new("gain", unit));
        courses.push(Course::new("time_constant", "s"));
    }
    let from = options.na.max(options.nk + options.nb - 1);
    let every = (y.len() - from.min(y.len())).div_ceil(MOST_POINTS).max(1);
    let mut result = Courses { times: Vec::new(), courses: Vec::new(), predicted: Vec::new(), measured: Vec::new() };
    for k in from..y.len() {
        for (i, regressor) in regressors.iter_mut().enumerate() {
            *regressor = if i < options.na {
                -y[k - 1 - i] / size_y
            } else if i < named {
                u[k - options.nk - (i - options.na)] / size_u
            } else {
                1.0
            };
        }
        let usable = regressors.iter().all(|value| value.is_finite());
        let predicted = estimator.predicted(&regressors);
        let error = y[k] / size_y - predicted;
        if usable && error.is_finite() && (error * size_y).abs() > options.dead_zone {
            // The a-posteriori and a-priori errors together have the variance of the noise.
            let settled = error * error * estimator.learn(&regressors, y[k] / size_y);
            let share = (1.0 / (1.0 + seen)).max(1.0 - options.forgetting);
            noise += share * (settled.abs() - noise);
            seen += 1.0;
        }
        if (k - from).is_multiple_of(every) {
            let scale = |i: usize| if i < options.na { 1.0 } else { size_y / size_u };
            let deviation = |i: usize| scale(i) * (noise * estimator.covariance(i, i)).sqrt();
            for (i, course) in courses.iter_mut().enumerate().take(named) {
                course.push(scale(i) * estimator.estimate()[i], NORMAL_95 * deviation(i));
            }
            if derived {
                let theta = DVector::from_column_slice(estimator.estimate());
                let covariance = DMatrix::from_fn(count, count, |i, j| noise * estimator.covariance(i, j));
                let (value, half) = first_order(&theta, &covariance, size_y / size_u, interval);
                courses[named].push(value[0], half[0]);
                courses[named + 1].push(value[1], half[1]);
            }
            result.times.push(data.axis.at(k));
            let shown = |value: f64| Some(value).filter(|value| value.is_finite());
            result.predicted.push(shown(predicted * size_y + mean).filter(|_| usable));
            result.measured.push(shown(y[k] + mean));
        }
    }
    result.courses = courses;
    Ok(result)
}

/// Gain and time constant of `(1 + a q⁻¹) y = B u` with the half widths of their 95 % bands.
fn first_order(theta: &DVector<f64>, covariance: &DMatrix<f64>, per_input: f64, interval: f64) -> ([f64; 2], [f64; 2]) {
    let pole = -theta[0];
    let last = theta.len() - 1;
    let sum: f64 = theta.rows(1, last - 1).sum();
    let gain = per_input * sum / (1.0 - pole);
    let tau = if (0.0..1.0).contains(&pole) && pole > 0.0 { -interval / pole.ln() } else { f64::NAN };
    let count = theta.len();
    let by_gain = DVector::from_fn(count, |i, _| match i {
        0 => -gain / (1.0 - pole),
        i if i == last => 0.0,
        _ => per_input / (1.0 - pole),
    });
    let by_tau = DVector::from_fn(count, |i, _| if i == 0 { -tau * tau / (interval * pole) } else { 0.0 });
    let half = |by: &DVector<f64>| NORMAL_95 * (covariance * by).dot(by).max(0.0).sqrt();
    ([gain, tau], [half(&by_gain), half(&by_tau)])
}

/// How gain and time constant are followed in a sliding window.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MovingHorizonOptions {
    /// Length of the window in s.
    pub window: f64,
    /// By which the window moves from fit to fit, in s; by default a fifth of the window.
    #[serde(default)]
    pub every: Option<f64>,
    /// Dead time in s, 0 or more.
    #[schema(minimum = 0)]
    pub dead_time: f64,
    /// Lowest and highest gain.
    pub gain: [f64; 2],
    /// Lowest and highest time constant in s, above 0.
    pub time_constant: [f64; 2],
    /// Most that the gain may change from fit to fit; null for any.
    #[serde(default)]
    pub gain_change: Option<f64>,
    /// Most that the time constant may change from fit to fit, in s; null for any.
    #[serde(default)]
    pub time_constant_change: Option<f64>,
}

/// Gain and time constant at the end of each window: first order with known dead time, fitted to the window by least
/// squares within the
/// bounds and within the allowed change from the fit before. Where the OP hardly moves in a window, the fit before is
/// kept and the
/// band is null.
pub fn moving_horizon(data: &DataSet, options: &MovingHorizonOptions) -> Result<Courses> {
    data.validate(20)?;
    let (interval, duration) = (data.axis.mean_interval(), data.axis.duration());
    check::within("moving_horizon.window", options.window, 20.0 * interval, duration, "s")?;
    let every =
        check::within("moving_horizon.every", options.every.unwrap_or(0.2 * options.window), interval, duration, "s")?;
    check::within("moving_horizon.dead_time", options.dead_time, 0.0, 0.5 * options.window, "s")?;
    check::positive("moving_horizon.time_constant", options.time_constant[0], "s")?;
    for (name, [low, high]) in [("gain", options.gain), ("time_constant", options.time_constant)] {
        if !(low.is_finite() && high.is_finite() && low < high) {
            return Err(Error::invalid(
                format!("moving_horizon.{name}"),
                format!("{low} to {high}"),
                "a lower end below the upper one",
            ));
        }
    }
    for (name, change) in [("gain_change", options.gain_change), ("time_constant_change", options.time_constant_change)]
    {
        if let Some(change) = change {
            check::positive(&format!("moving_horizon.{name}"), change, "")?;
        }
    }
    let windows = ((duration - options.window) / every + 1e-9).floor() as usize + 1;
    if windows > MOST_POINTS {
        return Err(Error::invalid(
            "moving_horizon.every",
            format!("{every} s"),
            format!("at least {} s for {MOST_POINTS} windows", (duration - options.window) / MOST_POINTS as f64),
        ));
    }
    let op_data = DataSet { inputs: vec![data.inputs[0].clone()], ..data.clone() };
    let total_move = width(&op_data.inputs[0]);
    let end = |k: usize| k as f64 * every + options.window;
    // Windows whose OP moves are fitted; each begins its search where the one before it ended.
    let follow_through = |windows: &Range<usize>| -> Vec<FittedWindow> {
        let mut last = None;
        let fit = |k: usize| {
            let window = op_data.slice(data.axis.window(k as f64 * every, end(k)));
            let moved = width(&window.inputs[0]) > 0.02 * total_move;
            let fitted = if moved { process_model::follow(&window, &options.of_window(last), last).ok() } else { None };
            last = fitted.as_ref().map(|found| [0, 1].map(|place| found.parameters[place].value)).or(last);
            let measured = window.output().values.last().copied().filter(|value| value.is_finite());
            FittedWindow { fitted, measured }
        };
        windows.clone().map(fit).collect()
    };
    // What is bound to the fit before waits for it; all else is fitted in blocks, which are the same on any number of threads.
    let blocks = if options.is_chained() { 1 } else { BLOCKS };
    let size = windows.div_ceil(blocks).max(1);
    let blocks: Vec<Range<usize>> = (0..windows).step_by(size).map(|from| from..(from + size).min(windows)).collect();
    let fitted = in_parallel(&blocks, follow_through);
    let unit = format!("{}/{}", data.output().unit, data.inputs[0].unit);
    let mut courses = vec![Course::new("gain", unit), Course::new("time_constant", "s")];
    let mut result = Courses { times: Vec::new(), courses: Vec::new(), predicted: Vec::new(), measured: Vec::new() };
    let mut last = [f64::NAN; 2];
    for (k, FittedWindow { fitted, measured }) in fitted.into_iter().flatten().enumerate() {
        result.times.push(data.axis.at(0) + end(k));
        result.measured.push(measured);
        result.predicted.push(fitted.as_ref().and_then(|found| found.last));
        for (place, course) in courses.iter_mut().enumerate() {
            let mut band = f64::NAN;
            if let Some(found) = &fitted {
                last[place] = found.parameters[place].value;
                band = found.parameters[place].standard_error.map_or(f64::NAN, |error| NORMAL_95 * error);
            }
            course.push(last[place], band);
        }
    }
    result.courses = courses;
    Ok(result)
}

/// Blocks that windows are fitted in where none is bound to the one before.
const BLOCKS: usize = 16;

/// A window with its fit, where the OP moved in it, and what was measured at its end.
struct FittedWindow {
    fitted: Option<process_model::Followed>,
    measured: Option<f64>,
}

/// From the lowest to the highest of the values.
fn width(series: &super::Series) -> f64 {
    let (low, high) = series.range();
    (high - low).max(0.0)
}

impl MovingHorizonOptions {
    /// Whether a fit is bound to the one before.
    fn is_chained(&self) -> bool {
        self.gain_change.is_some() || self.time_constant_change.is_some()
    }

    /// How a window is fitted whose predecessor gave this gain and time constant.
    fn of_window(&self, last: Option<[f64; 2]>) -> FitOptions {
        let near = |bounds: [f64; 2], last: Option<f64>, change: Option<f64>| match (last, change) {
            (Some(last), Some(change)) => [bounds[0].max(last - change), bounds[1].min(last + change)],
            _ => bounds,
        };
        let within = |parameter: &str, [low, high]: [f64; 2]| Constraint {
            parameter: parameter.into(),
            low: Some(low),
            high: Some(high),
            ..Constraint::default()
        };
        let gain = near(self.gain, last.map(|last| last[0]), self.gain_change);
        let tau = near(self.time_constant, last.map(|last| last[1]), self.time_constant_change);
        let dead_time =
            Constraint { parameter: "dead_time".into(), fixed: Some(self.dead_time), ..Constraint::default() };
        FitOptions {
            constraints: vec![dead_time, within("gain", gain), within("time_constant", tau)],
            ..FitOptions::new(Structure::Fopdt)
        }
    }
}

/// The standard deviation of the noise of a signal, from second differences, which a slow signal hardly moves:
/// `1.4826 · median |x(t+1) − 2x(t) + x(t−1)| / √6` for white noise (median absolute deviation: Hampel 1974).
#[must_use]
pub fn noise_deviation(values: &[f64]) -> f64 {
    let mut differences: Vec<f64> =
        values.windows(3).map(|w| (w[2] - 2.0 * w[1] + w[0]).abs()).filter(|value| value.is_finite()).collect();
    deviation_by_median(&mut differences) / 6f64.sqrt()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::Series;
    use crate::series::TimeAxis;
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};

    /// First order, time constant 20 s, delay 3 s, gain 1 that becomes 2 in the middle; the OP rests in the last
    /// quarter.
    fn data(noise: f64, seed: u64) -> DataSet {
        let mut generator = rand_chacha::ChaCha8Rng::seed_from_u64(seed);
        let mut draw = || -> f64 { StandardNormal.sample(&mut generator) };
        let (mut level, mut x) = (1.0, 0.0);
        let (mut u, mut y) = (Vec::new(), Vec::new());
        let a = (-1.0f64 / 20.0).exp();
        for k in 0..4000 {
            if k % 40 == 0 && k < 3000 {
                level = if draw() > 0.0 { 1.0 } else { -1.0 };
            }
            u.push(50.0 + level);
            let gain = if k < 1500 { 1.0 } else { 2.0 };
            x = a * x + gain * (1.0 - a) * if k >= 3 { u[k - 3] - 50.0 } else { 0.0 };
            y.push(20.0 + x + noise * draw());
        }
        DataSet::single(TimeAxis::uniform(1.0, 4000).unwrap(), Series::new("OP", "%", u), Series::new("PV", "m", y))
    }

    fn at(courses: &Courses, name: &str, time: f64) -> (f64, Option<f64>) {
        let k = courses.times.iter().position(|t| *t >= time).unwrap();
        let course = courses.courses.iter().find(|course| course.name == name).unwrap();
        (course.values[k].unwrap(), course.half_widths[k])
    }

    #[test]
    fn recursive_least_squares_without_forgetting_ends_at_least_squares() {
        let data = data(0.1, 1).slice(0..1400);
        let options = RecursiveOptions { nk: 3, forgetting: 1.0, ..RecursiveOptions::default() };
        let found = recursive(&data, &options).unwrap();
        let fit = crate::identification::fit(&data, &FitOptions::new(Structure::Arx { na: 1, nb: 1, nk: 3 })).unwrap();
        for (name, parameter) in [("a1", &fit.parameters[0]), ("b1", &fit.parameters[1])] {
            let (value, half) = at(&found, name, 1399.0);
            // The start with a covariance of 1 is a weak pull to 0, which fades with the samples.
            assert!((value - parameter.value).abs() < 3e-3, "{name}: {value} {parameter:?}");
            assert!(
                (half.unwrap() / 1.96 / parameter.white_error.unwrap() - 1.0).abs() < 0.15,
                "{name}: {half:?} {parameter:?}"
            );
        }
    }

    #[test]
    fn a_change_of_gain_is_followed_and_rest_does_no_harm() {
        let data = data(0.01, 2);
        let options =
            RecursiveOptions { nk: 3, forgetting: 0.99, covariance_bound: 1.0, ..RecursiveOptions::default() };
        let found = recursive(&data, &options).unwrap();
        for (time, gain) in [(1400.0, 1.0), (2900.0, 2.0)] {
            assert!((at(&found, "gain", time).0 - gain).abs() < 0.1, "{:?}", at(&found, "gain", time));
            assert!(
                (at(&found, "time_constant", time).0 / 20.0 - 1.0).abs() < 0.15,
                "{:?}",
                at(&found, "time_constant", time)
            );
        }
        // While the OP rests the covariance stays bounded, and a dead zone keeps the parameters where they were.
        let dead = recursive(&data, &RecursiveOptions { dead_zone: 0.03, ..options }).unwrap();
        let (before, after) = (at(&dead, "gain", 3100.0).0, at(&dead, "gain", 3990.0).0);
        assert!((before - after).abs() < 0.05, "{before} {after}");
    }

    #[test]
    fn the_moving_horizon_keeps_its_bounds_and_its_pace() {
        let data = data(0.02, 3);
        let options = MovingHorizonOptions {
            window: 300.0,
            every: Some(50.0),
            dead_time: 2.0,
            gain: [0.1, 5.0],
            time_constant: [2.0, 100.0],
            gain_change: Some(0.1),
            time_constant_change: None,
        };
        let found = moving_horizon(&data, &options).unwrap();
        let gains: Vec<f64> = found.courses[0].values.iter().map(|value| value.unwrap()).collect();
        assert!(gains.windows(2).all(|pair| (pair[1] - pair[0]).abs() <= 0.1 + 1e-9), "{gains:?}");
        assert!((at(&found, "gain", 1400.0).0 - 1.0).abs() < 0.03 && (at(&found, "gain", 2900.0).0 - 2.0).abs() < 0.05);
        assert!((at(&found, "time_constant", 2900.0).0 / 20.0 - 1.0).abs() < 0.1);
        // At rest the last fit is kept, without a band.
        assert_eq!(at(&found, "gain", 3900.0), (at(&found, "gain", 3700.0).0, None));
        let bounded = moving_horizon(&data, &MovingHorizonOptions { gain: [0.1, 1.5], ..options.clone() }).unwrap();
        assert!(bounded.courses[0].values.iter().all(|gain| gain.unwrap() <= 1.5));
        let refused = moving_horizon(&data, &MovingHorizonOptions { window: 5.0, ..options }).unwrap_err().to_string();
        assert!(refused.starts_with("The window of the moving horizon is 5 s: it must be 20 to 3999 s"), "{refused}");
    }

    #[test]
    fn every_window_is_fitted_as_if_it_were_alone() {
        let data = data(0.05, 8);
        let options = MovingHorizonOptions {
            window: 400.0,
            every: Some(30.0),
            dead_time: 2.0,
            gain: [0.05, 8.0],
            time_constant: [1.0, 200.0],
            gain_change: None,
            time_constant_change: None,
        };
        let found = moving_horizon(&data, &options).unwrap();
        // Bound to the fit before by a change that none of them makes, one after the other: the same.
        let chained = MovingHorizonOptions { gain_change: Some(50.0), ..options.clone() };
        let one_by_one = moving_horizon(&data, &chained).unwrap();
        assert_eq!((found.times.len(), found.measured.len()), (120, 120));
        assert_eq!((&found.times, &found.measured), (&one_by_one.times, &one_by_one.measured));
        for k in 0..found.times.len() {
            for (course, other) in found.courses.iter().zip(&one_by_one.courses) {
                let (a, b) = (course.values[k].unwrap(), other.values[k].unwrap());
                assert!((a / b - 1.0).abs() < 1e-4, "{} at {}: {a} {b}", course.name, found.times[k]);
                assert_eq!(course.half_widths[k].is_some(), other.half_widths[k].is_some());
            }
        }
        for k in (0..80).step_by(9) {
            let window = data.slice(data.axis.window(30.0 * k as f64, 30.0 * k as f64 + 400.0));
            let alone = process_model::fit(std::slice::from_ref(&window), &options.of_window(None)).unwrap();
            for (course, parameter) in found.courses.iter().zip(&alone.parameters) {
                let value = course.values[k].unwrap();
                assert!((value / parameter.value - 1.0).abs() < 1e-4, "{}: {value} {}", course.name, parameter.value);
            }
        }
    }

    #[test]
    fn noise_is_told_beside_a_slow_signal() {
        let data = data(0.3, 4);
        assert!((noise_deviation(&data.outputs[0].values) / 0.3 - 1.0).abs() < 0.1);
    }
}
