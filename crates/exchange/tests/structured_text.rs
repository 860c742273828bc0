//! Function blocks in Structured Text, run by an interpreter of its own, against the controllers of the core.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code)]

#[path = "support/interpreter.rs"]
mod interpreter;

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{Believed, PredictiveSettings, RankedLimit};
use antistasis_core::controller::{
    Action, Algorithm, AntiWindup, Controller, FeedForward, GainSchedule, OutputLimits, Pid, PidSettings, Reading,
    SchedulePoint, ScheduledOver, Smith, SmithSettings,
};
use antistasis_core::process::LinearSpec;
use antistasis_core::simulation::{Event, Select, Trace, Trial};
use antistasis_core::units::Span;
use antistasis_exchange::structured_text::{Block, ControllersAsText, function_block, smith_block, trial_as_text};
use interpreter::{FunctionBlock, Value};
use proptest::prelude::*;
use serde_json::json;

fn span() -> Span {
    Span::new(-20.0, 130.0, "°C")
}

fn text_of(settings: &PidSettings, scan: f64) -> String {
    function_block(&Block { name: "TIC-204", settings, pv_span: &span(), scan, is_wired: false }).unwrap()
}

/// Set point, PV, the signals of schedule and feed-forward, whether it is in manual, and what is set by hand, call by call.
type Course = [(f64, f64, f64, f64, bool, f64)];

/// The largest difference between a block and a controller of the core with these settings over a course.
fn between(text: &str, pid: &mut dyn Controller, settings: &PidSettings, course: &Course) -> f64 {
    let mut block = FunctionBlock::read(text);
    let span = span();
    let by_signal = matches!(settings.schedule.as_ref().map(|own| &own.over), Some(ScheduledOver::Signal(_)));
    let mut largest: f64 = 0.0;
    for (k, (set_point, pv, scheduled, fed, manual, by_hand)) in course.iter().enumerate() {
        let mut further = Vec::new();
        further.extend(by_signal.then_some(*scheduled));
        further.extend(settings.feed_forward.is_some().then_some(*fed));
        let reading =
            Reading { set_point: span.to_percent(*set_point), measurement: span.to_percent(*pv), further: &further };
        let expected = if *manual || k == 0 {
            pid.track(reading, *by_hand);
            *by_hand
        } else {
            pid.scan(reading)
        };
        let mut inputs = vec![
            ("PV", Value::Real(*pv)),
            ("SP", Value::Real(*set_point)),
            ("MANUAL", Value::Logical(*manual)),
            ("OP_MANUAL", Value::Real(*by_hand)),
        ];
        if by_signal {
            inputs.push(("SCHEDULED_BY", Value::Real(*scheduled)));
        }
        if settings.feed_forward.is_some() {
            inputs.push(("FED_FORWARD", Value::Real(*fed)));
        }
        let op = block.call(&inputs);
        largest = largest.max((op - expected).abs() / (1.0 + expected.abs()));
    }
    largest
}

/// The same of a PID controller.
fn difference(settings: &PidSettings, scan: f64, course: &Course) -> f64 {
    between(&text_of(settings, scan), &mut Pid::new(settings, scan).unwrap(), settings, course)
}

fn model() -> impl Strategy<Value = LinearSpec> {
    let (gain, lag, dead_time) = (0.2..4.0f64, 2.0..80.0f64, 0.0..60.0f64);
    (gain, lag.clone(), lag, dead_time, 0usize..3).prop_map(|(gain, time_constant, second, dead_time, kind)| match kind
    {
        0 => LinearSpec::Fopdt { gain, time_constant, dead_time },
        1 => LinearSpec::TwoLags {
            gain,
            time_constant_1: time_constant,
            time_constant_2: second,
            lead_time_constant: 0.0,
            dead_time,
        },
        _ => LinearSpec::Integrating { gain: 0.1 * gain, dead_time },
    })
}

fn schedule() -> impl Strategy<Value = Option<GainSchedule>> {
    let over = prop_oneof![
        Just(ScheduledOver::Measurement),
        Just(ScheduledOver::SetPoint),
        Just(ScheduledOver::Error),
        Just(ScheduledOver::Output),
        Just(ScheduledOver::Signal("feed".to_owned())),
    ];
    let point = (1.0..30.0f64, 0.3..3.0f64, 0.5..2.0f64);
    let some = (over, -10.0..30.0f64, proptest::collection::vec(point, 2..5)).prop_map(|(over, start, points)| {
        let mut at = start;
        let points = points.into_iter().map(|(further, gain_factor, time_factor)| {
            at += further;
            SchedulePoint { at, gain_factor, time_factor }
        });
        GainSchedule { over, points: points.collect() }
    });
    prop_oneof![Just(None), some.prop_map(Some)]
}

fn forward() -> impl Strategy<Value = Option<FeedForward>> {
    let some = (-2.0..2.0f64, 0.0..20.0f64, prop_oneof![Just(0.0), 0.5..30.0f64], 0.0..12.0f64).prop_map(
        |(gain, lead, lag, delay)| FeedForward {
            signal: "feed".to_owned(),
            gain,
            lead: if lag > 0.0 { lead } else { 0.0 },
            lag,
            delay,
        },
    );
    prop_oneof![Just(None), some.prop_map(Some)]
}

