//! A predictive controller to begin with, from a plant: its model, horizons and weights, and the seats that it takes.

use crate::controller::ControllerSpec;
use crate::controller::predictive::{
    Cell, ControlledVariable, DisturbanceAt, Drives, Estimated, Learning, MOST_SCANS_AHEAD, ManipulatedVariable,
    MeasuredDisturbance, PredictiveSettings, Shapes, doubling,
};
use crate::instrument::SensorSpec;
use crate::lti::{Discrete, TransferMatrix};
use crate::numerics::rounded;
use crate::process::{
    Description, DetailedSpec, Element, Held, NamedValue, ProcessSpec, StateSpaceSpec, TransferFunctionsSpec, linearise,
};
use crate::simulation::{Candidate, Plant, Started, Wire, Wired, round_down};
use crate::units::Span;
use crate::{Error, Result};
use nalgebra::DMatrix;

/// Most scans that a plant may take to settle, and that its dead times may span, for a proposal at that scan.
const SCANS_TO_SETTLE: f64 = 250.0;
/// A horizon is not shorter, scans.
const LEAST_HORIZON: usize = 10;
const SCANS_OF_DEAD_TIME: f64 = 60.0;
/// Moves of each MV by which it is learnt how strongly it acts, and how far they are, %.
const MOVES_TO_LEARN: f64 = 30.0;
const LEAST_TO_LEARN: f64 = 0.5;
const MOST_TO_LEARN: f64 = 5.0;
/// Of a plant that runs away, in the time in which it does so by e: how far it is looked ahead (beyond that nothing is told), how soon it
/// must be back (a loop must be twice as fast as what it holds: Skogestad & Postlethwaite, Multivariable Feedback Control, section 5.9),
/// and how long a scan may be.
const AHEAD_OF_RUNAWAY: f64 = 5.0;
const BACK_FROM_RUNAWAY: f64 = 0.5;
const SCAN_OF_RUNAWAY: f64 = 0.1;

/// A measured signal or an OP of a plant.
struct OfPlant {
    tag: String,
    /// The output or input of the process: its place among them, and its name.
    place: usize,
    name: String,
    /// The process's units per % of span or of OP.
    per_percent: f64,
}

