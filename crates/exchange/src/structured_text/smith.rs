//! The block of a Smith predictor: a PID controller on what the PV will be without the dead time.

use super::Block;
use super::pid;
use super::text::{Kind, Text, Unit, Variable, real};
use antistasis_core::Result;
use antistasis_core::controller::{PredictorInScans, SmithSettings};
use antistasis_core::verdict::readable;

/// The block. Errors where the settings or the scan cannot be.
pub(super) fn unit(block: &Block<SmithSettings>) -> Result<Unit> {
    let Block { name, settings, pv_span, scan, .. } = *block;
    pv_span.validate("pv.span")?;
    let model = settings.in_scans(pv_span, scan)?;
    let heading = format!(
        "{name}: Smith predictor over a model of gain {} {} per % and dead time {} s; PID, ideal form, {}. {}",
        readable(settings.model.gain()),
        pv_span.unit,
        readable(settings.model.dead_time()),
        pid::in_words(&settings.pid),
        pid::caller(block),
    );
    let mut unit = Unit::new(name, heading, &pv_span.unit)?;
    pid::declare(&mut unit, &settings.pid, block);
    declare(&mut unit, &model);
    unit.body = pid::body(&settings.pid, block, |text| predict(text, &model), |text| advance(text, &model));
    Ok(unit)
}

/// The states of the model without and with its dead time, numbered from 1.
fn states(model: &PredictorInScans) -> impl Iterator<Item = usize> + use<> {
    1..=model.output.len()
}

fn declare(unit: &mut Unit, model: &PredictorInScans) {
    unit.constants.push(Variable::constant("MODEL_MEMORY", model.memory, "of the filter of what the model misses"));
    unit.constants.push(Variable::constant("MODEL_LEAD", model.lead, "of that filter, scans"));
    for name in ["rest_pv", "rest_op", "prompt", "late", "missed", "last_missed", "led", "first_lag", "second_lag"] {
        unit.locals.push(Variable::real(name));
    }
    for k in states(model) {
        for of in ["prompt", "late", "next"] {
            unit.locals.push(Variable::real(&format!("{of}_{k}")));
        }
    }
    unit.locals.push(Variable::new("moves", Kind::Array(model.delay + 1)));
    unit.locals.push(Variable::new("back", Kind::Whole).begins("0"));
}

/// A sum of products of numbers and variables; 0 where all numbers are.
fn sum(terms: impl Iterator<Item = (f64, String)>) -> String {
    let terms: Vec<String> =
        terms.filter(|(factor, _)| *factor != 0.0).map(|(factor, name)| format!("{} * {name}", real(factor))).collect();
    if terms.is_empty() { "0.0".to_owned() } else { terms.join(" + ") }
}

/// What the PV will be without the dead time takes its place.
fn predict(text: &mut Text, model: &PredictorInScans) {
    let shown = |of: &str| sum(states(model).map(|k| (model.output[k - 1], format!("{of}_{k}"))));
    text.line("");
    text.comment("what the model, which rests where it took over, expects without and with the dead time");
    text.within("IF NOT started THEN", "END_IF;", |text| {
        text.line("rest_pv := measurement;");
        text.line("rest_op := OP_MANUAL;");
    });
    text.line(format!("prompt := {};", shown("prompt")));
    text.line(format!("late := {};", shown("late")));
    text.line("missed := measurement - rest_pv - late;");
    text.line("led := missed + MODEL_LEAD * (missed - last_missed);");
    text.line("first_lag := led + MODEL_MEMORY * (first_lag - led);");
    text.line("second_lag := first_lag + MODEL_MEMORY * (second_lag - first_lag);");
    text.line("last_missed := missed;");
    text.line("measurement := rest_pv + prompt + second_lag;");
}

/// The model a scan later, in which the output acts.
fn advance(text: &mut Text, model: &PredictorInScans) {
    let last = model.delay + 1;
    text.line("");
    text.comment("the model goes on by a scan in which the output acts; the newest move stands at place 0");
    text.within(&format!("FOR back := 0 TO {} DO", last - 1), "END_FOR;", |text| {
        text.line(format!("moves[{last} - back] := moves[{last} - back - 1];"));
    });
    text.line("moves[0] := last_output - rest_op;");
    let mut next = |of: &str, by: &[(&[f64], usize)]| {
        for i in states(model) {
            let own = states(model).map(|j| (model.phi[i - 1][j - 1], format!("{of}_{j}")));
            let moved = by.iter().map(|(factor, place)| (factor[i - 1], format!("moves[{place}]")));
            text.line(format!("next_{i} := {};", sum(own.chain(moved))));
        }
        for i in states(model) {
            text.line(format!("{of}_{i} := next_{i};"));
        }
    };
    next("prompt", &[(&model.prompt, 0)]);
    next("late", &[(&model.early, model.delay + 1), (&model.late, model.delay)]);
}