fn settings() -> impl Strategy<Value = PidSettings> {
    let terms =
        (0.05..8.0f64, prop_oneof![Just(None), (0.5..200.0f64).prop_map(Some)], prop_oneof![Just(0.0), 0.1..30.0f64]);
    let weights = (0.0..1.0f64, 0.0..1.0f64, 1.0..20.0f64, any::<bool>());
    let filter = (prop_oneof![Just(0.0), 0.1..20.0f64], prop_oneof![Just(0.0), 0.1..10.0f64], 0.0..1.0f64);
    let guard = (
        0usize..4,
        any::<bool>(),
        prop_oneof![Just(None), (0.1..10.0f64).prop_map(Some)],
        prop_oneof![Just(None), (1.0..100.0f64).prop_map(Some)],
    );
    let limits = (0.0..30.0f64, 60.0..100.0f64);
    (terms, weights, filter, guard, limits, schedule(), forward()).prop_map(
        |(
            (gain, integral_time, derivative_time),
            (b, c, n, direct),
            (filter_time, gap, gap_gain),
            (way, velocity, rate_limit, tracking_time),
            (low, high),
            schedule,
            feed_forward,
        )| {
            PidSettings {
                integral_time,
                derivative_time,
                derivative_filter: n,
                set_point_weight: b,
                derivative_set_point_weight: c,
                action: if direct { Action::Direct } else { Action::Reverse },
                filter_time,
                gap,
                gap_gain,
                anti_windup: [
                    AntiWindup::None,
                    AntiWindup::Conditional,
                    AntiWindup::Clamping,
                    AntiWindup::BackCalculation,
                ][way],
                algorithm: if velocity { Algorithm::Velocity } else { Algorithm::Positional },
                rate_limit,
                tracking_time,
                output_limits: OutputLimits { low, high },
                schedule,
                feed_forward,
                ..PidSettings::pi(gain, 1.0)
            }
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    /// Whatever is chosen of a PID controller, whatever comes: the text does what the core does, in automatic, in manual, at limits.
    #[test]
    fn a_block_does_what_the_core_does(
        settings in settings(),
        scan in 0.05..5.0f64,
        course in proptest::collection::vec(
            (-20.0..130.0f64, -20.0..130.0f64, -20.0..120.0f64, -30.0..30.0f64, proptest::bool::weighted(0.15), 0.0..100.0f64),
            30..80,
        ),
    ) {
        prop_assume!(settings.validate().is_ok());
        let largest = difference(&settings, scan, &course);
        prop_assert!(largest < 1e-12, "{largest}\n{}", text_of(&settings, scan));
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// A Smith predictor over a lag, two lags or an integrator, its dead time no whole number of scans, its filter on or off.
    #[test]
    fn a_block_predicts_what_the_core_predicts(
        pid in settings(),
        model in model(),
        filter_time in prop_oneof![Just(0.0), 1.0..40.0f64],
        scan in 0.5..5.0f64,
        course in proptest::collection::vec(
            (-20.0..130.0f64, -20.0..130.0f64, -20.0..120.0f64, -30.0..30.0f64, proptest::bool::weighted(0.1), 0.0..100.0f64),
            40..80,
        ),
    ) {
        // The action must suit the model, whose gain is positive.
        let pid = PidSettings { action: Action::Reverse, ..pid };
        let settings = SmithSettings { pid, model, filter_time };
        prop_assume!(settings.validate().is_ok());
        let text = smith_block(&Block { name: "TIC-204", settings: &settings, pv_span: &span(), scan, is_wired: false }).unwrap();
        let largest = between(&text, &mut Smith::new(&settings, &span(), scan).unwrap(), &settings.pid, &course);
        prop_assert!(largest < 1e-10, "{largest}\n{text}");
    }
}

/// What an XML has between two tags, with its entities read.
fn inside<'a>(xml: &'a str, open: &str, close: &str) -> Vec<&'a str> {
    xml.split(open)
        .skip(1)
        .map(|rest| &rest[..rest.find(close).unwrap_or_else(|| panic!("{close} is missing"))])
        .collect()
}

fn unescaped(text: &str) -> String {
    text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&apos;", "'").replace("&amp;", "&")
}

/// The attribute of a tag.
fn attribute<'a>(tag: &'a str, name: &str) -> Option<&'a str> {
    let begin = tag.find(&format!("{name}=\""))? + name.len() + 2;
    tag[begin..].split('"').next()
}