/// The candidate that a predictive controller over all signals of a plant begins with, scanned every `scan` seconds: as many CVs as there
/// are OPs are led to their set points, further ones only shown. `known` are inputs of the process that are measured.
///
/// The model is the plant's own process with its sensors, linear about where it rests; the horizon reaches until everything has settled;
/// every CV is led back about as fast as its dead time allows, and MVs are as calm as that asks for; an MV that moves no CV most rests
/// where it stands now (choices of this project).
pub fn begin_predictive(plant: &Plant, scan: f64, known: &[String]) -> Result<Candidate> {
    let started = started_at_rest(plant)?;
    let description = started.process.description().clone();
    let (outputs, inputs) = signals_of(plant, &started, &description);
    let model = model(plant, &started, [&outputs, &inputs], known, &[])?;
    let matrix = transfer_matrix(&model, &outputs, &inputs, known)?;
    let discrete = Discrete::of(&matrix, scan)?;
    let (cvs, mvs) = (outputs.len(), inputs.len());
    let responses: Vec<DMatrix<f64>> = (0..mvs).map(|j| discrete.step_response(j, MOST_SCANS_AHEAD)).collect();
    let shapes = Shapes::of(&responses, cvs);
    let runaway = runaway(&matrix).map(|time| time / scan);
    let horizon = runaway.map_or(shapes.horizon, |time| {
        let far = (AHEAD_OF_RUNAWAY * time + matrix.longest_dead_time() / scan).ceil() as usize;
        shapes.horizon.min(far.max(LEAST_HORIZON))
    });
    let back_after =
        |k: usize| runaway.map_or(f64::INFINITY, |time| BACK_FROM_RUNAWAY * time).min(shapes.back_after(k));
    let mut settings = PredictiveSettings {
        model,
        cvs: Vec::new(),
        mvs: Vec::new(),
        inputs: Default::default(),
        dvs: known
            .iter()
            .map(|name| MeasuredDisturbance {
                signal: plant.signal_of_input(name).to_owned(),
                input: name.clone(),
                known_ahead: false,
            })
            .collect(),
        horizon: horizon as f64 * scan,
        moves: doubling(horizon / 2, mvs),
        beyond_horizon: true,
        learns: None,
        most_steps: 400,
    };
    let mut disturbed: Vec<usize> = Vec::new();
    for (k, output) in outputs.iter().enumerate() {
        let by = shapes.strongest(k);
        let Cell { dead, lag, .. } = *shapes.cell(k, by);
        // What is slow beside its dead time is disturbed where it is moved: at its output a load would be believed as slowly as it shows.
        let at_input = lag > dead && !disturbed.contains(&by);
        if at_input {
            disturbed.push(by);
        }
        settings.cvs.push(ControlledVariable {
            tag: output.tag.clone(),
            output: output.name.clone(),
            estimated: None,
            follows_set_point: k < mvs,
            set_point_known_ahead: false,
            low: None,
            high: None,
            bands: Vec::new(),
            response_time: rounded(back_after(k) * scan, 3),
            weight: 1.0,
            disturbance: at_input.then(|| DisturbanceAt::Input(inputs[by].name.clone())),
            believed_after: None,
        });
    }
    let at_start: Vec<f64> =
        std::iter::once(started.op).chain(plant.further_driven.iter().map(|one| one.at_start)).collect();
    for (j, input) in inputs.iter().enumerate() {
        // The move that brings a CV back by 1 % of span as soon as it should be, of the CV that asks for the largest.
        let asked = (0..cvs.min(mvs)).map(|k| {
            let (own, strongest) = (shapes.cell(k, j), shapes.cell(k, shapes.strongest(k)));
            // What runs away looks late beside what it comes to in the end: only what is dead is.
            let dead = runaway.map_or(own.dead, |_| matrix.longest_dead_time() / scan);
            let after = ((dead + back_after(k)).round() as usize).clamp(1, MOST_SCANS_AHEAD);
            let moved = responses[j][(after - 1, k)].abs();
            if own.gain.abs() > 0.1 * strongest.gain.abs() && moved > 0.0 { moved.recip() } else { 0.0 }
        });
        let usual_move = rounded(asked.fold(0.0, f64::max).clamp(0.05, 20.0), 2);
        settings.mvs.push(ManipulatedVariable {
            tag: input.tag.clone(),
            input: input.name.clone(),
            low: 0.0,
            high: 100.0,
            rate: None,
            usual_move,
            follows_within: None,
            rests_at: (0..cvs).all(|k| shapes.strongest(k) != j).then_some(at_start[j]),
            cost: 0.0,
            drives: None,
        });
    }
    Ok(Candidate { further: seats(plant), ..Candidate::new(ControllerSpec::Predictive(Box::new(settings))) })
}

