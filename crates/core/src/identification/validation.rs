//! Whether a model is to be trusted: its agreement with data that it has not seen, and what it leaves.

use super::agreement::{Response, differences};
use super::data::{DataSet, Series, apart};
use super::model::{Criteria, Model, Performance};
use super::residuals::ResidualTests;
use super::{matrix, physical, polynomial, process_model, state_space};
use crate::verdict::{Tone, Verdict, readable};
use crate::{Error, Result};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Lags over which residuals are tested.
const LAGS: usize = 25;
/// Below this probability a test rejects.
const REJECTED: f64 = 0.01;
/// Below this probability the input is taken to follow what is left.
const FEEDBACK: f64 = 1e-4;
/// Largest loss of fit, in points, from the estimation to the validation data that is not remarked on.
const LARGEST_LOSS: f64 = 10.0;
/// A loss of fit that makes a model useless.
const HEAVY_LOSS: f64 = 40.0;
/// Fits in % below which a model says nothing, or little.
const WORTHLESS: f64 = 10.0;
const LITTLE: f64 = 40.0;

/// A model against data: how it agrees, and what it leaves.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Validation {
    /// Agreement with these data.
    pub performance: Performance,
    /// Tests of the one-step residuals.
    pub tests: ResidualTests,
    /// What they mean.
    pub verdicts: Vec<Verdict>,
    /// The same for each output of a matrix; performance and tests above are then those of the output that is explained
    /// least.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    #[schema(no_recursion)]
    pub outputs: Vec<Validation>,
}

impl Model {
    /// The simulated outputs in these data: the model knows the inputs, and the states at the start that fit best.
    ///
    /// Where a drift was estimated, it is no part of the process: level and slope are fitted to these data, too. Errors
    /// when the inputs are
    /// not those of the model, or the sample time differs from that of a difference equation.
    pub fn simulate_on(&self, data: &DataSet) -> Result<Vec<Vec<f64>>> {
        self.simulate_in(data, false)
    }

    /// The same; in the model's own data with the steps that were found there.
    fn simulate_in(&self, data: &DataSet, own: bool) -> Result<Vec<Vec<f64>>> {
        self.fits(data)?;
        if self.is_physical() {
            return physical::simulate(self, data);
        }
        if self.is_matrix() {
            return Ok(self.by_row(data, |row, data| row.simulate_in(data, own))?.into_iter().flatten().collect());
        }
        let candidates = if polynomial::is_polynomial(self.structure) {
            let lift = |value: f64| value + self.operating.pv;
            let outputs = vec![polynomial::forced_response(self, data).into_iter().map(lift).collect()];
            let bases =
                polynomial::free_responses(self, data.axis.len()).into_iter().map(|basis| vec![basis]).collect();
            vec![Response { outputs, bases }]
        } else if let Some(matrices) = &self.matrices {
            vec![state_space::response(self, matrices, data)]
        } else {
            let mut responses = process_model::responses(self, data)?;
            if own {
                for output in responses.iter_mut().flat_map(|response| &mut response.outputs) {
                    process_model::add_steps(&self.start, &data.axis, output);
                }
            }
            responses
        };
        let started = candidates.into_iter().map(|candidate| candidate.started(&data.outputs));
        let best = started.min_by(|a, b| a.1.total_cmp(&b.1));
        Ok(best.map(|(outputs, _)| outputs).unwrap_or_default())
    }

    /// What the model misses one sample ahead, for each output: measured minus predicted; NaN where that cannot be
    /// told.
    pub fn prediction_errors_on(&self, data: &DataSet) -> Result<Vec<Vec<f64>>> {
        self.prediction_errors_in(data, false)
    }