/// A block put together again from the XML of PLCopen.
fn from_plcopen(pou: &str) -> String {
    let mut text = format!("FUNCTION_BLOCK {}\n", attribute(pou, "name").unwrap());
    let lists = [
        ("<inputVars>", "</inputVars>", "VAR_INPUT"),
        ("<outputVars>", "</outputVars>", "VAR_OUTPUT"),
        ("<localVars constant=\"true\">", "</localVars>", "VAR CONSTANT"),
        ("<localVars>", "</localVars>", "VAR"),
    ];
    for (open, close, kind) in lists {
        text += &format!("{kind}\n");
        for variable in inside(inside(pou, open, close)[0], "<variable ", "</variable>") {
            let plain = ["LREAL", "INT", "BOOL"].into_iter().find(|kind| variable.contains(&format!("<{kind}/>")));
            let derived = || variable.split("<derived ").nth(1).and_then(|one| attribute(one, "name"));
            let plain = plain.or_else(derived).unwrap();
            let kind = match attribute(variable, "upper") {
                Some(upper) => format!("ARRAY[0..{upper}] OF {plain}"),
                None => plain.to_owned(),
            };
            let values: Vec<&str> =
                variable.split("<simpleValue ").skip(1).map(|one| attribute(one, "value").unwrap()).collect();
            let initial = match values.join(", ") {
                values if values.is_empty() => values,
                values if variable.contains("<arrayValue>") => format!(" := [{values}]"),
                values => format!(" := {values}"),
            };
            text += &format!("{} : {kind}{initial};\n", attribute(variable, "name").unwrap());
        }
        text += "END_VAR\n";
    }
    text + &unescaped(inside(inside(pou, "<ST>", "</ST>")[0], "<xhtml:p>", "</xhtml:p>")[0]) + "END_FUNCTION_BLOCK\n"
}

/// One loop or two coupled ones under a predictive controller whose MVs alone have limits: gains, time constants and dead times in scans of
/// 1 s, a rate where there is one, and how far the MVs may go.
fn planned(loops: usize, cells: &[(f64, f64, f64)], rate: Option<f64>, low: f64, integrates: bool) -> Trial {
    let all = 1..=loops;
    let named = |letter: &str, unit: &str| {
        all.clone().map(|k| json!({ "name": format!("{letter}{k}"), "unit": unit, "value": 50.0 })).collect::<Vec<_>>()
    };
    let elements: Vec<_> = all
        .clone()
        .flat_map(|i| all.clone().map(move |j| (i, j)))
        .zip(cells)
        .map(|((i, j), (gain, time, dead))| {
            let denominator = if integrates && i == j { json!([1.0, 0.0]) } else { json!([time, 1.0]) };
            let gain = if integrates && i == j { 0.05 * gain } else { *gain };
            json!({ "output": format!("y{i}"), "input": format!("u{j}"), "numerator": [gain], "denominator": denominator,
                    "dead_time": dead })
        })
        .collect();
    let process = json!({ "structure": "transfer_functions", "inputs": named("u", "%"), "outputs": named("y", "°C"),
                          "elements": elements });
    let span = |k: usize| json!({ "low": -20.0 * k as f64, "high": 100.0 + 30.0 * k as f64, "unit": "°C" });
    let cvs: Vec<_> = all
        .clone()
        .map(|k| json!({ "tag": format!("TIC-{k}.PV"), "output": format!("y{k}"), "response_time": 3.0 * k as f64 }))
        .collect();
    let mvs: Vec<_> = all
        .clone()
        .map(|k| {
            json!({ "tag": format!("TIC-{k}.OP"), "input": format!("u{k}"), "usual_move": 2.0, "low": low,
                         "high": 90.0, "rate": rate })
        })
        .collect();
    let mut plant = json!({
        "process": process,
        "pv": { "tag": "TIC-1.PV", "span": span(1) },
        "op": { "tag": "TIC-1.OP", "span": { "low": 0.0, "high": 100.0, "unit": "%" } },
        "operating_point": { "pv": 60.0, "op": 45.0 },
    });
    let mut further = Vec::new();
    if loops == 2 {
        plant["further_measured"] = json!([{ "tag": "TIC-2.PV", "output": "y2", "span": span(2), "rest": 70.0 }]);
        plant["further_driven"] =
            json!([{ "tag": "TIC-2.OP", "input": "u2", "at_0": 0.0, "at_100": 100.0, "at_start": 40.0 }]);
        further.push(json!({ "name": "TIC-2", "measures": "TIC-2.PV", "sets": [{ "to": "TIC-2.OP" }],
                             "controller": { "kind": "seat" } }));
    }
    let controller = json!({ "kind": "predictive", "model": process, "cvs": cvs, "mvs": mvs, "horizon": 20.0,
                             "moves": if loops == 1 { json!([1, 2]) } else { json!([1]) } });
    serde_json::from_value(json!({
        "version": 1, "plant": plant, "candidate": { "controller": controller, "further": further },
        "scenario": { "duration": 30.0, "scan": 1.0, "events": [] },
    }))
    .unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// The text of a law does what the core's law does, scan by scan, wherever the signals go: past limits, in manual and back, with a sensor
    /// at an end of its span; and that from the XML, too.
    #[test]
    fn a_written_law_does_what_the_core_does(
        loops in 1usize..=2,
        gains in proptest::collection::vec((0.3f64..2.0, 4.0f64..12.0, 0.0f64..3.0), 4),
        coupling in -0.4f64..0.4,
        rate in proptest::option::of(1f64..8.0),
        low in 0f64..30.0,
        integrates in proptest::bool::ANY,
        course in proptest::collection::vec((proptest::collection::vec((-0.5f64..0.5, -0.4f64..0.4), 2), 0u8..12), 8..20),
    ) {
        let mut cells = gains;
        if loops == 2 {
            (cells[1].0, cells[2].0) = (coupling, -coupling);
        }
        // With two loops limits of rates make more regions than a controller holds.
        let rate = rate.filter(|_| loops == 1);
        let trial = planned(loops, &cells, rate, low, integrates && loops == 1);
        let law = trial.written_out().unwrap().in_numbers();
        let written = trial_as_text(&trial).unwrap();
        prop_assert_eq!(written.blocks.len(), 1, "{:?}", written.without);
        let mut block = FunctionBlock::read(&written.blocks[0].text);
        let mut from_xml = FunctionBlock::read(&from_plcopen(inside(&written.plcopen, "<pou ", "</pou>")[0]));
        let mut believed = Believed::default();
        let mut applied: Vec<f64> = law.mvs.iter().map(|mv| mv.rest).collect();
        let by_hand = applied.clone();
        for (k, (signals, what)) in course.iter().enumerate() {
            let manual = *what == 0 && k > 0;
            if manual {
                applied.clone_from(&by_hand);
            }
            let mut inputs = vec![("MANUAL".to_owned(), Value::Logical(manual))];
            let (mut measured, mut set_points) = (Vec::new(), Vec::new());
            for (cv, (off, wanted)) in law.cvs.iter().zip(signals) {
                let width = cv.span.width();
                let pv = if *what == 1 { cv.span.high } else { cv.span.from_percent(cv.rest) + off * width };
                let pv = pv.clamp(cv.span.low, cv.span.high);
                let sp = cv.span.from_percent(cv.rest) + wanted * width;
                let name = cv.tag.replace(['-', '.'], "_");
                inputs.push((name.clone(), Value::Real(pv)));
                inputs.push((format!("{name}_SP"), Value::Real(sp)));
                let percent = cv.span.to_percent(pv);
                let at_end = percent.abs() < 1e-9 || (percent - 100.0).abs() < 1e-9;
                measured.push(if at_end { f64::NAN } else { percent });
                set_points.push(cv.span.to_percent(sp));
            }
            for (mv, value) in law.mvs.iter().zip(&by_hand) {
                inputs.push((format!("{}_MANUAL", mv.tag.replace(['-', '.'], "_")), Value::Real(*value)));
            }
            let told = law.scan(&mut believed, &measured, &set_points, &applied);
            let expected = if manual { by_hand.clone() } else { told };
            let inputs: Vec<(&str, Value)> = inputs.iter().map(|(name, value)| (name.as_str(), value.clone())).collect();
            block.step(&inputs);
            from_xml.step(&inputs);
            for (mv, expected) in law.mvs.iter().zip(&expected) {
                let name = mv.tag.replace(['-', '.'], "_");
                let (one, other) = (block.output(&name), from_xml.output(&name));
                prop_assert!((one - expected).abs() < 1e-12 * expected.abs().max(1.0) * 100.0, "scan {}: {} {}", k, one, expected);
                prop_assert_eq!(one, other);
            }
            applied = expected;
        }
    }
}