/// The same settings with the equations of the plant itself for a model, where these are not linear: what leads the signals, what limits
/// them and what is known of them stays; nothing counts beyond the horizon. What an OP does is taken as straight as it is where the plant
/// starts, and sensors as prompt. Errors where the process is linear, or an MV is no OP of the plant.
pub fn with_equations(plant: &Plant, settings: &PredictiveSettings) -> Result<PredictiveSettings> {
    if plant.process.linear_process(&plant.pv.span.unit)?.is_some() {
        return Err(Error::unfit(
            "the process of the plant is linear",
            "a linear model, which this controller has already, says all there is",
        ));
    }
    let started = plant.start()?;
    let description = started.process.description();
    let (outputs, inputs) = signals_of(plant, &started, description);
    let mut with =
        PredictiveSettings { model: plant.process.clone(), beyond_horizon: false, learns: None, ..settings.clone() };
    with.inputs = description
        .inputs
        .iter()
        .zip(&started.inputs)
        .filter(|(known, value)| known.value != **value)
        .map(|(known, value)| (known.name.clone(), *value))
        .collect();
    let ops: Vec<f64> =
        std::iter::once(started.op).chain(plant.further_driven.iter().map(|one| one.at_start)).collect();
    let mut renamed: Vec<(String, String)> = Vec::new();
    for (k, mv) in with.mvs.iter_mut().enumerate() {
        let at = of_tag(&inputs, &mv.tag, || format!("controller.mvs[{k}].tag"))?;
        let own = &inputs[at];
        let at_0 = started.inputs[own.place] - own.per_percent * ops[at];
        renamed.push((std::mem::replace(&mut mv.input, own.name.clone()), own.name.clone()));
        mv.drives = Some(Drives { at_0, at_100: at_0 + 100.0 * own.per_percent });
    }
    note_estimated(&mut with, &started)?;
    for (k, cv) in with.cvs.iter_mut().enumerate().filter(|(_, cv)| cv.is_measured()) {
        let at = of_tag(&outputs, &cv.tag, || format!("controller.cvs[{k}].tag"))?;
        cv.output.clone_from(&outputs[at].name);
        if let Some(DisturbanceAt::Input(name)) = &mut cv.disturbance
            && let Some((_, now)) = renamed.iter().find(|(before, _)| before == name)
        {
            name.clone_from(now);
        }
    }
    if with.cvs.iter().any(|cv| cv.follows_set_point) {
        with.mvs.iter_mut().for_each(|mv| mv.cost = 0.0);
    }
    with.validate().map(|()| with)
}

/// The same settings with one CV more, an output of the process that nothing measures: it is estimated, and can be given limits. The model
/// is told anew: the equations of the plant, or a linear one. Errors where the process has no such output, or that is a CV already.
pub fn with_estimated(
    plant: &Plant,
    scan: f64,
    settings: &PredictiveSettings,
    equations: bool,
    output: &str,
) -> Result<PredictiveSettings> {
    let started = plant.start()?;
    let description = started.process.description();
    let (measured, _) = signals_of(plant, &started, description);
    let place = Description::position(&description.outputs, output, "estimated")?;
    if let Some(signal) = measured.iter().find(|signal| signal.place == place) {
        let sentence = format!("{output} is measured, as {}: give that its limits.", signal.tag);
        return Err(Error::said("estimated", sentence));
    }
    if let Some(cv) = settings.cvs.iter().find(|cv| cv.output == output) {
        return Err(Error::said("estimated", format!("{output} is a CV already, {}.", cv.tag)));
    }
    let (unit, at_start) = (&description.outputs[place].unit, outputs_of(&started)[place]);
    let of_its_unit = plant.measured_spans().into_iter().find(|span| span.unit == *unit).cloned();
    let about = || {
        let far = 2.0 * rounded(at_start.abs().max(1e-3), 1);
        if at_start < 0.0 { Span::new(-far, 0.0, unit) } else { Span::new(0.0, far, unit) }
    };
    let mut with = settings.clone();
    with.cvs.push(ControlledVariable {
        tag: output.to_owned(),
        output: output.to_owned(),
        estimated: Some(Estimated { span: of_its_unit.unwrap_or_else(about), at_start }),
        follows_set_point: false,
        set_point_known_ahead: false,
        low: None,
        high: None,
        bands: Vec::new(),
        response_time: settings.cvs.iter().map(|cv| cv.response_time).fold(0.0, f64::max),
        weight: 1.0,
        disturbance: None,
        believed_after: None,
    });
    if equations { with_equations(plant, &with) } else { with_linear_model(plant, scan, &with) }
}

