//! What becomes of a loop when the plant is not the model: the map of mismatch.

use super::controlled::Controlled;
use super::optimise::{Variation, load_error, sampled};
use crate::assessment::{Family, FrequencyGrid, OnGrid, Prediction};
use crate::controller::predictive::Law;
use crate::controller::{ControllerSpec, PredictiveSettings};
use crate::numerics::on_threads;
use crate::units::Span;
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use utoipa::ToSchema;

/// How a map of mismatch is drawn: plant over model, from one ratio to another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct MismatchQuestion {
    /// Lowest and highest ratio of the gains, above 0.
    #[serde(default = "gains")]
    pub gain_ratios: [f64; 2],
    /// Lowest and highest ratio of the dead times, 0 or more.
    #[serde(default = "dead_times")]
    pub dead_time_ratios: [f64; 2],
    /// Points along each side, 2 to 120.
    #[serde(default = "points")]
    pub points: usize,
}

fn gains() -> [f64; 2] {
    [0.2, 4.0]
}

fn dead_times() -> [f64; 2] {
    [0.2, 3.0]
}

fn points() -> usize {
    60
}

impl Default for MismatchQuestion {
    fn default() -> Self {
        Self { gain_ratios: gains(), dead_time_ratios: dead_times(), points: points() }
    }
}

/// What becomes of a loop when the plant is not the model. Rows are dead-time ratios, columns gain ratios.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct MismatchMap {
    /// Gain of the plant over that of the model; spaced evenly in the logarithm.
    pub gain_ratios: Vec<f64>,
    /// Dead time of the plant over that of the model; spaced evenly.
    pub dead_time_ratios: Vec<f64>,
    /// Maximum sensitivity; null where the loop is unstable.
    pub max_sensitivity: Vec<Vec<Option<f64>>>,
    /// ∫|e| dt after a load over that with the model as it is; null where the loop is unstable.
    pub degradation: Vec<Vec<Option<f64>>>,
    /// For each dead-time ratio the gain ratio at which the loop becomes unstable; null beyond the map.
    pub stability_limit: Vec<Option<f64>>,
    /// What it means.
    pub verdicts: Vec<Verdict>,
}

/// The map for a controller on a model. Errors when the loop is unstable with the model as it is, or the controller is not linear.
pub fn mismatch_map(
    plant: &Controlled,
    pv_span: &Span,
    scan: f64,
    controller: &ControllerSpec,
    question: &MismatchQuestion,
    threads: usize,
) -> Result<MismatchMap> {
    let MismatchQuestion { gain_ratios: [least_gain, most_gain], dead_time_ratios: [shortest, longest], points } =
        *question;
    check::positive("gain_ratios.0", least_gain, "")?;
    check::within("gain_ratios.1", most_gain, least_gain * 1.001, 1e3, "")?;
    check::not_negative("dead_time_ratios.0", shortest, "")?;
    check::within("dead_time_ratios.1", longest, shortest + 1e-3, 1e3, "")?;
    check::within("points", points as f64, 2.0, 120.0, "")?;
    if *controller == ControllerSpec::Manual {
        return Err(Error::unfit("in manual there is no loop that a wrong model could upset", "choose a controller"));
    }
    let share = |k: usize| k as f64 / (points - 1) as f64;
    let gain_ratios: Vec<f64> = (0..points).map(|k| least_gain * (most_gain / least_gain).powf(share(k))).collect();
    let dead_time_ratios: Vec<f64> = (0..points).map(|k| shortest + (longest - shortest) * share(k)).collect();
    let law = match controller {
        ControllerSpec::Predictive(settings) => Some(law_of(settings, pv_span, scan)?),
        _ => None,
    };
    let row = |dead_time: f64, gains: &[f64]| row(plant, pv_span, scan, (controller, law.as_ref()), dead_time, gains);
    let nominal = row(1.0, &[1.0])?;
    let Some(Some((_, nominal_error))) = nominal.cells.first().copied() else {
        return Err(Error::unfit("the loop is unstable with the model as it is", "choose settings that hold it first"));
    };
    let (next, done) = (AtomicUsize::new(0), Mutex::new(vec![None; points]));
    on_threads(threads.min(points), || {
        loop {
            let k = next.fetch_add(1, Ordering::Relaxed);
            let Some(ratio) = dead_time_ratios.get(k) else { return };
            let found = row(*ratio, &gain_ratios);
            done.lock().unwrap_or_else(std::sync::PoisonError::into_inner)[k] = Some(found);
        }
    });
    let rows = done.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner);
    let rows: Vec<Row> = rows.into_iter().flatten().collect::<Result<_>>()?;
    let map = MismatchMap {
        max_sensitivity: rows
            .iter()
            .map(|row| row.cells.iter().map(|cell| cell.map(|cell| cell.0)).collect())
            .collect(),
        degradation: rows
            .iter()
            .map(|row| row.cells.iter().map(|cell| cell.map(|cell| cell.1 / nominal_error)).collect())
            .collect(),
        stability_limit: rows.iter().map(|row| row.limit).collect(),
        gain_ratios,
        dead_time_ratios,
        verdicts: Vec::new(),
    };
    Ok(MismatchMap { verdicts: in_words(&map, row(1.0, &map.gain_ratios)?.limit), ..map })
}