/// Through a whole trial the law moves as the solver did, scan by scan, at limits and away from them.
#[test]
fn a_written_law_moves_as_the_solver_did() {
    let one = (1, vec![(1.2, 9.0, 2.0)], Some(4.0), false);
    let two = (2, vec![(1.0, 8.0, 1.0), (0.3, 6.0, 0.0), (-0.2, 9.0, 2.0), (0.8, 5.0, 1.0)], None, false);
    for (loops, cells, rate, integrates) in [one, two, (1, vec![(1.0, 9.0, 1.0)], Some(3.0), true)] {
        let mut trial = planned(loops, &cells, rate, 10.0, integrates);
        trial.scenario.duration = 90.0;
        let ControllerSpec::Predictive(settings) = &mut trial.candidate.controller else { panic!() };
        settings.mvs[0].high = 60.0;
        let by = if integrates { 6.0 } else { 30.0 };
        trial.scenario.events = vec![Event::set_point(5.0, by), Event::load(40.0, -12.0)];
        let law = trial.written_out().unwrap().in_numbers();
        let trace = trial.run().unwrap();
        let values = |tag: &str| &trace.columns.iter().find(|one| one.tag == tag).unwrap().values;
        let mut believed = Believed::default();
        let mut applied: Vec<f64> = law.mvs.iter().map(|mv| mv.rest).collect();
        let mut at_limits = 0;
        for k in 0..90 {
            let (mut measured, mut set_points) = (Vec::new(), Vec::new());
            for cv in &law.cvs {
                measured.push(cv.span.to_percent(values(&cv.tag)[k]));
                set_points.push(cv.span.to_percent(values(&cv.tag.replace("PV", "SP"))[k]));
            }
            let moved = law.scan(&mut believed, &measured, &set_points, &applied);
            let before = applied;
            applied = law.mvs.iter().map(|mv| values(&mv.tag)[k]).collect();
            for (((moved, stood), mv), before) in moved.iter().zip(&applied).zip(&law.mvs).zip(&before) {
                assert!((moved - stood).abs() < 1e-6, "{loops} loops, scan {k}, {}: {moved} {stood}", mv.tag);
                let as_fast = mv.rate.is_some_and(|rate| (stood - before).abs() > rate - 1e-6);
                at_limits += usize::from(as_fast || *stood > mv.high - 1e-6 || *stood < mv.low + 1e-6);
            }
        }
        assert!(at_limits > 0, "no limit was felt with {loops} loops");
    }
}