/// All outputs of the process where the plant starts.
fn outputs_of(started: &Started) -> Vec<f64> {
    let mut outputs = vec![0.0; started.process.description().outputs.len()];
    started.process.outputs(&started.state, &started.inputs, Held::default(), &mut outputs);
    outputs
}

/// Notes what CVs that nothing measures are where the plant starts; returns the outputs of the process that they are. Errors where it has
/// none of that name.
fn note_estimated(settings: &mut PredictiveSettings, started: &Started) -> Result<Vec<usize>> {
    let (outputs, mut places) = (outputs_of(started), Vec::new());
    for (k, cv) in settings.cvs.iter_mut().enumerate() {
        let Some(estimated) = &mut cv.estimated else { continue };
        let known = &started.process.description().outputs;
        let place = Description::position(known, &cv.output, &format!("controller.cvs[{k}].output"))?;
        estimated.at_start = outputs[place];
        places.push(place);
    }
    Ok(places)
}

/// The same settings, learning how strongly the MVs act. Each move is held for three quarters of the time that the slowest CV takes to
/// 63 %, thirty of them are made of each MV, and each moves some CV by a hundredth of its span in the end (choices of this project).
/// Errors where a CV or MV is no signal of the plant, or nothing is moved.
pub fn with_learning(plant: &Plant, scan: f64, settings: &PredictiveSettings) -> Result<PredictiveSettings> {
    let started = plant.start()?;
    let (outputs, _) = signals_of(plant, &started, started.process.description());
    let shapes = settings.shapes(scan)?;
    let (mut slowest, mut effect) = (0.0f64, vec![0.0f64; settings.mvs.len()]);
    for (k, cv) in settings.cvs.iter().enumerate().filter(|(_, cv)| cv.is_measured()) {
        let at = of_tag(&outputs, &cv.tag, || format!("controller.cvs[{k}].tag"))?;
        let Cell { dead, lag, .. } = shapes.cell(k, shapes.strongest(k));
        slowest = slowest.max(dead + lag);
        for (mv, most) in effect.iter_mut().enumerate() {
            *most = most.max(shapes.cell(k, mv).gain.abs() / outputs[at].per_percent);
        }
    }
    let weakest = effect.iter().copied().fold(f64::INFINITY, f64::min);
    if weakest <= 0.0 {
        return Err(Error::unfit("an MV moves no CV that is measured", "leave it out, or look further ahead"));
    }
    let clock = rounded((0.75 * slowest).round().max(2.0) * scan, 2);
    let amplitude = rounded((1.0 / weakest).clamp(LEAST_TO_LEARN, MOST_TO_LEARN), 2);
    let learns = Learning { lasts: rounded(MOVES_TO_LEARN * clock, 2), amplitude, clock, again_after: None, seed: 0 };
    let with = PredictiveSettings { learns: Some(learns), ..settings.clone() };
    with.validate()?;
    Ok(with)
}

/// The same settings with the linear model that a predictive controller of this plant begins with, about where the plant rests. Errors where
/// the plant does not rest, or a CV or MV is no signal of it.
pub fn with_linear_model(plant: &Plant, scan: f64, settings: &PredictiveSettings) -> Result<PredictiveSettings> {
    let known: Vec<String> = settings.dvs.iter().map(|dv| dv.input.clone()).collect();
    let started = started_at_rest(plant)?;
    let (outputs, inputs) = signals_of(plant, &started, started.process.description());
    let mut with = PredictiveSettings { inputs: Default::default(), beyond_horizon: true, ..settings.clone() };
    let beside = note_estimated(&mut with, &started)?;
    with.model = model(plant, &started, [&outputs, &inputs], &known, &beside)?;
    for (k, cv) in with.cvs.iter_mut().enumerate().filter(|(_, cv)| cv.is_measured()) {
        let at = of_tag(&outputs, &cv.tag, || format!("controller.cvs[{k}].tag"))?;
        cv.output.clone_from(&outputs[at].name);
        // A linear model has no parameters that could drift.
        cv.disturbance = cv.disturbance.take().filter(|place| !matches!(place, DisturbanceAt::Parameter(_)));
    }
    for (k, mv) in with.mvs.iter_mut().enumerate() {
        let at = of_tag(&inputs, &mv.tag, || format!("controller.mvs[{k}].tag"))?;
        mv.input.clone_from(&inputs[at].name);
        mv.drives = None;
    }
    with.scans_ahead(scan)?;
    with.validate().map(|()| with)
}

