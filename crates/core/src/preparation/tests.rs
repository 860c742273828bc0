//! What each step leaves of a known record.

use super::{Fill, Operation, Prepared, Removed, Replacement, Resampling, Step, prepare};
use crate::series::{Channel, Record, Role, TimeAxis};

/// 200 samples at 2 s: a PV on a slope with a sine, an OP with a step.
fn record() -> Record {
    let channel = |tag: &str, role, unit: &str, of: fn(f64) -> f64| Channel {
        tag: tag.into(),
        role,
        unit: unit.into(),
        values: (0..200).map(|k| of(2.0 * f64::from(k))).collect(),
    };
    let channels = vec![
        channel("T.PV", Role::Pv, "°C", |t| 50.0 + 0.01 * t + (0.3 * t).sin()),
        channel("T.OP", Role::Op, "%", |t| if t < 100.0 { 40.0 } else { 45.0 }),
    ];
    Record::new(TimeAxis::uniform(2.0, 200).unwrap(), channels).unwrap()
}

fn done(record: &Record, operations: &[Operation]) -> Prepared {
    prepare(record, &operations.iter().cloned().map(Step::new).collect::<Vec<_>>()).unwrap()
}

fn pv(prepared: &Prepared) -> &[f64] {
    &prepared.record.channel(Role::Pv).unwrap().values
}

#[test]
fn times_stay_those_of_the_untouched_record() {
    let record = record();
    let once = done(&record, &[Operation::Window { from: 50.0, to: 300.0 }]);
    assert_eq!((once.start, once.record.axis.len()), (50.0, 126));
    // A second window and a cut are in the same times.
    let twice = done(
        &record,
        &[
            Operation::Window { from: 50.0, to: 300.0 },
            Operation::Window { from: 60.0, to: 90.0 },
            Operation::CutOut { from: 70.0, to: 74.0 },
        ],
    );
    assert_eq!((twice.start, twice.record.axis.len(), twice.time(1)), (60.0, 16, 62.0));
    assert!((0..16).all(|k| pv(&twice)[k].is_nan() == (5..=7).contains(&k)));
    assert_eq!(record, self::record(), "the record itself is as it was");
}

#[test]
fn steps_can_be_off_and_their_order_counts() {
    let record = record();
    let shift = Operation::Shift { tag: None, by: 10.0 };
    let remove = Operation::Remove { tag: None, what: Removed::Offset };
    let mean = |prepared: &Prepared| pv(prepared).iter().sum::<f64>() / 200.0;
    assert!((mean(&done(&record, &[remove.clone(), shift.clone()])) - 10.0).abs() < 1e-9);
    assert!(mean(&done(&record, &[shift.clone(), remove.clone()])).abs() < 1e-9);
    let off = prepare(&record, &[Step::new(remove), Step { operation: shift, enabled: false }]).unwrap();
    assert!(mean(&off).abs() < 1e-9 && off.notes[1].is_none());
}

#[test]
fn outliers_are_replaced_and_nothing_else() {
    let mut dirty = record();
    for k in [20, 77, 150] {
        dirty.channels[0].values[k] += 25.0;
    }
    let hampel = |replacement| Operation::Outliers { tag: None, half_window: 5, threshold: 4.0, replacement };
    let clean = done(&dirty, &[hampel(Replacement::Median)]);
    for (k, (value, exact)) in pv(&clean).iter().zip(&record().channels[0].values).enumerate() {
        let allowed = if [20, 77, 150].contains(&k) { 2.0 } else { 0.0 };
        assert!((value - exact).abs() <= allowed, "{k}: {value} {exact}");
    }
    assert_eq!(clean.notes[0].as_deref(), Some("3 outliers of T.PV replaced."));
    assert_eq!(pv(&done(&dirty, &[hampel(Replacement::Missing)])).iter().filter(|value| value.is_nan()).count(), 3);
}

#[test]
fn gaps_are_filled_up_to_a_length_or_split_the_record() {
    let mut gappy = record();
    for channel in &mut gappy.channels {
        channel.values[10..12].fill(f64::NAN);
        channel.values[60..90].fill(f64::NAN);
    }
    let filled = done(&gappy, &[Operation::FillGaps { longest: 10.0, fill: Fill::Line }]);
    let values = pv(&filled);
    assert!((values[10] - (values[9] + (values[12] - values[9]) / 3.0)).abs() < 1e-12);
    assert_eq!(values.iter().filter(|value| value.is_nan()).count(), 30);
    let split = |part| Operation::SplitAtGaps { longer_than: 10.0, part };
    let longest = done(&gappy, &[split(None)]);
    assert_eq!((longest.start, longest.record.axis.len()), (180.0, 110));
    assert_eq!(done(&gappy, &[split(Some(1))]).record.axis.len(), 60);
    let error = prepare(&gappy, &[Step::new(split(Some(3)))]).unwrap_err();
    assert_eq!(error.to_string(), "The part of step 1 is 3: it must be 1 to 2.");
}