    fn prediction_errors_in(&self, data: &DataSet, own: bool) -> Result<Vec<Vec<f64>>> {
        self.fits(data)?;
        if self.is_physical() {
            return physical::prediction_errors(self, data);
        }
        if self.is_matrix() {
            return Ok(self
                .by_row(data, |row, data| row.prediction_errors_in(data, own))?
                .into_iter()
                .flatten()
                .collect());
        }
        if polynomial::is_polynomial(self.structure) {
            return Ok(vec![polynomial::prediction_errors(self, data)?]);
        }
        let Some(matrices) = &self.matrices else {
            let simulated = self.simulate_in(data, own)?;
            let left = differences(data.output(), &simulated[0]);
            return Ok(vec![self.noise.as_ref().map_or_else(|| left.clone(), |noise| noise.innovations(&left))]);
        };
        Ok(state_space::prediction_errors(self, matrices, data))
    }

    /// Refuses data of other signals or, for a difference equation, of another sample time.
    fn fits(&self, data: &DataSet) -> Result<()> {
        let tags = |list: &[Series]| list.iter().map(|series| series.tag.clone()).collect::<Vec<_>>().join(", ");
        let own = |list: &[super::SignalName]| list.iter().map(|name| name.tag.clone()).collect::<Vec<_>>().join(", ");
        for (field, given, wanted) in
            [("inputs", tags(&data.inputs), own(&self.inputs)), ("outputs", tags(&data.outputs), own(&self.outputs))]
        {
            if given != wanted {
                return Err(Error::invalid(field, given, format!("those of the model: {wanted}")));
            }
        }
        let Some(interval) = self.sample_time else { return Ok(()) };
        let given = data.sample_time()?;
        if (given / interval - 1.0).abs() > 1e-3 {
            return Err(Error::invalid(
                "sample time",
                format!("{given} s"),
                format!("that of the model, {interval} s"),
            ));
        }
        Ok(())
    }
}

/// Holds a model against data; `seen` tells whether it was fitted to them.
pub fn validate(model: &Model, data: &DataSet, seen: bool) -> Result<Validation> {
    if model.is_matrix() {
        return matrix::held_against(model, std::slice::from_ref(data), seen);
    }
    let simulated = model.simulate_in(data, seen)?;
    let errors = model.prediction_errors_in(data, seen)?;
    let performance = Performance::of(data.output(), &differences(data.output(), &simulated[0]), &errors[0]);
    let inputs: Vec<(&str, &[f64])> =
        data.inputs.iter().map(|series| (series.tag.as_str(), series.values.as_slice())).collect();
    let tests = ResidualTests::new(&errors[0], &inputs, LAGS, if seen { model.parameters.len() } else { 0 });
    let verdicts = judge(model, &performance, &tests, seen);
    Ok(Validation { performance, tests, verdicts, outputs: Vec::new() })
}