/// Which of the signals has this tag. Errors where none has, naming the field.
fn of_tag(all: &[OfPlant], tag: &str, field: impl Fn() -> String) -> Result<usize> {
    let known = || all.iter().map(|one| one.tag.as_str()).collect::<Vec<_>>().join(", ");
    all.iter().position(|one| one.tag == tag).ok_or_else(|| Error::invalid(field(), format!("“{tag}”"), known()))
}

/// A plant where it starts. Errors where that is no state of rest.
fn started_at_rest(plant: &Plant) -> Result<Started> {
    let started = plant.start()?;
    if !started.at_rest {
        return Err(Error::unfit(
            "the plant does not start at rest",
            "choose a steady state: the model is linear about one",
        ));
    }
    Ok(started)
}

/// The scan that a predictive controller of a plant is proposed with: `scan`, where that is not so short that the plant takes too many of
/// them to answer; else a hundredth of what it takes to settle, or a fortieth of its dead time, rounded down.
pub fn predictive_scan(plant: &Plant, scan: f64) -> Result<f64> {
    let started = plant.start()?;
    let (outputs, inputs) = signals_of(plant, &started, started.process.description());
    let model = model(plant, &started, [&outputs, &inputs], &[], &[])?;
    let matrix = transfer_matrix(&model, &outputs, &inputs, &[])?;
    let lags = matrix.poles().into_iter().map(|pole| pole.re.abs()).filter(|rate| *rate > 1e-9).map(f64::recip);
    let dead = matrix.longest_dead_time();
    let settles = dead + 4.0 * lags.fold(0.0, f64::max);
    let bears = scan * SCANS_TO_SETTLE >= settles && scan * SCANS_OF_DEAD_TIME >= dead;
    let longest = runaway(&matrix).map_or(f64::INFINITY, |time| SCAN_OF_RUNAWAY * time);
    Ok(if bears { scan } else { round_down((settles / 100.0).max(dead / 40.0).min(longest)).max(scan) })
}

/// The shortest time in which something in a model runs away by e, s; None where nothing does.
fn runaway(matrix: &TransferMatrix) -> Option<f64> {
    let fastest = matrix.poles().into_iter().map(|pole| pole.re).fold(0.0, f64::max);
    (fastest > 1e-9).then(|| fastest.recip())
}

/// The measured signals and OPs of a plant.
fn signals_of(plant: &Plant, started: &Started, description: &Description) -> (Vec<OfPlant>, Vec<OfPlant>) {
    let measured = plant.measured_tags().into_iter().zip(plant.measured_spans()).zip(started.measured_outputs());
    let outputs = measured.map(|((tag, span), place)| OfPlant {
        tag: tag.to_owned(),
        place,
        name: description.outputs[place].name.clone(),
        per_percent: span.width() / 100.0,
    });
    let driven = plant.op_tags().into_iter().zip(started.driven_inputs(plant));
    let inputs = driven.map(|(tag, (place, per_percent))| OfPlant {
        tag: tag.to_owned(),
        place,
        name: description.inputs[place].name.clone(),
        per_percent,
    });
    (outputs.collect(), inputs.collect())
}

