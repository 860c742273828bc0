//! What a model is fitted to, and what it is held against.

use super::data::{DataSet, Series};
use super::model::{FitOptions, Model};
use super::validation::{Validation, validate, verdict_of_unvalidated};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The windows. Times are in s from the start of the untouched record.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Windows {
    /// Start of the estimation window; null for the start.
    #[serde(default)]
    pub from: Option<f64>,
    /// End of the estimation window, or of both together where `validation` is `half`; null for the end.
    #[serde(default)]
    pub to: Option<f64>,
    /// What the model is held against.
    #[serde(default)]
    pub validation: ValidationWindow,
}

/// What a model is held against.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum ValidationWindow {
    /// The second half of the (first) window; the model is fitted to the first, and to further stretches. Where an input moves in one half only, the model
    /// is fitted to all and held
    /// against nothing.
    #[default]
    Half,
    /// Nothing.
    None,
    /// A window of its own.
    Window {
        /// Start in s.
        from: f64,
        /// End in s.
        to: f64,
    },
}

/// A data set with its place in the record, in s from the start of the untouched record.
#[derive(Debug, Clone, PartialEq)]
pub struct Part {
    /// The samples.
    pub data: DataSet,
    /// First and last time.
    pub window: (f64, f64),
}

/// A data set cut by [`Windows`].
#[derive(Debug, Clone, PartialEq)]
pub struct Parts {
    /// What a model is fitted to.
    pub estimation: Part,
    /// What it is held against.
    pub validation: Option<Part>,
    /// Whether halves were asked for and the OP moves in one only.
    pub is_undivided: bool,
}

impl Windows {
    /// Cuts a data set that begins at `start`.
    ///
    /// Errors when a window is empty or runs backwards.
    pub fn cut(&self, data: &DataSet, start: f64) -> Result<Parts> {
        let end = start + data.axis.duration();
        let part = |range: std::ops::Range<usize>| Part {
            window: (start + data.axis.at(range.start), start + data.axis.at(range.end - 1)),
            data: data.slice(range),
        };
        let range = |field: &str, from: f64, to: f64| {
            let range = data.axis.window(from - start, to - start);
            if from.is_nan() || to.is_nan() || from >= to || range.is_empty() {
                let allowed = format!("a stretch with samples, within {start} to {end} s");
                return Err(Error::invalid(field, format!("{from} to {to} s"), allowed));
            }
            Ok(range)
        };
        let all = range("windows", self.from.unwrap_or(start), self.to.unwrap_or(end))?;
        let whole = |validation, is_undivided| Ok(Parts { estimation: part(all.clone()), validation, is_undivided });
        match self.validation {
            ValidationWindow::None => whole(None, false),
            ValidationWindow::Window { from, to } => whole(Some(part(range("windows.validation", from, to)?)), false),
            ValidationWindow::Half => {
                let middle = all.start + all.len() / 2;
                if middle == all.start {
                    return whole(None, true);
                }
                let (first, second) = (part(all.start..middle), part(middle..all.end));
                if is_told_by(data, &first.data) && is_told_by(data, &second.data) {
                    Ok(Parts { estimation: first, validation: Some(second), is_undivided: false })
                } else {
                    whole(None, true)
                }
            }
        }
    }
}

/// Whether a part has enough samples, and every signal moves in it that moves at all.
fn is_told_by(whole: &DataSet, part: &DataSet) -> bool {
    let moves = |series: &&Series| {
        let (low, high) = series.range();
        low < high
    };
    let tags =
        |list: &'_ [Series]| -> Vec<String> { list.iter().filter(moves).map(|series| series.tag.clone()).collect() };
    let (inputs, outputs) = (tags(&whole.inputs), tags(&whole.outputs));
    if inputs.is_empty() || outputs.is_empty() {
        return false;
    }
    part.of(inputs.iter().map(String::as_str), outputs.iter().map(String::as_str)).validate(10).is_ok()
}

