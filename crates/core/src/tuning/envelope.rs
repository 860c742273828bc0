//! The responses of a trial over the uncertainty of its model.

use crate::controller::ControllerSpec;
use crate::instrument::Noise;
use crate::numerics::{quantile, square_root};
use crate::simulation::{ColumnRole, Trial};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result, check};
use nalgebra::{DMatrix, DVector};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

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
    if trial.candidate.controller == ControllerSpec::Manual {
        return Err(Error::unfit("in manual there is no loop to be stable", "choose a controller"));
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::{ControllerSpec, PidSettings};
    use crate::process::LinearSpec;
    use crate::simulation::{Candidate, Event, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION};
    use crate::units::Span;

    const FOPDT: LinearSpec = LinearSpec::Fopdt { gain: 1.0, time_constant: 20.0, dead_time: 10.0 };

    fn span() -> Span {
        Span::new(0.0, 100.0, "%")
    }

    fn trial() -> Trial {
        let signal = |tag: &str| Signal { tag: tag.to_owned(), span: span() };
        Trial {
            version: TRIAL_VERSION,
            plant: Plant::plain(FOPDT, signal("L.PV"), signal("L.OP"), OperatingPoint::new(50.0, 50.0)),
            candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(1.0, 20.0))),
            scenario: Scenario {
                duration: 300.0,
                scan: 0.5,
                seed: 1,
                events: vec![Event::set_point(5.0, 4.0)],
                further: Default::default(),
            },
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