/// The process about where it rests, its inputs in % of OP, with the sensors, and with the outputs at places `beside`, which nothing
/// measures: transfer functions where everything settles or there is one of
/// each, else a state space, in which nothing is told twice.
fn model(
    plant: &Plant,
    started: &Started,
    [outputs, inputs]: [&[OfPlant]; 2],
    known: &[String],
    beside: &[usize],
) -> Result<ProcessSpec> {
    let process = started.process.as_ref();
    let description = process.description();
    let linear = linearise(process, &started.state, &started.inputs)?;
    let sensors: Vec<&SensorSpec> =
        std::iter::once(&plant.sensor).chain(plant.further_measured.iter().map(|one| &one.sensor)).collect();
    // What the plant itself has made of the lags of its sensors is part of the process already.
    let inside = started.lag_inside;
    let named = |name: &str, unit: &str, value: f64| NamedValue {
        name: name.to_owned(),
        unit: unit.to_owned(),
        value,
        low: None,
        high: None,
    };
    let rest = outputs_of(started);
    let places: Vec<usize> = outputs.iter().map(|one| one.place).chain(beside.iter().copied()).collect();
    let output = |place: &usize| {
        let known = &description.outputs[*place];
        named(&known.name, &known.unit, rest[*place])
    };
    let of_outputs = places.iter().map(output).collect();
    let of_known = known.iter().map(|name| {
        let place = Description::position(&description.inputs, name, "measured.input")?;
        Ok(named(name, &description.inputs[place].unit, started.inputs[place]))
    });
    let of_inputs =
        inputs.iter().map(|one| Ok(named(&one.name, "%", 0.0))).chain(of_known).collect::<Result<Vec<_>>>()?;
    let rate = |input: &str| inputs.iter().find(|one| one.name == input).map_or(1.0, |one| one.per_percent);
    let wanted = |input: &str| inputs.iter().any(|one| one.name == input) || known.iter().any(|name| name == input);
    let settles = linear.poles.iter().all(|pole| pole.re < -1e-9);
    if settles || (outputs.len() == 1 && inputs.len() + known.len() == 1) {
        let mut elements = Vec::new();
        for channel in linear.channels.iter().filter(|channel| wanted(&channel.input)) {
            let is_it = |place: &usize| description.outputs[*place].name == channel.output;
            let Some(k) = places.iter().position(is_it) else { continue };
            // What nothing measures has no sensor that lags.
            let sensor = sensors.get(k);
            let mut denominator = channel.denominator.clone();
            if let (Some(sensor), false) = (sensor, inside) {
                for lag in lags(sensor)? {
                    denominator = times_lag(&denominator, lag);
                }
            }
            elements.push(Element {
                output: channel.output.clone(),
                input: channel.input.clone(),
                numerator: channel.numerator.iter().map(|value| value * rate(&channel.input)).collect(),
                denominator,
                dead_time: channel.dead_time + sensor.map_or(0.0, |sensor| sensor.dead_time),
            });
        }
        return Ok(DetailedSpec::TransferFunctions(TransferFunctionsSpec {
            inputs: of_inputs,
            outputs: of_outputs,
            elements,
        })
        .into());
    }
    if sensors.iter().any(|sensor| sensor.dead_time > 0.0 || (!inside && sensor.time_constant > 0.0)) {
        return Err(Error::unfit(
            "something in the plant does not settle by itself, and a sensor has a lag or a dead time",
            "leave them out, or give the predictive controller a model of your own",
        ));
    }
    let ports = process.ports();
    let names: Vec<&str> = inputs.iter().map(|one| one.name.as_str()).chain(known.iter().map(String::as_str)).collect();
    let port_of = |name: &str| {
        let mut found = ports.iter().enumerate().filter(|(_, port)| description.inputs[port.input].name == name);
        match (found.next(), found.next()) {
            (Some((k, _)), None) => Ok(k),
            _ => Err(Error::unfit(
                format!("{name} acts in several ways"),
                "give the predictive controller a model of your own",
            )),
        }
    };
    let columns: Vec<usize> = names.iter().map(|name| port_of(name)).collect::<Result<_>>()?;
    let pick = |matrix: &[Vec<f64>], rows: &mut dyn Iterator<Item = usize>| -> Vec<Vec<f64>> {
        rows.map(|i| columns.iter().zip(&names).map(|(j, name)| matrix[i][*j] * rate(name)).collect()).collect()
    };
    let n = linear.a.len();
    Ok(DetailedSpec::StateSpace(StateSpaceSpec {
        inputs: of_inputs,
        outputs: of_outputs,
        b: pick(&linear.b, &mut (0..n)),
        c: places.iter().map(|place| linear.c[*place].clone()).collect(),
        d: pick(&linear.d, &mut places.iter().copied()),
        dead_times: columns.iter().map(|port| ports[*port].dead_time.seconds()).collect(),
        a: linear.a,
    })
    .into())
}