fn judge(model: &Model, performance: &Performance, tests: &ResidualTests, seen: bool) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let (before, now) = (model.estimation.fit_simulated, performance.fit_simulated);
    if !seen {
        let text = format!(
            "On data that the fit has not seen the model explains {} % of the swing, {} % on its own.",
            readable(now),
            readable(before)
        );
        let (tone, rule) = if now < WORTHLESS {
            (
                Tone::Bad,
                "a model that explains less than a tenth of the swing of new data predicts nothing (common practice)",
            )
        } else if before - now > LARGEST_LOSS {
            (
                if before - now > HEAVY_LOSS { Tone::Bad } else { Tone::Caution },
                "a fit that falls by more than 10 points was fitted to chance, or the process has changed; by more than 40, it \
                 is not to be used (common practice)",
            )
        } else if now < LITTLE {
            (Tone::Caution, "below four tenths of the swing most of it has another cause (common practice)")
        } else {
            (Tone::Good, "the fit falls by at most 10 points on new data (common practice)")
        };
        verdicts.push(Verdict::new(tone, text, rule));
    }
    if model.has_noise_model() && tests.whiteness < REJECTED && tests.coloured_lags() > 0 {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "The one-step residuals are not white: {} of {} lags leave the 99 % band. Raise the orders, or take a structure with a noise model.",
                tests.coloured_lags(),
                tests.autocorrelation.len() - 1
            ),
            "Ljung–Box test at 1 % (Ljung & Box 1978)",
        ));
    }
    for cross in &tests.cross_correlation {
        let out = |ahead: bool| {
            let pairs = cross.lags.iter().zip(&cross.values).filter(|(lag, _)| (**lag > 0) == ahead && **lag != 0);
            pairs.filter(|(_, value)| value.abs() > cross.band).count()
        };
        // A test over all lags together can reject where none stands out: then there is nothing to point at.
        if cross.independence < REJECTED && out(true) > 0 {
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!("What is left still follows {}: {} lags leave the band. Part of the dynamics is missing, or the dead time is off.", cross.input, out(true)),
                "χ² test of independence from past inputs at 1 % (Ljung 1999, section 16.6)",
            ));
        }
        // One in a hundred leaves the band by chance, and neighbours leave it together: all are tested as one.
        if cross.feedback < FEEDBACK && out(false) > 3 {
            verdicts.push(Verdict::new(
                Tone::Caution,
                format!(
                    "{} follows what is left over: the data are from a closed loop. Prediction-error structures with a noise model remain \
                     consistent if that noise model is right and the loop has a delay; output-error ones are biased.",
                    cross.input
                ),
                "correlation at negative lags shows feedback (Ljung 1999, section 13.4)",
            ));
        }
    }
    verdicts
}

/// The verdict on a model that could not be held against anything.
pub(super) fn verdict_of_unvalidated() -> Verdict {
    Verdict::new(
        Tone::Caution,
        "Not every input moves in both halves of the data: the model is fitted to all of them and held against nothing. Record further moves to check it.",
        "a model is checked on data that the fit has not seen",
    )
}

/// The verdict on stretches of one fit that the model explains unequally well.
pub(super) fn verdict_of_stretches(model: &Model) -> Option<Verdict> {
    let first = model.first_stretch.as_ref()?;
    let fits = std::iter::once(first).chain(model.further.iter().map(|further| &further.performance));
    let numbered: Vec<(usize, f64)> = fits.enumerate().map(|(k, own)| (k + 1, own.fit_simulated)).collect();
    let worst = numbered.iter().min_by(|a, b| a.1.total_cmp(&b.1))?;
    let best = numbered.iter().max_by(|a, b| a.1.total_cmp(&b.1))?;
    (best.1 - worst.1 > LARGEST_LOSS).then(|| {
        Verdict::new(
            Tone::Caution,
            format!(
                "Stretch {} is explained to {} %, stretch {} to {} %: fit them apart and see whether the process is the same \
                 in both, or whether something else moved in one.",
                worst.0,
                readable(worst.1),
                best.0,
                readable(best.1)
            ),
            "the fit differs by more than 10 points between stretches (common practice)",
        )
    })
}

/// Completes a difference equation or state space that was just fitted: its agreement with the data of the fit, and
/// what it means.
pub(super) fn completed(mut model: Model, stretches: &[DataSet]) -> Result<Model> {
    let (mut simulated, mut ahead) = (Vec::new(), Vec::new());
    for (k, data) in stretches.iter().enumerate() {
        let own = model.in_stretch(k);
        let left = differences(data.output(), &own.simulate_on(data)?[0]);
        let errors = own.prediction_errors_on(data)?.swap_remove(0);
        let alone = Performance::of(data.output(), &left, &errors);
        match k.checked_sub(1).and_then(|k| model.further.get_mut(k)) {
            Some(further) => further.performance = alone,
            None => model.first_stretch = (stretches.len() > 1).then_some(alone),
        }
        simulated.push(left);
        ahead.push(errors);
    }
    model.estimation = performance_together(stretches, simulated, ahead.clone());
    if let Some(matrices) = &model.matrices {
        let (order, inputs, outputs) = (matrices.a.len(), model.inputs.len(), model.outputs.len());
        let squares = ahead.iter().flatten().filter(|e| e.is_finite()).map(|e| e * e).sum();
        model.criteria = Some(Criteria::new(squares, model.estimation.samples, order * (inputs + 2 * outputs)));
    }
    model.verdicts = judge_difference_equation(&model);
    Ok(model)
}

