//! Where the heat, or whatever is conserved, went over a record: what came in, left, was made, was lost and was stored, and what
//! the balance leaves over.

use super::super::covariance::NORMAL_95;
use super::super::data::DataSet;
use super::super::model::Model;
use super::following::{At, TOLERANCE};
use super::{ready, states_at_start};
use crate::process::{Held, TermKind};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A balance over time, in stretches of equal length.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BalanceOverTime {
    /// What is conserved, for example `energy`.
    pub name: String,
    /// Unit of the flows: kW where kJ are conserved, W for J, else per second.
    pub unit: String,
    /// Middle of each stretch, s from the start of the data.
    pub times: Vec<f64>,
    /// The terms, means over each stretch.
    pub terms: Vec<BalanceTerm>,
    /// What is stored: the change of what is held, by what was measured where it was.
    pub stored: Vec<f64>,
    /// What comes in and is made, less what leaves, is lost and is stored: 0 where model and record agree.
    pub left_over: Vec<f64>,
    /// Half width of the band in which noise of the measurements alone leaves 95 % of what is left over.
    pub noise_band: f64,
    /// Totals over the record in the unit of what is conserved: in and made, out and lost, stored, left over.
    pub totals: [f64; 4],
    /// Whether the balance closes.
    pub verdict: Verdict,
}

/// A term of a balance over time.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct BalanceTerm {
    /// Its name.
    pub name: String,
    /// What it does.
    pub kind: TermKind,
    /// Its means.
    pub values: Vec<f64>,
}

/// Stretches that a record is divided into, at most.
const STRETCHES: usize = 200;
/// Samples in each, at least.
const SAMPLES: usize = 5;

/// The balances of a physical model over data. States that were measured are taken as measured (where a sensor lags, with what it
/// shows beyond the model), the others as simulated with the start that fits best; so what is left over shows where model and
/// record part.
pub fn balances(model: &Model, data: &DataSet) -> Result<Vec<BalanceOverTime>> {
    let (task, stretch) = ready(model, data)?;
    let states = states_at_start(&task, &stretch)?;
    let process = &task.process;
    let description = process.description();
    // Which shown output is a state: there what was measured differs from what is simulated by what the fit leaves.
    let measured: Vec<(usize, usize)> = task
        .shown
        .iter()
        .enumerate()
        .filter_map(|(k, shown)| {
            let name = &description.outputs[shown.output].name;
            Some((k, description.states.iter().position(|state| state.name == *name)?))
        })
        .collect();
    let samples = stretch.times.len();
    let terms = description.terms();
    let held_quantities = description.balances.len();
    let mut courses = Vec::new();
    // What is held by the simulation, and by how much more it is with what was measured.
    let (mut contents, mut more) = (vec![0.0; samples * held_quantities], vec![0.0; samples * held_quantities]);
    let mut x = vec![0.0; description.states.len()];
    let at = At { sought: &[], states: &states };
    task.follow(&stretch, at, &(0..0), TOLERANCE, |k, seen, simulated, inputs| {
        x.copy_from_slice(simulated);
        for (shown, state) in &measured {
            let left = (stretch.outputs[*shown][k] - seen[*shown].re) / stretch.shown_by[*shown].0;
            if left.is_finite() {
                x[*state] += left;
            }
        }
        let own = k * held_quantities..(k + 1) * held_quantities;
        process.contents(simulated, &mut contents[own.clone()]);
        process.contents(&x, &mut more[own.clone()]);
        more[own.clone()].iter_mut().zip(&contents[own]).for_each(|(more, held)| *more -= held);
        courses.push((x.clone(), inputs.to_vec()));
    })
    .map_err(|_| {
        Error::unfit("the process cannot be followed over these data: it runs away", "hold it against other data")
    })?;
    let mut flows = vec![0.0; samples.saturating_sub(1) * terms];
    let (mut early, mut late) = (vec![0.0; terms], vec![0.0; terms]);
    for (k, pair) in courses.windows(2).enumerate() {
        let inputs = &pair[1].1;
        process.terms(&pair[0].0, inputs, Held::default(), &mut early);
        process.terms(&pair[1].0, inputs, Held::default(), &mut late);
        for (flow, (early, late)) in flows[k * terms..].iter_mut().zip(early.iter().zip(&late)) {
            *flow = 0.5 * (early + late);
        }
    }
    let each = samples.div_ceil(STRETCHES).max(SAMPLES);
    let bins: Vec<(usize, usize)> =
        (0..samples / each).map(|k| (k * each, ((k + 1) * each).min(samples - 1))).filter(|(a, b)| b > a).collect();
    let mut first_term = 0;
    let mut all = Vec::new();
    for (quantity, balance) in description.balances.iter().enumerate() {
        // A mean over a stretch, straight from sample to sample.
        let mean = |values: &dyn Fn(usize) -> f64, (a, b): (usize, usize)| {
            let width = |k: usize| stretch.times[k + 1] - stretch.times[k];
            let area: f64 = (a..b).map(|k| values(k) * width(k)).sum();
            area / (stretch.times[b] - stretch.times[a])
        };
        let held = |k: usize| contents[k * held_quantities + quantity];
        let differs = |k: usize| more[k * held_quantities + quantity];
        // By how much it is more at the end of a stretch is read from a few samples about it: noise would else be taken for
        // storage. What the simulation holds is without noise, and has its corners where they are.
        let around = each / 2;
        let smooth = |k: usize| {
            let (a, b) = (k.saturating_sub(around), (k + around).min(samples - 1));
            let reach = (k - a).min(b - k);
            let (a, b) = (k - reach, k + reach);
            held(k) + (a..=b).map(differs).sum::<f64>() / (b - a + 1) as f64
        };
        let stored: Vec<f64> =
            bins.iter().map(|(a, b)| (smooth(*b) - smooth(*a)) / (stretch.times[*b] - stretch.times[*a])).collect();
        let of_terms: Vec<BalanceTerm> = balance
            .terms
            .iter()
            .enumerate()
            .map(|(k, term)| BalanceTerm {
                name: term.name.clone(),
                kind: term.kind,
                values: bins.iter().map(|bin| mean(&|i| flows[i * terms + first_term + k], *bin)).collect(),
            })
            .collect();
        first_term += balance.terms.len();
        let left_over: Vec<f64> = (0..bins.len())
            .map(|k| of_terms.iter().map(|term| term.kind.sign() * term.values[k]).sum::<f64>() - stored[k])
            .collect();
        let span = |k: usize| stretch.times[bins[k].1] - stretch.times[bins[k].0];
        let total = |values: &dyn Fn(usize) -> f64| (0..bins.len()).map(|k| values(k) * span(k)).sum::<f64>();
        let by_sign = |sign: f64| {
            total(&|k| of_terms.iter().filter(|term| term.kind.sign() == sign).map(|term| term.values[k]).sum::<f64>())
        };
        let noise = super::super::noise_deviation(&(0..samples).map(differs).collect::<Vec<f64>>());
        let typical = bins.first().map_or(1.0, |(a, b)| stretch.times[*b] - stretch.times[*a]);
        let band = NORMAL_95 * noise * (2.0 / (2 * around + 1) as f64).sqrt() / typical;
        all.push(BalanceOverTime {
            name: balance.name.clone(),
            unit: rate_unit(&balance.unit),
            times: bins.iter().map(|(a, b)| 0.5 * (stretch.times[*a] + stretch.times[*b])).collect(),
            noise_band: band,
            totals: [by_sign(1.0), by_sign(-1.0), total(&|k| stored[k]), total(&|k| left_over[k])],
            verdict: verdict(&balance.name, [by_sign(1.0), by_sign(-1.0), total(&|k| left_over[k])], &left_over, band),
            terms: of_terms,
            stored,
            left_over,
        });
    }
    Ok(all)
}