/// The time constants of a sensor's lag.
fn lags(sensor: &SensorSpec) -> Result<Vec<f64>> {
    Plant::lags_of(sensor)
        .ok_or_else(|| Error::unfit("a sensor swings by itself", "give the predictive controller a model of your own"))
}

/// A polynomial times `τs + 1`, the highest power first.
fn times_lag(polynomial: &[f64], time_constant: f64) -> Vec<f64> {
    let mut product = vec![0.0; polynomial.len() + 1];
    for (k, value) in polynomial.iter().enumerate() {
        product[k] += value * time_constant;
        product[k + 1] += value;
    }
    product
}

/// From the MVs, and what is known besides, to the CVs in % of span.
fn transfer_matrix(
    model: &ProcessSpec,
    outputs: &[OfPlant],
    inputs: &[OfPlant],
    known: &[String],
) -> Result<TransferMatrix> {
    let Some(linear) = model.linear_process("")? else {
        return Err(Error::unfit("the model is not linear", "give the predictive controller a model of your own"));
    };
    let outputs: Vec<(usize, f64)> = outputs.iter().enumerate().map(|(k, one)| (k, one.per_percent.recip())).collect();
    let inputs: Vec<(usize, f64)> = (0..inputs.len() + known.len()).map(|j| (j, 1.0)).collect();
    Ok(linear.transfer_matrix().part(&outputs, &inputs))
}

/// The seats beside the first: every further measured signal with the OP of its name, or the next that is free.
fn seats(plant: &Plant) -> Vec<Wired> {
    let loop_of = |tag: &str| tag.rsplit_once('.').map_or(tag, |(of, _)| of).to_owned();
    let seat = |name: String, measures: String, sets: Vec<Wire>| Wired {
        name,
        measures,
        sets,
        controller: ControllerSpec::Seat,
        set_point_tracking: false,
    };
    let mut free: Vec<&str> = plant.further_driven.iter().map(|one| one.tag.as_str()).collect();
    let mut seats = Vec::new();
    let own: Vec<Option<usize>> =
        plant.further_measured.iter().map(|one| free.iter().position(|op| loop_of(op) == loop_of(&one.tag))).collect();
    let taken: Vec<&str> = own.iter().flatten().map(|k| free[*k]).collect();
    let matched: Vec<Option<&str>> = own.iter().map(|k| k.map(|k| free[k])).collect();
    free.retain(|op| !taken.contains(op));
    let mut free = free.into_iter();
    for (one, op) in plant.further_measured.iter().zip(matched) {
        let op = op.or_else(|| free.next());
        seats.push(seat(loop_of(&one.tag), one.tag.clone(), op.map(Wire::to).into_iter().collect()));
    }
    for op in free {
        // What only moves something is called after that.
        seats.push(seat(op.to_owned(), plant.pv.tag.clone(), vec![Wire::to(op)]));
    }
    // Names that are taken are told apart.
    let mut names = vec![plant.loop_tag().to_owned()];
    for seat in &mut seats {
        if names.contains(&seat.name) {
            seat.name = format!("{} ({})", seat.name, names.len() + 1);
        }
        names.push(seat.name.clone());
    }
    seats
}