#[test]
fn what_of_a_predictive_law_is_written_and_what_cannot_be_is_said() {
    let two = planned(2, &[(1.0, 8.0, 1.0), (0.3, 6.0, 0.0), (-0.2, 9.0, 2.0), (0.8, 5.0, 1.0)], None, 10.0, false);
    let written = trial_as_text(&two).unwrap();
    assert!(written.remarks.iter().any(|one| one.contains("TIC-2: in the block")), "{:?}", written.remarks);
    assert!(written.remarks.iter().any(|one| one.contains("TIC-1.PV at 60 °C") && one.contains("TIC-2.OP at 40 %")));
    let text = &written.blocks[0].text;
    assert!(text.contains("TIC_2_PV_SP : LREAL; (* set point of TIC-2.PV, °C *)"), "{text}");
    // A limit that may have to give way, and a horizon that makes too long a table, are reasons.
    let refused = |change: &dyn Fn(&mut PredictiveSettings)| {
        let mut trial = planned(1, &[(1.0, 8.0, 1.0)], None, 10.0, false);
        let ControllerSpec::Predictive(settings) = &mut trial.candidate.controller else { panic!() };
        change(settings);
        let written = trial_as_text(&trial).unwrap();
        assert!(written.blocks.is_empty() && written.plcopen.is_empty());
        written.without.join(" ")
    };
    let limited = refused(&|own| own.cvs[0].high = Some(RankedLimit { value: 80.0, rank: 1 }));
    assert!(limited.contains("may have to give way"), "{limited}");
    let large = refused(&|own| (own.moves, own.mvs[0].rate) = (vec![1; 6], Some(3.0)));
    assert!(large.contains("numbers") || large.contains("regions"), "{large}");
    // Nothing is said of a block that is not there.
    assert!(!large.contains("is written about") && !limited.contains("is written about"), "{large}");
}

/// The OPs that a block of all loops puts out on the course of a trial, scan by scan.
///
/// Switches to manual and back, set points and outputs by hand are those of the scenario; in manual the output by hand begins where it stood.
fn along(trial: &Trial, trace: &Trace, texts: &[&str]) -> Vec<Vec<f64>> {
    let mut block = FunctionBlock::last_of(texts.iter().copied());
    let plant = &trial.plant;
    let plain = |name: &str| {
        let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        words.collect::<Vec<_>>().join("_").to_uppercase()
    };
    let first = (plant.loop_tag().to_owned(), plant.pv.tag.clone(), &trial.scenario.events);
    let none = Vec::new();
    let further =
        trial.candidate.further.iter().map(|own| {
            (own.name.clone(), own.measures.clone(), trial.scenario.further.get(&own.name).unwrap_or(&none))
        });
    let loops: Vec<_> = std::iter::once(first).chain(further).collect();
    let ops = plant.op_tags();
    let [rests, stands] = at_rest(trial);
    let has = |block: &FunctionBlock, name: &str| block.inputs.iter().any(|known| known == name);
    let (mut put_out, mut manual) = (Vec::new(), vec![false; loops.len()]);
    // The call before the first scan is at rest.
    for k in std::iter::once(None).chain((0..trace.len()).map(Some)) {
        let mut given: Vec<(String, Value)> = Vec::new();
        for (tag, rest) in plant.measured_tags().into_iter().zip(&rests) {
            given.push((plain(tag), Value::Real(k.map_or(*rest, |k| values_of(trace, tag)[k]))));
        }
        for (op, stands) in ops.iter().zip(&stands) {
            given.push((format!("{}_STANDS", plain(op)), Value::Real(*stands)));
        }
        for (place, (name, measures, events)) in loops.iter().enumerate() {
            let (id, time) = (plain(name), k.map_or(-1.0, |k| k as f64 * trial.scenario.scan));
            let mut by_hand = if k.is_none() { f64::NAN } else { block.output(&format!("{id}_OUT")) };
            let rest = rests[plant.measured_tags().iter().position(|tag| tag == measures).unwrap()];
            let mut set_point = rest;
            for event in events.iter() {
                match event {
                    Event::SetPointStep { at, by, .. } if *at <= time + 1e-9 => set_point += by,
                    Event::ToManual { at } if (*at - time).abs() < 0.5 * trial.scenario.scan => manual[place] = true,
                    Event::ToAutomatic { at } if (*at - time).abs() < 0.5 * trial.scenario.scan => {
                        manual[place] = false
                    }
                    Event::OutputStep { at, by } if (*at - time).abs() < 0.5 * trial.scenario.scan => {
                        by_hand = (by_hand + by).clamp(0.0, 100.0);
                    }
                    _ => {}
                }
            }
            for (what, value) in [
                ("SP", Value::Real(set_point)),
                ("MANUAL", Value::Logical(manual[place])),
                ("BY_HAND", Value::Real(by_hand)),
            ] {
                let name = format!("{id}_{what}");
                given.extend(has(&block, &name).then_some((name, value)));
            }
        }
        let given: Vec<(&str, Value)> = given.iter().map(|(name, value)| (name.as_str(), value.clone())).collect();
        block.step(&given);
        if k.is_some() {
            put_out.push(ops.iter().map(|op| block.output(&plain(op))).collect());
        }
    }
    put_out
}

