//! Many trials that differ in one number or two: a family of curves, or a map.

use super::trace::Trace;
use super::trial::Trial;
use crate::numerics::on_threads;
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use utoipa::ToSchema;

/// Most trials of a sweep.
const MOST_TRIALS: usize = 10_000;

/// A number of the trial and the values that it takes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Axis {
    /// Where the number stands in the trial document, as a JSON pointer (RFC 6901), for example
    /// `/candidate/controller/gain`; a parameter of a library process may stand there for the first time.
    pub pointer: String,
    /// First value.
    pub from: f64,
    /// Last value.
    pub to: f64,
    /// Number of values, 2 or more.
    pub count: usize,
    /// Whether the values rise by equal ratios instead of equal differences; both ends must then be above 0.
    #[serde(default)]
    pub by_ratio: bool,
}

/// A sweep over one number, or over two.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Sweep {
    /// The trial that is varied.
    pub trial: Trial,
    /// One axis or two.
    pub axes: Vec<Axis>,
}

/// One trial of a sweep.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct SweepPoint<T> {
    /// The value on each axis.
    pub values: Vec<f64>,
    /// What came out; null where the trial was refused.
    pub outcome: Option<T>,
    /// Why it was refused.
    pub refusal: Option<String>,
}

impl Axis {
    /// The values in order.
    #[must_use]
    pub fn values(&self) -> Vec<f64> {
        (0..self.count).map(|k| self.value(k)).collect()
    }

    fn value(&self, k: usize) -> f64 {
        let share = k as f64 / (self.count.max(2) - 1) as f64;
        if self.by_ratio {
            self.from * (self.to / self.from).powf(share)
        } else {
            self.from + share * (self.to - self.from)
        }
    }

    fn validate(&self, field: &str) -> Result<()> {
        check::finite(&format!("{field}.from"), self.from)?;
        check::finite(&format!("{field}.to"), self.to)?;
        if self.from == self.to {
            return Err(Error::invalid(format!("{field}.to"), self.to, format!("other than `from`, {}", self.from)));
        }
        if self.by_ratio {
            check::positive(&format!("{field}.from"), self.from, "")?;
            check::positive(&format!("{field}.to"), self.to, "")?;
        }
        if !(2..=MOST_TRIALS).contains(&self.count) {
            return Err(Error::invalid(format!("{field}.count"), self.count, format!("2 to {MOST_TRIALS}")));
        }
        Ok(())
    }
}

impl Trial {
    /// The same trial with the number at `pointer` replaced. Errors where there is no number, or a whole is not one.
    pub fn with_number(&self, pointer: &str, value: f64) -> Result<Self> {
        let refused = |allowed: String| Error::invalid("pointer", format!("“{pointer}”"), allowed);
        let mut document = serde_json::to_value(self).map_err(|error| refused(error.to_string()))?;
        let number = || serde_json::Number::from_f64(value).map(serde_json::Value::Number);
        if let Some(place) = document.pointer_mut(pointer) {
            if !(place.is_number() || place.is_null()) {
                return Err(refused("the place of a number in the trial".to_owned()));
            }
            // What is counted stays a whole number.
            let whole = (place.is_u64() || place.is_i64()) && value.fract() == 0.0;
            *place = if whole { Value::from(value as i64) } else { number().unwrap_or_default() };
        } else {
            // A table that is left out where it is empty, as that of the inputs, begins with this number.
            let (place, name) = pointer.rsplit_once('/').unwrap_or_default();
            let (outer, table) = place.rsplit_once('/').unwrap_or_default();
            if let Some(outer) = document.pointer_mut(outer).and_then(|outer| outer.as_object_mut()) {
                outer.entry(table).or_insert_with(|| serde_json::json!({}));
            }
            let table = document.pointer_mut(place).and_then(|table| table.as_object_mut());
            let table = table.ok_or_else(|| refused("the place of a number in the trial".to_owned()))?;
            table.insert(name.to_owned(), number().unwrap_or_default());
        }
        serde_json::from_value(document).map_err(|error| refused(format!("a place that takes this number ({error})")))
    }
}

impl Sweep {
    /// Number of trials.
    #[must_use]
    pub fn len(&self) -> usize {
        self.axes.iter().map(|axis| axis.count).product()
    }