/// Maximum sensitivity and load error along one dead time, and the gain ratio at which stability ends.
#[derive(Debug, Clone)]
struct Row {
    cells: Vec<Option<(f64, f64)>>,
    limit: Option<f64>,
}

fn row(
    nominal: &Controlled,
    pv_span: &Span,
    scan: f64,
    (controller, law): (&ControllerSpec, Option<&Law>),
    dead_time: f64,
    gains: &[f64],
) -> Result<Row> {
    let varied = |gain: f64| -> Result<Controlled> {
        let process = Variation { gain, dead_time, ..Variation::NONE }.of(&nominal.process)?;
        Ok(Controlled { process, sensor: nominal.sensor.clone() })
    };
    let sampled = sampled(&varied(1.0)?, pv_span, scan)?;
    let process = nominal.as_seen(scan);
    let error = |ratio: f64| load_error(&varied(ratio)?, pv_span, scan, controller, law);
    if let (ControllerSpec::Predictive(settings), Some(law)) = (controller, law) {
        let grid = FrequencyGrid::new(&sampled, settings.horizon.max(process.time_scale()), process.dead_time());
        let feedback = grid.map(|omega| -law.response(omega)[(0, 0)]);
        let family = Family::of_response(&grid, &feedback, law.integrators());
        return along(gains, |ratio| family.close_on(&grid, 1.0, ratio), error);
    }
    let Some(pid) = controller.main_pid().filter(|_| !matches!(controller, ControllerSpec::Cascade(_))) else {
        return Err(Error::unfit(
            format!("a {} has no response over frequency that stands still", controller.title()),
            "choose PID or a Smith predictor",
        ));
    };
    let slowest = pid.integral_time.unwrap_or(0.0).max(process.time_scale());
    let grid = FrequencyGrid::new(&sampled, slowest, process.dead_time());
    let family = match controller {
        ControllerSpec::Smith(settings) => {
            Family::smith(&grid, &Prediction::new(&grid, settings, pv_span)?, &settings.pid)
        }
        _ => Family::pid(&grid, pid),
    };
    // The gain of the plant multiplies the loop, not the controller's own model.
    let closed = |ratio: f64| family.close_on(&grid, pid.gain, ratio);
    along(gains, closed, error)
}

/// What a predictive controller of one CV by one MV does while it feels no limit. Errors where it has no such law, or one that is
/// unstable by itself.
fn law_of(settings: &PredictiveSettings, pv_span: &Span, scan: f64) -> Result<Law> {
    let [_] = &settings.mvs[..] else {
        return Err(Error::unfit("the map is of one CV and one MV", "look at the frequency view for several"));
    };
    let law = Law::of_one(settings, pv_span, scan)?;
    law.filter(|law| law.unstable_poles() == 0).ok_or_else(|| {
        Error::unfit("this predictive controller has no law that stands still", "let it follow a set point")
    })
}

/// A row from what closes the loop at a gain ratio, and the error that a load then costs.
fn along(gains: &[f64], closed: impl Fn(f64) -> OnGrid, error: impl Fn(f64) -> Result<f64>) -> Result<Row> {
    let mut cells = Vec::with_capacity(gains.len());
    for ratio in gains {
        let point = closed(*ratio);
        cells.push(if point.stable { Some((point.max_sensitivity, error(*ratio)?)) } else { None });
    }
    let last_stable = cells.iter().rposition(Option::is_some);
    let limit = last_stable.filter(|k| k + 1 < gains.len()).map(|k| {
        let (mut inside, mut outside) = (gains[k], gains[k + 1]);
        for _ in 0..30 {
            let middle = (inside * outside).sqrt();
            if closed(middle).stable {
                inside = middle;
            } else {
                outside = middle;
            }
        }
        inside
    });
    Ok(Row { cells, limit })
}