/// Agreement with all stretches, each output about its own mean, from what simulation and prediction leave in each.
fn performance_together(stretches: &[DataSet], simulated: Vec<Vec<f64>>, ahead: Vec<Vec<f64>>) -> Performance {
    if let ([data], [left], [errors]) = (stretches, &simulated[..], &ahead[..]) {
        return Performance::of(data.output(), left, errors);
    }
    let about_mean = |data: &DataSet| {
        let mean = data.output().mean();
        data.output().values.iter().map(|value| value - mean).collect()
    };
    let all = Series { values: apart(stretches.iter().map(about_mean)), ..stretches[0].output().clone() };
    Performance::of(&all, &apart(simulated.into_iter()), &apart(ahead.into_iter()))
}

/// Holds a model against the stretches that it was fitted to.
pub fn validate_together(model: &Model, stretches: &[DataSet]) -> Result<Validation> {
    if let [data] = stretches {
        return validate(model, data, true);
    }
    if model.is_matrix() {
        return matrix::held_against(model, stretches, true);
    }
    let (mut simulated, mut ahead, mut inputs) = (Vec::new(), Vec::new(), vec![Vec::new(); model.inputs.len()]);
    for (k, data) in stretches.iter().enumerate() {
        let own = model.in_stretch(k);
        simulated.push(differences(data.output(), &own.simulate_in(data, true)?[0]));
        ahead.push(own.prediction_errors_in(data, true)?.swap_remove(0));
        inputs.iter_mut().zip(&data.inputs).for_each(|(all, series)| all.push(series.values.clone()));
    }
    let performance = performance_together(stretches, simulated, ahead.clone());
    let errors = apart(ahead.into_iter());
    let inputs: Vec<Vec<f64>> = inputs.into_iter().map(|all| apart(all.into_iter())).collect();
    let named: Vec<(&str, &[f64])> =
        model.inputs.iter().zip(&inputs).map(|(name, values)| (name.tag.as_str(), values.as_slice())).collect();
    let tests = ResidualTests::new(&errors, &named, LAGS, model.parameters.len());
    let verdicts = judge(model, &performance, &tests, true);
    Ok(Validation { performance, tests, verdicts, outputs: Vec::new() })
}

/// The verdict on a difference equation or a state space after its fit.
fn judge_difference_equation(model: &Model) -> Vec<Verdict> {
    let mut verdicts: Vec<Verdict> = verdict_of_stretches(model).into_iter().collect();
    let outside =
        model.poles().iter().filter(|pole| pole.discrete_modulus.is_some_and(|modulus| modulus >= 1.0)).count();
    if outside > 0 {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "{} on or outside the unit circle: the model integrates or is unstable. Fit an integrating structure if the process is one.",
                if outside == 1 { "A pole lies".to_owned() } else { format!("{outside} poles lie") }
            ),
            "a stable difference equation has its poles inside the unit circle (exact)",
        ));
    }
    let unsure: Vec<&str> = model
        .parameters
        .iter()
        .filter(|parameter| parameter.standard_error.is_none_or(|error| error > parameter.value.abs()))
        .map(|parameter| parameter.name.as_str())
        .collect();
    if !unsure.is_empty() {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!("{} cannot be told from 0: lower orders may do.", unsure.join(", ")),
            "standard error above the value",
        ));
    }
    if verdicts.is_empty() {
        verdicts.push(Verdict::new(
            Tone::Good,
            format!(
                "The model explains {} % of the PV's swing from the inputs alone and {} % one sample ahead.",
                readable(model.estimation.fit_simulated),
                readable(model.estimation.fit_one_step)
            ),
            "fit of the simulated and of the one-step output",
        ));
    }
    verdicts
}