/// Share of what came in that may be left over in all, and share of the stretches in which more than noise may be.
const OPEN: f64 = 0.02;
const OFTEN: f64 = 0.2;

/// Whether a balance closes: over the whole record, and from stretch to stretch.
fn verdict(name: &str, [came, went, left]: [f64; 3], left_over: &[f64], band: f64) -> Verdict {
    let rule = "states that were measured as measured; left over is what came in and was made, less what left, was lost and is stored; it \
                closes within 2 % in all, and within the noise in four stretches of five (common practice)";
    let share = left.abs() / (0.5 * (came.abs() + went.abs())).max(f64::MIN_POSITIVE);
    let beyond = left_over.iter().filter(|value| value.abs() > band).count() as f64 / left_over.len().max(1) as f64;
    let sides = if left > 0.0 {
        "more comes in than the model accounts for"
    } else {
        "more goes out than the model accounts for"
    };
    if share > OPEN {
        Verdict::new(
            Tone::Bad,
            format!(
                "The {name} balance does not close: {} % of what flows is left over, {sides}. Look for a stream that is not measured, or a \
                 channel that shows too much.",
                readable(100.0 * share)
            ),
            rule,
        )
    } else if beyond > OFTEN {
        Verdict::new(
            Tone::Caution,
            format!(
                "The {name} balance closes over the whole record, but in {} % of its stretches more is left over than noise explains: part of \
                 the dynamics is missing, or a disturbance was not measured.",
                readable(100.0 * beyond)
            ),
            rule,
        )
    } else {
        Verdict::new(Tone::Good, format!("The {name} balance closes: what is left over is noise."), rule)
    }
}

/// The unit of a flow of something.
fn rate_unit(unit: &str) -> String {
    match unit {
        "kJ" => "kW".to_owned(),
        "J" => "W".to_owned(),
        other => format!("{other}/s"),
    }
}