fn in_words(map: &MismatchMap, gain_limit: Option<f64>) -> Vec<Verdict> {
    let rule = "the loop is closed with the plant off by these factors, the controller as it is";
    let mut verdicts = Vec::new();
    if let Some(limit) = gain_limit {
        let tone = if limit < 1.5 { Tone::Caution } else { Tone::Good };
        let text = format!(
            "With the dead time as modelled it is stable until the gain is {} times the model's.",
            readable(limit)
        );
        verdicts.push(Verdict::new(tone, text, rule));
    }
    // The largest mismatch in both at once that at most doubles the error.
    let both = |ratio: f64| {
        let nearest = |values: &[f64]| {
            (0..values.len()).min_by(|a, b| (values[*a] - ratio).abs().total_cmp(&(values[*b] - ratio).abs()))
        };
        let (k, j) = (nearest(&map.dead_time_ratios)?, nearest(&map.gain_ratios)?);
        map.degradation[k][j]
    };
    match both(1.2) {
        Some(worse) => {
            let tone = if worse > 1.5 { Tone::Caution } else { Tone::Good };
            let cost = match worse {
                worse if worse < 1.02 => "a load costs no more than as modelled".to_owned(),
                worse => format!("a load costs {} times the error", readable(worse)),
            };
            let text = format!("With gain and dead time both 20 % above the model's, {cost}.");
            verdicts.push(Verdict::new(tone, text, rule));
        }
        None => verdicts.push(Verdict::new(
            Tone::Bad,
            "With gain and dead time both 20 % above the model's it is unstable.",
            rule,
        )),
    }
    verdicts
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assessment::sampled_margins;
    use crate::controller::{PidSettings, SmithSettings};
    use crate::process::LinearSpec;

    const FOPDT: LinearSpec = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 10.0 };

    fn span() -> Span {
        Span::new(0.0, 100.0, "%")
    }

    fn map(controller: &ControllerSpec, points: usize) -> MismatchMap {
        let question = MismatchQuestion { points, ..MismatchQuestion::default() };
        mismatch_map(&Controlled::plain(FOPDT), &span(), 0.5, controller, &question, 2).unwrap()
    }

    #[test]
    fn the_stability_limit_is_the_gain_margin_of_the_plant_with_that_dead_time() {
        let pid = PidSettings::pi(1.0, 20.0);
        let map = map(&ControllerSpec::Pid(pid.clone()), 15);
        for (ratio, limit) in map.dead_time_ratios.iter().zip(&map.stability_limit) {
            let plant = Variation { dead_time: *ratio, ..Variation::NONE }.of(&FOPDT).unwrap();
            let margin = sampled_margins(&plant, &span(), &pid, 0.5).unwrap().gain_margin;
            match (limit, margin) {
                (Some(limit), Some(margin)) => assert!((limit / margin - 1.0).abs() < 1e-3, "{limit} {margin}"),
                (None, Some(margin)) => assert!(margin > 4.0),
                other => panic!("{other:?}"),
            }
        }
        // The sensitivity of a cell is that of the margins.
        let plant = Variation { gain: map.gain_ratios[8], dead_time: map.dead_time_ratios[4], ..Variation::NONE };
        let margins = sampled_margins(&plant.of(&FOPDT).unwrap(), &span(), &pid, 0.5).unwrap();
        let (cell, exact) = (map.max_sensitivity[4][8].unwrap(), margins.max_sensitivity.unwrap());
        assert!((cell / exact - 1.0).abs() < 5e-3, "{cell} {exact}");
    }

    #[test]
    fn a_predictor_feels_a_wrong_dead_time_more() {
        let pid = PidSettings::pi(4.0, 20.0);
        let smith = SmithSettings { pid, model: FOPDT, filter_time: 0.0 };
        let predictor = map(&ControllerSpec::Smith(smith), 15);
        let plain = map(&ControllerSpec::Pid(PidSettings::pi(1.0, 20.0)), 15);
        let unstable = |map: &MismatchMap| map.degradation.iter().flatten().filter(|cell| cell.is_none()).count();
        assert!(unstable(&predictor) > unstable(&plain));
        assert!(predictor.verdicts.iter().all(|verdict| !verdict.text.is_empty()));
    }
}