/// A model with what it was held against.
#[derive(Debug, Clone, PartialEq)]
pub struct Identified {
    /// The model.
    pub model: Model,
    /// The window that it was fitted to.
    pub window: (f64, f64),
    /// The window that it was held against, and the result.
    pub validation: Option<((f64, f64), Validation)>,
}

/// Fits a model to one part of the data and holds it against another.
pub fn identify(data: &DataSet, start: f64, windows: &Windows, options: &FitOptions) -> Result<Identified> {
    identify_together(data, start, windows, &[], options)
}

/// Fits a model to one part of the data together with further stretches, and holds it against another part.
pub fn identify_together(
    data: &DataSet,
    start: f64,
    windows: &Windows,
    further: &[DataSet],
    options: &FitOptions,
) -> Result<Identified> {
    let parts = windows.cut(data, start)?;
    let stretches: Vec<DataSet> = std::iter::once(&parts.estimation.data).chain(further).cloned().collect();
    identified(&parts, super::fit_together(&stretches, options)?)
}

/// What was fitted to one part of the data, held against the other.
pub fn identified(parts: &Parts, mut model: Model) -> Result<Identified> {
    if parts.is_undivided {
        model.verdicts.push(verdict_of_unvalidated());
    }
    let validation = match &parts.validation {
        Some(part) => Some((part.window, validate(&model, &part.data, false)?)),
        None => None,
    };
    Ok(Identified { model, window: parts.estimation.window, validation })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::identification::{Series, Structure};
    use crate::series::TimeAxis;

    fn data(moves: &[usize]) -> DataSet {
        let axis = TimeAxis::uniform(2.0, 400).unwrap();
        let op: Vec<f64> =
            (0..400).map(|k| 40.0 + 5.0 * (moves.iter().filter(|at| k >= **at).count() % 2) as f64).collect();
        let mut x = 0.0;
        let pv = op
            .iter()
            .map(|op| {
                let now = x;
                x += ((op - 40.0) - x) / 10.0;
                70.0 + now
            })
            .collect();
        DataSet::single(axis, Series::new("OP", "%", op), Series::new("PV", "°C", pv))
    }

    #[test]
    fn halves_where_both_move_and_all_where_one_rests() {
        let options = FitOptions::new(Structure::Fopdt);
        let halved = identify(&data(&[20, 100, 220, 300]), 50.0, &Windows::default(), &options).unwrap();
        let ((from, to), validation) = halved.validation.unwrap();
        assert_eq!((halved.window, from, to), ((50.0, 448.0), 450.0, 848.0));
        assert!(validation.performance.fit_simulated > 99.0, "{:?}", validation.performance);
        let whole = identify(&data(&[20]), 50.0, &Windows::default(), &options).unwrap();
        assert!(whole.validation.is_none() && whole.window == (50.0, 848.0));
        assert!(whole.model.verdicts.iter().any(|verdict| verdict.text.contains("held against nothing")));
    }

    #[test]
    fn windows_are_in_the_times_of_the_record_and_refused_where_they_miss_it() {
        let data = data(&[20, 100, 220, 300]);
        let windows = |from, to, validation| Windows { from, to, validation };
        let parts = windows(Some(60.0), Some(300.0), ValidationWindow::Window { from: 400.0, to: 500.0 })
            .cut(&data, 50.0)
            .unwrap();
        assert_eq!((parts.estimation.window, parts.validation.unwrap().window), ((60.0, 300.0), (400.0, 500.0)));
        let refused = windows(Some(900.0), Some(950.0), ValidationWindow::None).cut(&data, 50.0).unwrap_err();
        assert_eq!(
            refused.to_string(),
            "The window is 900 to 950 s: it must be a stretch with samples, within 50 to 848 s."
        );
        assert!(windows(Some(300.0), Some(200.0), ValidationWindow::None).cut(&data, 50.0).is_err());
    }
}