    /// Whether there is nothing to sweep over.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.axes.is_empty()
    }

    /// Refuses a sweep that cannot be run.
    pub fn validate(&self) -> Result<()> {
        if self.axes.is_empty() || self.axes.len() > 2 {
            return Err(Error::invalid("axes", self.axes.len(), "one or two"));
        }
        for (k, axis) in self.axes.iter().enumerate() {
            axis.validate(&format!("axes[{k}]"))?;
            self.trial.with_number(&axis.pointer, axis.from)?;
        }
        if self.len() > MOST_TRIALS {
            return Err(Error::invalid("axes", format!("{} trials", self.len()), format!("at most {MOST_TRIALS}")));
        }
        self.trial.validate()
    }

    /// Runs every trial on `threads` threads and makes of each what `measure` makes of it, in the order of the values, the
    /// first axis changing slowest. `advance` is told how many are done and says whether to go on; None when it said no.
    pub fn run<T: Send>(
        &self,
        threads: usize,
        measure: impl Fn(&Trial, &Trace) -> Result<T> + Sync,
        advance: impl Fn(usize) -> bool + Sync,
    ) -> Result<Option<Vec<SweepPoint<T>>>> {
        self.validate()?;
        let (next, done, wanted) = (AtomicUsize::new(0), AtomicUsize::new(0), AtomicBool::new(true));
        let finished: Mutex<Vec<(usize, SweepPoint<T>)>> = Mutex::new(Vec::with_capacity(self.len()));
        let work = || {
            while wanted.load(Ordering::Relaxed) {
                let index = next.fetch_add(1, Ordering::Relaxed);
                if index >= self.len() {
                    break;
                }
                let point = self.point(index, &measure);
                finished.lock().unwrap_or_else(std::sync::PoisonError::into_inner).push((index, point));
                if !advance(done.fetch_add(1, Ordering::Relaxed) + 1) {
                    wanted.store(false, Ordering::Relaxed);
                }
            }
        };
        on_threads(threads.min(self.len()), work);
        let mut points = finished.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
        if points.len() < self.len() {
            return Ok(None);
        }
        points.sort_by_key(|point| point.0);
        Ok(Some(points.into_iter().map(|point| point.1).collect()))
    }

    /// The values of a trial, counted from 0 and below [`len`](Self::len), the first axis changing slowest.
    #[must_use]
    pub fn values_at(&self, index: usize) -> Vec<f64> {
        let place = match self.axes.get(1) {
            Some(second) => vec![index / second.count, index % second.count],
            None => vec![index],
        };
        self.axes.iter().zip(place).map(|(axis, k)| axis.value(k)).collect()
    }

    /// Runs one trial by itself, and makes of it what `measure` makes of it.
    pub fn point<T>(&self, index: usize, measure: impl Fn(&Trial, &Trace) -> Result<T>) -> SweepPoint<T> {
        let values = self.values_at(index);
        let outcome = || -> Result<T> {
            let mut trial = self.trial.clone();
            for (axis, value) in self.axes.iter().zip(&values) {
                trial = trial.with_number(&axis.pointer, *value)?;
            }
            let trace = trial.run()?;
            measure(&trial, &trace)
        };
        match outcome() {
            Ok(outcome) => SweepPoint { values, outcome: Some(outcome), refusal: None },
            Err(error) => SweepPoint { values, outcome: None, refusal: Some(error.to_string()) },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assessment::assess;
    use crate::simulation::Scenario;
    use crate::simulation::trial::heater;

    #[test]
    fn a_number_takes_its_place_even_in_a_table_that_was_left_out() {
        let trial = heater();
        assert!(trial.plant.inputs.is_empty());
        let warmer = trial.with_number("/plant/inputs/feed_temperature", 30.0).unwrap();
        assert_eq!(warmer.plant.inputs["feed_temperature"], 30.0);
        assert_eq!(
            trial.with_number("/candidate/controller/gain", 2.0).unwrap().candidate.controller.pid().unwrap().gain,
            2.0
        );
        for (pointer, value) in [("/plant/colour/red", 1.0), ("/plant/pv/tag", 1.0), ("gain", 1.0), ("/version", 1.5)] {
            let error = trial.with_number(pointer, value).unwrap_err().to_string();
            assert!(error.starts_with(&format!("The pointer is “{pointer}”")), "{error}");
        }
    }

    #[test]
    fn a_map_is_the_trials_one_by_one_whatever_the_number_of_threads() {
        let axis = |pointer: &str, from, to| Axis { pointer: pointer.into(), from, to, count: 3, by_ratio: true };
        let trial = heater();
        let trial = Trial { scenario: Scenario { duration: 600.0, ..trial.scenario.clone() }, ..trial };
        let trial =
            Trial { scenario: Scenario { events: trial.scenario.events[..1].to_vec(), ..trial.scenario }, ..trial };
        let axes = vec![axis("/candidate/controller/gain", 0.5, 2.0), axis("/plant/inputs/feed_flow", 4.0, 9.0)];
        let sweep = Sweep { trial: trial.clone(), axes };
        let alone = sweep.run(1, assess, |_| true).unwrap().unwrap();
        assert_eq!(alone, sweep.run(4, assess, |_| true).unwrap().unwrap());
        assert_eq!((alone.len(), alone[5].values.as_slice()), (9, [1.0, 9.0].as_slice()));
        let by_hand = trial.with_number("/candidate/controller/gain", 1.0).unwrap();
        let by_hand = by_hand.with_number("/plant/inputs/feed_flow", 9.0).unwrap();
        assert_eq!(alone[5].outcome, Some(assess(&by_hand, &by_hand.run().unwrap()).unwrap()));
        assert!(sweep.run(2, assess, |done| done < 3).unwrap().is_none(), "cancelled");
    }
}
