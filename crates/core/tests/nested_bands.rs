//! Several ranked limits of one CV, and limits that are moved while it runs.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::controller::ControllerSpec;
use antistasis_core::controller::predictive::{Band, LookAhead, PredictiveSettings, RankedLimit, Side};
use antistasis_core::simulation::{ColumnRole, Event, Trace, Trial};
use planned::{column, predictive, settings};
use proptest::prelude::*;

const TAG: &str = "TIC-310.PV";

/// The slaker heated up from standby between three bands, which tighten one after the other; cooling costs, and feed pays.
fn slaker() -> Trial {
    let trial: Trial = serde_json::from_str(include_str!("../../../demo/trials/TIC-310-heat-up.json")).unwrap();
    trial.validate().unwrap();
    trial
}

fn looped(cells: &planned::Cells, own: PredictiveSettings, duration: f64, events: Vec<Event>) -> Trial {
    let mut trial = planned::trial(planned::plant(cells, own.mvs.len()), own, 1.0, duration);
    trial.scenario.events = events;
    trial
}

fn at(trace: &Trace, tag: &str, time: f64) -> f64 {
    column(trace, tag)[(time / trace.scan).round() as usize]
}

/// By how much limits of this rank and side give way at most in the plan.
fn given(ahead: &LookAhead, side: Side, rank: u32) -> f64 {
    let kind = serde_json::to_value(side).unwrap();
    let own = |one: &&antistasis_core::controller::predictive::LimitAtWork| {
        serde_json::to_value(one.limit).unwrap() == kind && one.rank == Some(rank)
    };
    ahead.limits.iter().filter(own).map(|one| one.gives_way).fold(0.0, f64::max)
}

#[test]
fn a_slaker_gives_up_each_band_only_for_a_higher_one_and_rides_what_is_left() {
    let trial = slaker();
    let trace = trial.run().unwrap();
    assert!(trace.stopped.is_none(), "{:?}", trace.stopped);
    // Yield between 82 and 86: less cooling is cheaper, and it rides the high end of the narrowest band.
    // Then dust from 80 on: yield is given up, by no more than that. Then it boils over from 72 on: dust's low end is given up, too.
    for (time, rides) in [(5900.0, 86.0), (10_700.0, 80.0), (14_900.0, 72.0)] {
        let pv = at(&trace, TAG, time);
        assert!((pv - rides).abs() < 0.35, "{pv} for {rides} at {time} s");
    }
    let given_up = |time: f64| at(&trace, "limits given up", time);
    assert_eq!([5900.0, 10_700.0, 14_900.0].map(given_up), [0.0, 1.0, 1.0]);

    // Nothing of a higher rank gives way for one of a lower, and what does gives way as far as it must.
    let ahead = trial.ahead(10_700.0).unwrap();
    assert!((given(&ahead, Side::Low, 3) - 2.0).abs() < 0.2, "{:?}", ahead.limits);
    assert_eq!([given(&ahead, Side::High, 2), given(&ahead, Side::Low, 2), given(&ahead, Side::High, 1)], [0.0; 3]);
    let ahead = trial.ahead(14_900.0).unwrap();
    assert!((given(&ahead, Side::Low, 3) - 10.0).abs() < 0.2, "{:?}", ahead.limits);
    assert!((given(&ahead, Side::Low, 2) - 2.0).abs() < 0.2, "{:?}", ahead.limits);
    assert_eq!(given(&ahead, Side::High, 1), 0.0);
    // The first that is told of is the highest that gives way, and that others do is not kept back.
    assert!(ahead.verdict.contains("rank 2") && ahead.verdict.contains("rank 3"), "{}", ahead.verdict);

    // Where limits are is a column each, as they are moved.
    let moved: Vec<&str> =
        trace.columns.iter().filter(|one| one.role == ColumnRole::Limit).map(|one| one.tag.as_str()).collect();
    assert_eq!(moved.len(), 5, "{moved:?}");
    let dust = format!("{TAG} high limit, rank 2");
    // From 95 to 80 within 20 minutes.
    for (time, limit) in [(0.0, 95.0), (6000.0, 95.0), (6600.0, 87.5), (7200.0, 80.0), (15_000.0, 80.0)] {
        assert!((at(&trace, &dust, time) - limit).abs() < 1e-9, "{} at {time} s", at(&trace, &dust, time));
    }
    assert_eq!(trace.columns.iter().find(|one| one.tag == dust).unwrap().unit, "°C");
}