#[test]
fn resampling_keeps_lines_steps_and_means() {
    let times: Vec<f64> = (0..300).map(|k| f64::from(k) + if k % 3 == 0 { 0.4 } else { 0.0 }).collect();
    let channel = |role, values: Vec<f64>| Channel { tag: format!("{role:?}"), role, unit: String::new(), values };
    let line = channel(Role::Pv, times.iter().map(|t| 3.0 + 0.5 * t).collect());
    let step = channel(Role::Op, times.iter().map(|t| if *t < 100.0 { 1.0 } else { 2.0 }).collect());
    let uneven = Record::new(TimeAxis::from_times(&times).unwrap(), vec![line, step]).unwrap();
    let even = done(&uneven, &[Operation::Resample { interval: 0.5, method: Resampling::Line }]);
    // The axis of the record starts at its first sample, 0.4 s.
    for (k, value) in pv(&even).iter().enumerate() {
        assert!((value - (3.0 + 0.5 * (0.4 + 0.5 * k as f64))).abs() < 1e-9, "{k}");
    }
    assert!(even.record.channels[1].values.iter().all(|value| *value == 1.0 || *value == 2.0));
    let coarse = done(&uneven, &[Operation::Resample { interval: 10.0, method: Resampling::Mean }]);
    for (k, value) in pv(&coarse).iter().enumerate().take(29) {
        // Ten samples from 10 k s on, on average 4.5 s and a little later.
        assert!((value - (3.0 + 0.5 * (0.4 + 10.0 * k as f64 + 4.5))).abs() < 0.5, "{k}: {value}");
    }
    // The step at 100 s lies within the tenth mean of the OP.
    let op = &coarse.record.channels[1].values;
    assert!(op[8] == 1.0 && op[10] == 2.0 && (1.0..=2.0).contains(&op[9]));
    assert!(prepare(&uneven, &[Step::new(Operation::Resample { interval: 1e-8, method: Resampling::Line })]).is_err());
}

#[test]
fn a_trend_goes_and_a_filter_has_the_gain_and_phase_it_should() {
    let record = record();
    let flat = done(&record, &[Operation::Remove { tag: None, what: Removed::Trend }]);
    let (first, last) = (pv(&flat)[..42].iter().sum::<f64>(), pv(&flat)[158..].iter().sum::<f64>());
    assert!((first - last).abs() < 4.0, "{first} {last}: 0.01 °C a second would make a difference of 134");
    // A sine of 0.05 rad/s through 1/(20 s + 1): gain 1/√2 and −45°; forth and back gain 1/2 and no phase.
    let axis = TimeAxis::uniform(0.1, 20_000).unwrap();
    let sine = (0..20_000).map(|k| (0.005 * f64::from(k)).sin()).collect();
    let channel = Channel { tag: "x".into(), role: Role::Pv, unit: String::new(), values: sine };
    let record = Record::new(axis, vec![channel]).unwrap();
    let filtered = |order, zero_phase| {
        let lowpass = Operation::LowPass { tag: None, all: false, time_constant: 20.0, order, zero_phase };
        done(&record, &[lowpass]).record.channels.remove(0).values
    };
    let (causal, zero) = (filtered(1, false), filtered(1, true));
    let second = filtered(2, false);
    for k in (8000..12_000).step_by(37) {
        let angle = 0.005 * f64::from(k);
        assert!((causal[k as usize] - (angle - std::f64::consts::FRAC_PI_4).sin() / 2f64.sqrt()).abs() < 3e-3);
        assert!((second[k as usize] + angle.cos() / 2.0).abs() < 3e-3);
        assert!((zero[k as usize] - angle.sin() / 2.0).abs() < 3e-3);
    }
}

#[test]
fn channels_are_converted_and_computed() {
    let record = record();
    let kelvin = done(&record, &[Operation::Convert { tag: None, unit: "K".into() }]);
    assert!((pv(&kelvin)[0] - 323.15).abs() < 1e-9 && kelvin.record.channels[0].unit == "K");
    let compute =
        |formula: &str, role| Operation::Compute { tag: "Q".into(), unit: "kW".into(), role, formula: formula.into() };
    let heat = done(&record, &[compute("2 * ({T.PV} − 40) / {T.OP} + sqrt(4)", Role::Dv)]);
    let channel = heat.record.channels.last().unwrap();
    assert_eq!((channel.tag.as_str(), channel.values[0]), ("Q", 2.0 * 10.0 / 40.0 + 2.0));
    // Where there is no result, the sample is missing.
    let broken = done(&record, &[compute("ln({T.OP} - 40)", Role::Dv)]);
    assert_eq!(broken.record.channels.last().unwrap().values.iter().filter(|value| value.is_nan()).count(), 50);
    // A computed PV stands for the PV.
    assert_eq!(done(&record, &[compute("{T.PV} * 2", Role::Pv)]).record.channel(Role::Pv).unwrap().tag, "Q");
    let refused = |formula: &str| prepare(&record, &[Step::new(compute(formula, Role::Dv))]).unwrap_err().to_string();
    assert_eq!(refused("{T.XX} + 1"), "There is no channel T.XX; there are T.PV, T.OP.");
    assert!(refused("2 * (").starts_with("The formula of step 1 is 2 * (: it must be a formula such as"));
    assert!(refused("").contains("1 to 500 characters"));
    let no_unit = |unit: &str| {
        prepare(&record, &[Step::new(Operation::Convert { tag: None, unit: unit.into() })]).unwrap_err().to_string()
    };
    assert!(no_unit("bar").contains("unit of T.PV is °C"));
}
