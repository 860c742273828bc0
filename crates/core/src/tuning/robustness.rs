//! How far the model may be wrong: the map of mismatch, and the envelope of responses over its uncertainty.

use super::optimise::{Variation, load_error};
use crate::assessment::{Family, FrequencyGrid, SampledLoop};
use crate::controller::ControllerSpec;
use crate::instrument::Noise;
use crate::process::LinearSpec;
use crate::simulation::{ColumnRole, Trial};
use crate::units::Span;
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result, check};
use nalgebra::{DMatrix, DVector, SymmetricEigen};
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
    process: &LinearSpec,
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
    let share = |k: usize| k as f64 / (points - 1) as f64;
    let gain_ratios: Vec<f64> = (0..points).map(|k| least_gain * (most_gain / least_gain).powf(share(k))).collect();
    let dead_time_ratios: Vec<f64> = (0..points).map(|k| shortest + (longest - shortest) * share(k)).collect();
    let row = |dead_time: f64, gains: &[f64]| row(process, pv_span, scan, controller, dead_time, gains);
    let nominal = row(1.0, &[1.0])?;
    let Some(Some((_, nominal_error))) = nominal.cells.first().copied() else {
        return Err(Error::unfit("the loop is unstable with the model as it is", "choose settings that hold it first"));
    };
    let (next, done) = (AtomicUsize::new(0), Mutex::new(vec![None; points]));
    std::thread::scope(|scope| {
        for _ in 0..threads.clamp(1, points) {
            scope.spawn(|| {
                loop {
                    let k = next.fetch_add(1, Ordering::Relaxed);
                    let Some(ratio) = dead_time_ratios.get(k) else { return };
                    let found = row(*ratio, &gain_ratios);
                    done.lock().unwrap_or_else(std::sync::PoisonError::into_inner)[k] = Some(found);
                }
            });
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
    process: &LinearSpec,
    pv_span: &Span,
    scan: f64,
    controller: &ControllerSpec,
    dead_time: f64,
    gains: &[f64],
) -> Result<Row> {
    let plant = Variation { dead_time, ..Variation::NONE }.of(process)?;
    let sampled = SampledLoop::new(&plant.state_space()?, pv_span, scan, 0.0)?;
    let Some(pid) = controller.main_pid().filter(|_| !matches!(controller, ControllerSpec::Cascade(_))) else {
        return Err(Error::unfit(
            format!("a {} has no response over frequency that stands still", controller.title()),
            "choose PID or a Smith predictor",
        ));
    };
    let slowest = pid.integral_time.unwrap_or(0.0).max(process.time_scale());
    let grid = FrequencyGrid::new(&sampled, slowest, process.dead_time());
    let family = match controller {
        ControllerSpec::Smith(settings) => Family::smith(&grid, settings, pv_span)?,
        _ => Family::pid(&grid, pid),
    };
    // The gain of the plant multiplies the loop, not the controller's own model.
    let closed = |ratio: f64| family.close_on(&grid, pid.gain, ratio);
    let mut cells = Vec::with_capacity(gains.len());
    for ratio in gains {
        let point = closed(*ratio);
        cells.push(if point.stable {
            let plant = Variation { gain: *ratio, ..Variation::NONE }.of(&plant)?;
            Some((point.max_sensitivity, load_error(&plant, pv_span, scan, controller)?))
        } else {
            None
        });
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

/// The responses of a trial over the uncertainty of its model.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Envelope {
    /// Seconds between the values.
    pub interval: f64,
    /// The lowest PV of all, at each time.
    pub lowest: Vec<f64>,
    /// Below it are 5 % of the PV.
    pub low: Vec<f64>,
    /// Above it are 5 % of the PV.
    pub high: Vec<f64>,
    /// The highest PV of all.
    pub highest: Vec<f64>,
    /// Plants that were drawn.
    pub drawn: usize,
    /// Of these, the unstable ones; they are not in the envelope.
    pub unstable: usize,
    /// Median and 95 % quantile of the maximum sensitivity of the stable ones.
    pub max_sensitivity: [f64; 2],
    /// What it means.
    pub verdicts: Vec<Verdict>,
}

/// Most values of an envelope over time.
const DRAWN_VALUES: usize = 1500;

/// Runs a trial on its linear process with parameters drawn from a normal distribution about its own, by this covariance in the
/// order of [`LinearSpec::parameters`]. The same seed draws the same plants. Errors when the process is not one of low order.
pub fn envelope(trial: &Trial, covariance: &[Vec<f64>], draws: usize, seed: u64) -> Result<Envelope> {
    check::within("draws", draws as f64, 2.0, 2000.0, "")?;
    trial.validate()?;
    let Some(process) = trial.plant.process.as_linear() else {
        return Err(Error::unfit("the process is not a linear one of low order", "choose a trial on a model"));
    };
    let means: Vec<f64> = process.parameters().into_iter().map(|parameter| parameter.2).collect();
    let n = means.len();
    if covariance.len() != n || covariance.iter().any(|row| row.len() != n || row.iter().any(|c| !c.is_finite())) {
        return Err(Error::invalid(
            "covariance",
            format!("{} rows", covariance.len()),
            format!("{n} rows of {n} numbers"),
        ));
    }
    let root = square_root(&DMatrix::from_fn(n, n, |i, j| 0.5 * (covariance[i][j] + covariance[j][i])));
    let mut noise = Noise::new("envelope", seed);
    let every = trial.scenario.scans().div_ceil(DRAWN_VALUES).max(1);
    let (mut curves, mut sensitivities, mut unstable): (Vec<Vec<f64>>, Vec<f64>, usize) = (Vec::new(), Vec::new(), 0);
    for _ in 0..draws {
        let deviates = DVector::from_fn(n, |_, _| noise.normal());
        let offset = &root * deviates;
        let values: Vec<f64> = means
            .iter()
            .zip(offset.iter())
            .map(|(mean, offset)| {
                // What is drawn beyond 0 would be another kind of process.
                let value = mean + offset;
                if *mean == 0.0 || value * mean > 0.0 { value } else { 1e-3 * mean }
            })
            .collect();
        let drawn = process.with_parameters(&values);
        let mut other = trial.clone();
        other.plant.process = drawn.into();
        let margins = crate::assessment::trial_margins(&other)?;
        match margins {
            Some(margins) if !margins.stable => {
                unstable += 1;
                continue;
            }
            Some(margins) => sensitivities.extend(margins.max_sensitivity),
            None => {}
        }
        let trace = other.run()?;
        curves.push(trace.values(ColumnRole::ProcessVariable).iter().copied().step_by(every).collect());
    }
    let length = curves.iter().map(Vec::len).min().unwrap_or(0);
    let mut result = Envelope {
        interval: every as f64 * trial.scenario.scan,
        lowest: Vec::with_capacity(length),
        low: Vec::with_capacity(length),
        high: Vec::with_capacity(length),
        highest: Vec::with_capacity(length),
        drawn: draws,
        unstable,
        max_sensitivity: [quantile(&mut sensitivities, 0.5), quantile(&mut sensitivities, 0.95)],
        verdicts: Vec::new(),
    };
    let mut column = Vec::with_capacity(curves.len());
    for k in 0..length {
        column.clear();
        column.extend(curves.iter().map(|curve| curve[k]));
        for (share, values) in
            [(0.0, &mut result.lowest), (0.05, &mut result.low), (0.95, &mut result.high), (1.0, &mut result.highest)]
        {
            values.push(quantile(&mut column, share));
        }
    }
    let rule = format!("{draws} plants drawn from the model's uncertainty, seed {seed}");
    result.verdicts.push(if unstable > 0 {
        let text = format!("{unstable} of {draws} plants that the data allow are unstable with these settings.");
        Verdict::new(Tone::Bad, text, rule)
    } else {
        let highest = result.max_sensitivity[1];
        let tone = if highest > 2.0 { Tone::Caution } else { Tone::Good };
        let text = format!(
            "Stable with all {draws} plants that the data allow; maximum sensitivity below {} in 95 % of them.",
            readable(highest)
        );
        Verdict::new(tone, text, rule)
    });
    Ok(result)
}

/// A matrix whose square, with its transpose, is the covariance; directions of no variance are left out.
fn square_root(covariance: &DMatrix<f64>) -> DMatrix<f64> {
    let SymmetricEigen { eigenvectors, eigenvalues } = SymmetricEigen::new(covariance.clone());
    let roots = eigenvalues.map(|value| value.max(0.0).sqrt());
    eigenvectors * DMatrix::from_diagonal(&roots)
}

/// A quantile of values, straight between neighbours; 0 of none.
fn quantile(values: &mut [f64], share: f64) -> f64 {
    if values.is_empty() {
        return 0.0;
    }
    values.sort_by(f64::total_cmp);
    let place = share * (values.len() - 1) as f64;
    let below = place.floor() as usize;
    let above = (below + 1).min(values.len() - 1);
    values[below] + (place - below as f64) * (values[above] - values[below])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::assessment::sampled_margins;
    use crate::controller::{PidSettings, SmithSettings};
    use crate::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION};

    const FOPDT: LinearSpec = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 10.0 };

    fn span() -> Span {
        Span::new(0.0, 100.0, "%")
    }

    fn map(controller: &ControllerSpec, points: usize) -> MismatchMap {
        let question = MismatchQuestion { points, ..MismatchQuestion::default() };
        mismatch_map(&FOPDT, &span(), 0.5, controller, &question, 2).unwrap()
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

    fn trial() -> Trial {
        let signal = |tag: &str| Signal { tag: tag.to_owned(), span: span() };
        Trial {
            version: TRIAL_VERSION,
            plant: Plant::plain(FOPDT, signal("L.PV"), signal("L.OP"), OperatingPoint::new(50.0, 50.0)),
            candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(1.0, 20.0))),
            scenario: Scenario { duration: 300.0, scan: 0.5, seed: 1, events: vec![Event::set_point(5.0, 4.0)] },
        }
    }

    #[test]
    fn an_envelope_holds_the_nominal_response_and_grows_with_the_uncertainty() {
        let with = |share: f64| {
            let sd = [share, 20.0 * share, 10.0 * share];
            let covariance: Vec<Vec<f64>> =
                (0..3).map(|i| (0..3).map(|j| if i == j { sd[i] * sd[i] } else { 0.0 }).collect()).collect();
            envelope(&trial(), &covariance, 60, 7).unwrap()
        };
        let (narrow, wide) = (with(0.03), with(0.1));
        let trace = trial().run().unwrap();
        let nominal = trace.values(ColumnRole::ProcessVariable);
        let outside = nominal
            .iter()
            .zip(narrow.lowest.iter().zip(&narrow.highest))
            .filter(|(y, (low, high))| *y < low || *y > high);
        assert_eq!(outside.count(), 0);
        let width =
            |envelope: &Envelope| envelope.high.iter().zip(&envelope.low).map(|(high, low)| high - low).sum::<f64>();
        assert!((2.0..5.0).contains(&(width(&wide) / width(&narrow))));
        assert_eq!(with(0.03), narrow);
        let error = envelope(&trial(), &[vec![1.0]], 10, 1).unwrap_err().to_string();
        assert!(error.contains("3 rows of 3 numbers"), "{error}");
    }

    #[test]
    fn draws_have_the_covariance_that_was_asked() {
        let covariance = DMatrix::from_row_slice(2, 2, &[4.0, 1.2, 1.2, 1.0]);
        let root = square_root(&covariance);
        assert!((&root * root.transpose() - covariance).norm() < 1e-12);
    }
}