/// How far these OPs are from those of the trial, at most, in %.
fn beside(trial: &Trial, trace: &Trace, put_out: &[Vec<f64>]) -> f64 {
    let ops: Vec<&[f64]> = trial.plant.op_tags().into_iter().map(|tag| values_of(trace, tag)).collect();
    let apart = |k: usize| ops.iter().zip(&put_out[k]).map(|(op, put_out)| (op[k] - put_out).abs()).fold(0.0, f64::max);
    assert_eq!(put_out.len(), trace.len());
    (0..trace.len()).map(apart).fold(0.0, f64::max)
}

fn values_of<'a>(trace: &'a Trace, tag: &str) -> &'a [f64] {
    &trace.columns.iter().find(|one| one.tag == tag).unwrap().values
}

fn texts(written: &ControllersAsText) -> Vec<&str> {
    written.blocks.iter().map(|block| block.text.as_str()).collect()
}

/// Where the measured signals and the OPs of a trial rest: what they show and stand at where nothing happens.
fn at_rest(trial: &Trial) -> [Vec<f64>; 2] {
    let mut quiet = trial.clone();
    (quiet.scenario.events, quiet.scenario.further) = Default::default();
    quiet.scenario.duration = quiet.scenario.scan;
    quiet.plant.sensor.noise = 0.0;
    quiet.plant.further_measured.iter_mut().for_each(|one| one.sensor.noise = 0.0);
    let trace = quiet.run().unwrap();
    [trial.plant.measured_tags(), trial.plant.op_tags()]
        .map(|tags| tags.into_iter().map(|tag| values_of(&trace, tag)[0]).collect())
}

/// The demo's trials of several controllers, and what moves in them: a cascade that goes to manual and back, an override, a split range.
#[test]
fn wired_loops_do_on_the_demo_what_the_simulation_did() {
    for (document, calls) in
        [(CASCADE, "TIC-310 and TIC-311"), (OVERRIDE, "TIC-310 and TIC-311"), (SPLIT, "TIC-501 wired")]
    {
        let trial: Trial = serde_json::from_str(document).unwrap();
        let written = trial_as_text(&trial).unwrap();
        assert_eq!(written.blocks.last().unwrap().name, calls);
        assert!(
            written.remarks[0].contains(calls) && written.remarks[0].contains("once a scan"),
            "{:?}",
            written.remarks
        );
        let trace = trial.run().unwrap();
        assert!(trace.stopped.is_none());
        let largest = beside(&trial, &trace, &along(&trial, &trace, &texts(&written)));
        assert!(largest < 1e-8, "{calls}: {largest}\n{}", written.blocks.last().unwrap().text);
    }
}

/// How loops are wired in a random trial.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Shape {
    Cascade,
    Override(Select),
    Split,
    Decoupled,
    /// One above two, whose set points go opposite ways.
    Fan,
    /// A cascade whose lower loop is overridden.
    Overridden,
}

/// Three measured and two driven signals, `Y1` to `Y3` and `U1`, `U2`, wired like this.
fn wired(shape: Shape, mut settings: Vec<PidSettings>, tracks: bool, noise: f64) -> Trial {
    let named = |letter: &str, count: usize| {
        (1..=count).map(|k| json!({ "name": format!("{letter}{k}"), "unit": "%", "value": 50.0 })).collect::<Vec<_>>()
    };
    let cells =
        [[1.2, 30.0, 2.5], [0.4, 20.0, 4.0], [0.5, 25.0, 1.0], [0.9, 15.0, 3.3], [-0.7, 40.0, 2.0], [0.3, 9.0, 0.0]];
    let elements: Vec<_> = cells
        .iter()
        .enumerate()
        .map(|(k, [gain, time, dead])| {
            json!({ "output": format!("y{}", k / 2 + 1), "input": format!("u{}", k % 2 + 1), "numerator": [gain],
                    "denominator": [time, 1.0], "dead_time": dead })
        })
        .collect();
    // Both of a split range stand where the one takes over from the other.
    let stands = if shape == Shape::Split { 0.0 } else { 50.0 };
    let span = json!({ "low": 0.0, "high": 100.0, "unit": "%" });
    let sensor = json!({ "noise": noise });
    let measured: Vec<_> = [2, 3]
        .iter()
        .map(|k| json!({ "tag": format!("Y{k}.PV"), "span": span, "output": format!("y{k}"), "sensor": sensor }))
        .collect();
    for (k, pid) in settings.iter_mut().enumerate() {
        if let Some(forward) = &mut pid.feed_forward {
            forward.signal = if shape == Shape::Decoupled { ["U2", "U1", "Y1.PV"][k] } else { "Y3.PV" }.to_owned();
        }
        if let Some(ScheduledOver::Signal(name)) = pid.schedule.as_mut().map(|own| &mut own.over) {
            "Y3.PV".clone_into(name);
        }
    }
    let further = |k: usize, sets: serde_json::Value| {
        let mut controller = serde_json::to_value(ControllerSpec::Pid(settings[k].clone())).unwrap();
        controller["kind"] = json!("pid");
        json!({ "name": format!("Y{}", k + 1), "measures": format!("Y{}.PV", k + 1), "sets": sets, "controller": controller,
                "set_point_tracking": tracks })
    };
    let to = |tag: &str| json!({ "to": tag });
    let (sets, others) = match shape {
        Shape::Cascade => (json!([to("Y2.SP")]), vec![further(1, json!([to("U1")]))]),
        Shape::Override(select) => (json!([to("U1")]), vec![further(1, json!([{ "to": "U1", "select": select }]))]),
        Shape::Split => {
            (json!([{ "to": "U1", "range": [50.0, 100.0] }, { "to": "U2", "range": [50.0, 0.0] }]), Vec::new())
        }
        Shape::Decoupled => (json!([to("U1")]), vec![further(1, json!([to("U2")]))]),
        Shape::Fan => {
            let sets = json!([to("Y2.SP"), { "to": "Y3.SP", "range": [75.0, 25.0] }]);
            (sets, vec![further(1, json!([to("U1")])), further(2, json!([to("U2")]))])
        }
        Shape::Overridden => {
            let over = json!([{ "to": "U1", "select": "highest" }]);
            (json!([to("Y2.SP")]), vec![further(1, json!([to("U1")])), further(2, over)])
        }
    };
    serde_json::from_value(json!({
        "version": 1,
        "plant": {
            "process": { "structure": "transfer_functions", "inputs": named("u", 2), "outputs": named("y", 3),
                         "elements": elements },
            "pv": { "tag": "Y1.PV", "span": span }, "op": { "tag": "U1", "span": span },
            "operating_point": { "pv": 50.0, "op": stands }, "sensor": sensor,
            "further_measured": measured,
            "further_driven": [{ "tag": "U2", "input": "u2", "at_0": 0.0, "at_100": 100.0, "at_start": stands,
                                 "actuator": { "kind": "direct" } }],
        },
        "candidate": { "controller": serde_json::to_value(ControllerSpec::Pid(settings[0].clone())).unwrap(),
                       "set_point_tracking": tracks, "sets": sets, "further": others },
        "scenario": { "duration": 150.0, "scan": 1.0, "seed": 9, "events": [] },
    }))
    .unwrap()
}