/// How an MV moves where limits give way is told by the limits, and not by the order in which sums are made.
#[test]
fn rounding_does_not_tell_the_moves_where_bands_give_way() {
    let travels = |share: f64| {
        let mut trial = slaker();
        for mv in &mut predictive(&mut trial).mvs {
            mv.usual_move *= share;
        }
        let trace = trial.run().unwrap();
        ["TIC-310.OP", "FIC-312.OP"]
            .map(|tag| column(&trace, tag).windows(2).map(|pair| (pair[1] - pair[0]).abs()).sum::<f64>())
    };
    let (exact, rounded) = (travels(1.0), travels(1.0 + 1e-12));
    assert!(exact.iter().all(|travel| *travel > 50.0), "{exact:?}");
    for (one, other) in exact.iter().zip(&rounded) {
        assert!(
            (one - other).abs() < 1e-3 * one,
            "{exact:?} and {rounded:?} % where nothing else differs than by 1e-12"
        );
    }
}

/// A band that is never felt changes nothing.
#[test]
fn bands_that_are_never_felt_change_nothing() {
    let cells = planned::wood_berry();
    let alone = settings(&cells, 2, 60.0, vec![1, 1, 2, 4]);
    let mut with = alone.clone();
    with.cvs[0].bands = vec![band(Some((-500.0, 4)), Some((700.0, 2))), band(None, Some((900.0, 5)))];
    let [one, other] =
        [alone, with].map(|own| looped(&cells, own, 60.0, vec![Event::set_point(3.0, 2.0)]).run().unwrap());
    for tag in ["Y1.PV", "Y2.PV", "Y1.OP", "Y2.OP"] {
        let worst = column(&one, tag).iter().zip(column(&other, tag)).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
        assert!(worst < 1e-7, "{tag}: {worst}");
    }
}

type Change = fn(&mut Trial);

fn bands(trial: &mut Trial, bands: Vec<Band>) {
    predictive(trial).cvs[0].bands = bands;
}

fn moves(trial: &mut Trial, cv: &str, side: Side, rank: u32, to: f64) {
    trial.scenario.events = vec![Event::LimitMoves { at: 60.0, cv: cv.into(), side, rank, to, over: 0.0 }];
}

fn band(low: Option<(f64, u32)>, high: Option<(f64, u32)>) -> Band {
    let ranked = |(value, rank): (f64, u32)| RankedLimit { value, rank };
    Band { low: low.map(ranked), high: high.map(ranked) }
}

#[test]
fn what_is_wrong_with_a_band_or_a_move_is_told_at_its_place() {
    let refused = |change: &dyn Fn(&mut Trial)| {
        let mut trial = slaker();
        change(&mut trial);
        let error = trial.run().unwrap_err();
        format!("{}: {error}", error.field().unwrap())
    };
    let cases: [(&str, Change); 9] = [
        ("bands[0]: A band has", |t| bands(t, vec![band(None, None)])),
        ("bands[0].high.value", |t| bands(t, vec![band(Some((60.0, 2)), Some((50.0, 2)))])),
        ("bands[1].low.rank", |t| bands(t, vec![band(Some((60.0, 2)), None), band(Some((62.0, 2)), None)])),
        ("bands[0].high.rank", |t| bands(t, vec![band(None, Some((90.0, 1)))])),
        ("bands[0].low.rank", |t| bands(t, vec![band(Some((60.0, 10)), None)])),
        ("at most 8", |t| bands(t, vec![band(Some((60.0, 2)), None); 9])),
        ("scenario.events[0].cv", |t| moves(t, "TIC-999.PV", Side::Low, 2, 60.0)),
        ("2, 3, those of the low limits", |t| moves(t, TAG, Side::Low, 1, 60.0)),
        ("scenario.events[0].to", |t| moves(t, TAG, Side::Low, 2, f64::NAN)),
    ];
    for (expected, change) in cases {
        let told = refused(&change);
        assert!(told.contains(expected), "{expected}: {told}");
    }
    let mut no_limit = slaker();
    predictive(&mut no_limit).cvs[0].high = None;
    predictive(&mut no_limit).cvs[0].bands = vec![band(Some((50.0, 2)), None)];
    moves(&mut no_limit, TAG, Side::High, 1, 60.0);
    let told = no_limit.run().unwrap_err().to_string();
    assert!(told.contains("no high limit"), "{told}");
}

/// A PID controller on the same scenario has no limits that could be moved: it runs, and takes no notice.
#[test]
fn where_nothing_is_predictive_a_limit_that_moves_does_nothing() {
    let cells = vec![vec![[1.0, 10.0, 1.0]]];
    let mut with = looped(&cells, settings(&cells, 1, 40.0, vec![1, 2]), 60.0, vec![Event::set_point(3.0, 2.0)]);
    with.candidate.controller = serde_json::from_value(serde_json::json!({
        "kind": "pid", "gain": 1.0, "integral_time": 10.0, "action": "reverse"
    }))
    .unwrap();
    let without = with.run().unwrap();
    let moved = Event::LimitMoves { at: 20.0, cv: "Y1.PV".into(), side: Side::High, rank: 1, to: 50.0, over: 5.0 };
    with.scenario.events.push(moved);
    let with = with.run().unwrap();
    assert_eq!(column(&without, "Y1.PV"), column(&with, "Y1.PV"));
    assert!(with.columns.iter().all(|one| one.role != ColumnRole::Limit));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    /// Strictly in order: what limits of the higher ranks give way by is what they would without those below them, whatever these ask.
    #[test]
    fn lower_ranks_cost_the_higher_ones_nothing(
        cells in prop::collection::vec([0.5f64..3.0, 3.0f64..20.0, 0.0f64..4.0], 4),
        signs in prop::collection::vec(prop::bool::ANY, 4),
        wants in prop::collection::vec((30f64..70.0, 0f64..15.0), 3),
        room in 1f64..20.0,
    ) {
        let cell = |k: usize| { let [gain, time, dead] = cells[k]; [if signs[k] { gain } else { -gain }, time, dead] };
        let cells = vec![vec![cell(0), cell(1)], vec![cell(2), cell(3)]];
        let mut own = settings(&cells, 2, 40.0, vec![1, 1, 2, 4]);
        for mv in &mut own.mvs {
            (mv.low, mv.high) = (50.0 - room, 50.0 + room);
        }
        let wanted = |k: usize, rank: u32| {
            let (middle, width) = wants[k];
            band(Some((middle - width, rank)), Some((middle + width, rank)))
        };
        own.cvs[0].follows_set_point = false;
        own.cvs[1].follows_set_point = false;
        own.beyond_horizon = false;
        let first = wanted(0, 1);
        (own.cvs[0].low, own.cvs[0].high) = (first.low, first.high);
        let upto = |bands: Vec<Band>| {
            let mut own = own.clone();
            own.cvs[0].bands = bands;
            looped(&cells, own, 3.0, Vec::new()).ahead(0.0).unwrap()
        };
        let all = upto(vec![wanted(1, 2), wanted(2, 3)]);
        let fewer = [upto(Vec::new()), upto(vec![wanted(1, 2)])];
        for (rank, without) in [(1, &fewer[0]), (1, &fewer[1]), (2, &fewer[1])] {
            for side in [Side::Low, Side::High] {
                let (with, alone) = (given(&all, side, rank), given(without, side, rank));
                prop_assert!((with - alone).abs() < 1e-4, "rank {}: {} with all, {} without", rank, with, alone);
            }
        }
    }
}

#[test]
fn a_document_with_bands_comes_back_as_it_was_and_one_without_says_nothing_of_them() {
    let trial = slaker();
    let text = serde_json::to_string(&trial).unwrap();
    assert_eq!(serde_json::from_str::<Trial>(&text).unwrap(), trial);
    let cells = vec![vec![[1.0, 10.0, 1.0]]];
    let plain =
        serde_json::to_string(&ControllerSpec::Predictive(Box::new(settings(&cells, 1, 40.0, vec![1, 2])))).unwrap();
    assert!(!plain.contains("bands"), "{plain}");
}