fn shapes() -> impl Strategy<Value = Shape> {
    prop_oneof![
        Just(Shape::Cascade),
        Just(Shape::Override(Select::Lowest)),
        Just(Shape::Override(Select::Highest)),
        Just(Shape::Split),
        Just(Shape::Decoupled),
        Just(Shape::Fan),
        Just(Shape::Overridden),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(160))]

    /// Whatever is wired how, whoever goes to manual and comes back: the block of all loops sets what the simulation sets.
    #[test]
    fn wired_loops_do_what_the_simulation_does(
        shape in shapes(),
        own in proptest::collection::vec(settings(), 3),
        tracks in any::<bool>(),
        noise in prop_oneof![Just(0.0), Just(0.5)],
        moves in proptest::collection::vec((0usize..3, 5u32..140, -20.0..20.0f64), 1..5),
        by_hand in proptest::collection::vec((0usize..3, 5u32..120, 2u32..40, -30.0..30.0f64), 0..4),
    ) {
        prop_assume!(own.iter().all(|pid| pid.validate().is_ok()));
        let mut trial = wired(shape, own, tracks, noise);
        let names: Vec<String> = trial.candidate.further.iter().map(|one| one.name.clone()).collect();
        let set_from_above = |which: usize| which > 0 && match shape {
            Shape::Cascade | Shape::Fan => true,
            Shape::Overridden => which == 1,
            _ => false,
        };
        let mut until = [0; 3];
        for (which, at, by) in &moves {
            let which = which % (names.len() + 1);
            if !set_from_above(which) {
                let event = Event::set_point(f64::from(*at), *by);
                match which {
                    0 => trial.scenario.events.push(event),
                    which => trial.scenario.further.entry(names[which - 1].clone()).or_default().push(event),
                }
            }
        }
        for (which, at, lasts, by) in &by_hand {
            let which = which % (names.len() + 1);
            // One stretch in manual after the other.
            if *at <= until[which] {
                continue;
            }
            until[which] = at + lasts;
            let [from, to] = [f64::from(*at), f64::from(at + lasts)];
            let events = [
                Event::ToManual { at: from },
                Event::OutputStep { at: from + 1.0, by: *by },
                Event::ToAutomatic { at: to },
            ];
            match which {
                0 => trial.scenario.events.extend(events),
                which => trial.scenario.further.entry(names[which - 1].clone()).or_default().extend(events),
            }
        }
        let written = match trial_as_text(&trial) {
            Ok(written) => written,
            // A split range whose output is at rest outside its limits, say: the trial is none.
            Err(error) => return Err(TestCaseError::reject(error.to_string())),
        };
        prop_assert_eq!(written.blocks.len(), names.len() + 2);
        let trace = trial.run().unwrap();
        let put_out = along(&trial, &trace, &texts(&written));
        let apart = beside(&trial, &trace, &put_out);
        prop_assert!(apart < 1e-7, "{shape:?}: {apart}\n{}", texts(&written).last().unwrap());
    }
}

/// The project says all that the text says: put together again it does the same, call by call, and every block is there.
#[test]
fn a_project_in_xml_has_the_same_blocks() {
    let cascade: Trial = serde_json::from_str(CASCADE).unwrap();
    let written = trial_as_text(&cascade).unwrap();
    let xml = &written.plcopen;
    assert!(xml.starts_with("<?xml version=\"1.0\" encoding=\"utf-8\"?>"), "{xml}");
    assert!(xml.contains("http://www.plcopen.org/xml/tc6_0201") && xml.contains("pouType=\"functionBlock\""));
    // The wiring in words goes along.
    assert!(inside(xml, "<Comment>", "</Comment>")[0].contains("set point of TIC-311"));
    let pous = inside(xml, "<pou ", "</pou>");
    assert_eq!(pous.len(), written.blocks.len());
    let theirs: Vec<String> = pous.into_iter().map(from_plcopen).collect();
    let theirs: Vec<&str> = theirs.iter().map(String::as_str).collect();
    let trace = cascade.run().unwrap();
    let bits =
        |texts: &[&str]| along(&cascade, &trace, texts).concat().into_iter().map(f64::to_bits).collect::<Vec<_>>();
    assert_eq!(bits(&texts(&written)), bits(&theirs));
    let inputs = |texts: &[&str]| FunctionBlock::last_of(texts.iter().copied()).inputs;
    assert_eq!(inputs(&texts(&written)), inputs(&theirs));
    // The same trial gives the same project, and one without blocks none.
    assert_eq!(*xml, trial_as_text(&cascade).unwrap().plcopen);
    let predictive: antistasis_core::simulation::Trial = serde_json::from_str(PREDICTIVE).unwrap();
    assert!(trial_as_text(&predictive).unwrap().plcopen.is_empty());
}

#[test]
fn only_what_is_chosen_is_written() {
    let plain = text_of(&PidSettings::pi(1.2, 90.0), 2.0);
    for left_out in ["derivative_push", "FILTER_MEMORY", "GAP", "FORWARD", "SCHEDULED", "MOST_CHANGE", "line"] {
        assert!(!plain.contains(left_out), "{left_out} in\n{plain}");
    }
    assert!(
        plain.starts_with(
            "FUNCTION_BLOCK TIC_204\n(* TIC-204: PID, ideal form, gain 1.2 % of OP per % of span, integral time 90 s,"
        ),
        "{plain}"
    );
    assert!(plain.contains("KC : LREAL := 1.2;") && plain.contains("PV_LOW : LREAL := -20.0;"), "{plain}");
    let block = FunctionBlock::read(&plain);
    assert_eq!((block.name.as_str(), block.inputs.len()), ("TIC_204", 4));
}

#[test]
fn names_become_identifiers_and_comments_cannot_be_left() {
    let named = |name: &str| {
        let settings = PidSettings::pi(1.0, 1.0);
        function_block(&Block {
            name,
            settings: &settings,
            pv_span: &Span::new(0.0, 1.0, "*) bad"),
            scan: 1.0,
            is_wired: false,
        })
    };
    assert!(named("204 °C heat--er").unwrap().starts_with("FUNCTION_BLOCK LOOP_204_C_heat_er\n"));
    assert!(named("–").unwrap_err().to_string().contains("a letter or a digit"));
    // What stands in a unit ends no comment.
    FunctionBlock::read(&named("A *) B").unwrap());
    let none = PidSettings { gain: f64::NAN, ..PidSettings::pi(1.0, 1.0) };
    assert!(
        function_block(&Block { name: "A", settings: &none, pv_span: &span(), scan: 1.0, is_wired: false }).is_err()
    );
}

/// The cascade of the demo: two controllers, one of which moves the set point of the other.
const CASCADE: &str = include_str!("../../../demo/trials/TIC-310-cascade.json");
const OVERRIDE: &str = include_str!("../../../demo/trials/TIC-310-override.json");
const SPLIT: &str = include_str!("../../../demo/trials/TIC-501-split-range.json");
const PREDICTIVE: &str = include_str!("../../../demo/trials/TIC-501-predictive.json");

#[test]
fn every_pid_controller_of_a_trial_has_a_block_and_what_has_none_is_said() {
    let cascade: antistasis_core::simulation::Trial = serde_json::from_str(CASCADE).unwrap();
    let text = trial_as_text(&cascade).unwrap();
    let names: Vec<&str> = text.blocks.iter().map(|block| block.name.as_str()).collect();
    assert_eq!(names, ["TIC-310", "TIC-311", "TIC-310 and TIC-311"]);
    // No list of variables is empty, which not every compiler takes.
    for block in &text.blocks {
        let lists = block.text.split("END_VAR").filter_map(|list| list.rsplit_once("VAR").map(|(_, inner)| inner));
        assert!(lists.clone().count() > 2 && lists.into_iter().all(|inner| inner.contains(':')), "{}", block.text);
    }
    // How they are wired stands beside them in words.
    assert!(
        text.remarks.iter().any(|remark| remark.contains("TIC-310") && remark.contains("set point of TIC-311")),
        "{:?}",
        text.remarks
    );
    let predictive: antistasis_core::simulation::Trial = serde_json::from_str(PREDICTIVE).unwrap();
    let text = trial_as_text(&predictive).unwrap();
    assert!(text.blocks.is_empty());
    assert!(text.without[0].contains("TIC-501 has no text: A law is written out where"), "{:?}", text.without);
}
