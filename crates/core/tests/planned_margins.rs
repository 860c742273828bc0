//! How far a predictive loop is from swinging, held against the simulated loop: that knows nothing of a frequency response.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

#[path = "support/planned.rs"]
#[allow(dead_code)]
mod planned;

use antistasis_core::assessment::{Margins, SampledLoop, assess, over_frequency};
use antistasis_core::controller::predictive::{KnownAhead, Law, Predictive, Sight};
use antistasis_core::simulation::{Event, Trial};
use antistasis_core::tuning::{Controlled, MismatchQuestion, mismatch_map};
use planned::{Cells, column, mv, plant, settings, trial, wood_berry};
use proptest::prelude::*;
use std::f64::consts::TAU;

fn margins(trial: &Trial) -> Option<Margins> {
    assess(trial, &trial.run().unwrap()).unwrap().margins
}

/// Whether what a small step sets going dies.
fn dies(trial: &Trial) -> bool {
    let trace = trial.run().unwrap();
    let off: Vec<f64> = column(&trace, "Y1.PV").iter().map(|pv| (pv - 50.0 - 1e-3).abs()).collect();
    let n = off.len();
    let largest = |from: usize, to: usize| off[from..to].iter().copied().fold(0.0, f64::max);
    // What has grown to a hundred steps only stops growing because the OP ends at its limits.
    largest(0, n) < 0.1 && largest(4 * n / 5, n) < largest(2 * n / 5, 3 * n / 5).max(1e-9)
}

/// The loop on a plant with other gains and dead times than the model has.
fn on_another(cells: &Cells, model: &Cells, usual_move: f64, swings: f64) -> Trial {
    let mut settings = settings(model, model.len(), 80.0, vec![1, 1, 2, 4, 8]);
    for mv in &mut settings.mvs {
        mv.usual_move = usual_move;
    }
    let mut trial = trial(plant(cells, cells.len()), settings, 1.0, swings);
    trial.scenario.events = vec![Event::set_point(1.0, 1e-3)];
    trial
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(16))]

    #[test]
    fn gain_and_delay_margins_are_where_the_simulated_loop_begins_to_swing(
        gain in prop_oneof![0.4f64..2.0, -2.0f64..-0.4],
        lag in 5f64..30.0,
        dead in 0f64..8.0,
        usual_move in 0.3f64..3.0,
    ) {
        let model = vec![vec![[gain, lag, dead]]];
        let found = margins(&on_another(&model, &model, usual_move, 10.0)).unwrap();
        prop_assert!(found.stable && found.max_sensitivity.unwrap() > 1.0);
        let (most, at) = (found.gain_margin.unwrap(), found.phase_crossover.unwrap());
        let swings = |omega: f64| (300.0 * TAU / omega).clamp(500.0, 40_000.0);
        let with = |factor: f64| dies(&on_another(&vec![vec![[gain * factor, lag, dead]]], &model, usual_move, swings(at)));
        prop_assert!(with(0.97 * most), "{found:?}");
        prop_assert!(!with(1.03 * most), "{found:?}");
        let (late, at) = (found.delay_margin.unwrap(), found.gain_crossover.unwrap());
        let with = |more: f64| dies(&on_another(&vec![vec![[gain, lag, dead + more]]], &model, usual_move, swings(at)));
        prop_assert!(with(0.95 * late - 0.05), "{found:?}");
        prop_assert!(!with(1.05 * late + 0.1), "{found:?}");
    }

    /// The law over frequency is what the controller does to a sine.
    #[test]
    fn the_law_over_frequency_is_what_the_controller_does_to_a_sine(
        lag in 5f64..30.0,
        dead in 0f64..6.0,
        period in 12u32..80,
        usual_move in 0.5f64..3.0,
    ) {
        let cells = vec![vec![[1.2, lag, dead], [-0.4, 10.0, 1.0]], vec![[0.5, 14.0, 2.0], [0.9, lag, 0.0]]];
        let mut settings = settings(&cells, 2, 60.0, vec![1, 2, 4]);
        settings.mvs[0] = mv(1, usual_move);
        let spans = vec![antistasis_core::units::Span::new(0.0, 100.0, "%"); 2];
        let law = Law::of(&settings, &spans, 1.0).unwrap().unwrap();
        prop_assert_eq!((law.integrators(), law.unstable_poles()), (2, 0));
        let omega = TAU / f64::from(period);
        let mut controller = Predictive::new(&settings, &spans, 1.0).unwrap();
        controller.rest(&[50.0; 2], &[50.0; 2], &[]);
        let mut applied = vec![50.0; 2];
        let whole = 60 * period as usize;
        // Of the moves, since what integrates drifts away from the middle.
        let mut sums = [num_complex::Complex64::ZERO; 2];
        for k in 0..whole {
            let sight = Sight {
                measured: &[50.0 + 1e-3 * (omega * k as f64).sin(), 50.0],
                set_points: &[50.0; 2],
                applied: &applied,
                set: &applied,
                available: &[true; 2],
                disturbances: &[],
                ahead: KnownAhead::default(),
            };
            let outputs = controller.scan(&sight).to_vec();
            if k >= whole / 2 {
                for (sum, (now, before)) in sums.iter_mut().zip(outputs.iter().zip(&applied)) {
                    *sum += (now - before) * num_complex::Complex64::from_polar(1.0, -omega * k as f64);
                }
            }
            applied = outputs;
        }
        let response = law.response(omega);
        for (mv, sum) in sums.iter().enumerate() {
            // sin = (e^iωt − e^−iωt)/2i; a move is 1 − 1/z of an output.
            let size = 1e-3 * (whole / 2) as f64 / num_complex::Complex64::new(0.0, 2.0);
            let move_of = 1.0 - num_complex::Complex64::from_polar(1.0, -omega);
            let wanted = response[(mv, 0)] * move_of;
            let found = sum / size;
            prop_assert!((found - wanted).norm() < 1e-4 * wanted.norm().max(0.1), "{mv}: {found} {wanted}");
        }
    }
}

/// Each MV of the column by itself, the other moved as well: where the simulated loop begins to swing when what the valve does is more.
#[test]
fn of_several_the_margin_at_each_mv_is_where_the_simulated_loops_begin_to_swing() {
    let model = wood_berry();
    let at_rest = on_another(&model, &model, 0.5, 10.0);
    for (mv, seat) in [None, Some("Y2")].into_iter().enumerate() {
        let found = over_frequency(&at_rest, seat).unwrap().unwrap();
        let margins = found.margins.unwrap();
        assert!(margins.stable, "{margins:?}");
        let most = margins.gain_margin.unwrap();
        let with = |factor: f64| {
            let mut cells = model.clone();
            for row in &mut cells {
                row[mv][0] *= factor;
            }
            dies(&on_another(&cells, &model, 0.5, 4000.0))
        };
        assert!(with(0.97 * most) && !with(1.03 * most), "{mv}: {most}");
        // At that seat the loop and what it moves belong together: L is what comes back of what is seen.
        let curves = found.curves.unwrap();
        assert!(curves.omega.len() > 50 && curves.sensitivity.iter().all(|s| s.is_finite()));
    }
    let together = over_frequency(&at_rest, None).unwrap().unwrap().together.unwrap();
    assert!(together.stable && together.loops == ["Y1", "Y2"]);
    // Integral action in both: at rest nothing of a disturbance comes through, and far above all that moves all of it does.
    assert!(together.largest_sensitivity[0] < 0.05, "{}", together.largest_sensitivity[0]);
    let peak = together.peak_sensitivity.unwrap().height;
    assert!((1.0..3.0).contains(&peak), "{peak}");
}

/// A plant that answers five hundred times as weakly under moves that are five hundred times as large is the same loop; and what an MV
/// costs pushes where it rests, not how it answers.
#[test]
fn the_law_is_found_however_strongly_it_answers_and_whatever_a_move_costs() {
    let spans = [antistasis_core::units::Span::new(0.0, 100.0, "%")];
    let law = |gain: f64, usual_move: f64| {
        let mut settings = settings(&vec![vec![[gain, 20.0, 3.0]]], 1, 60.0, vec![1, 2, 4]);
        settings.mvs[0].usual_move = usual_move;
        Law::of(&settings, &spans, 1.0).unwrap().unwrap()
    };
    let (plain, weak) = (law(1.0, 0.05), law(2e-3, 25.0));
    assert_eq!((plain.integrators(), weak.integrators()), (1, 1));
    for omega in [1e-3, 0.02, 0.3, 2.0] {
        let (own, other) = (plain.response(omega)[(0, 0)], 2e-3 * weak.response(omega)[(0, 0)]);
        assert!((own - other).norm() < 1e-4 * own.norm(), "{omega}: {own} {other}");
    }
    let spare = |cost: f64| {
        let mut settings = settings(&vec![vec![[1.0, 20.0, 3.0], [0.6, 8.0, 1.0]]], 2, 60.0, vec![1, 2, 4]);
        settings.mvs[1].cost = cost;
        Law::of(&settings, &spans, 1.0).unwrap().unwrap()
    };
    let (cheap, dear) = (spare(0.5), spare(500.0));
    for omega in [1e-3, 0.02, 0.3, 2.0] {
        let off = (cheap.response(omega) - dear.response(omega)).norm();
        assert!(off < 1e-9 * cheap.response(omega).norm(), "{omega}: {off}");
    }
}

#[test]
fn a_loop_by_itself_has_all_that_a_pid_loop_has() {
    let model = vec![vec![[1.0, 20.0, 5.0]]];
    let trial = on_another(&model, &model, 1.0, 50.0);
    let sampled = SampledLoop::of(&trial).unwrap().unwrap();
    let closed = sampled.with(&trial.candidate.controller).unwrap().unwrap();
    let alone = closed.margins();
    assert_eq!(margins(&trial).unwrap().gain_margin, alone.gain_margin);
    let controlled = Controlled::of(&trial.plant).unwrap();
    let map = mismatch_map(
        &controlled,
        &trial.plant.pv.span,
        1.0,
        &trial.candidate.controller,
        &MismatchQuestion { dead_time_ratios: [0.5, 1.5], points: 11, ..MismatchQuestion::default() },
        2,
    )
    .unwrap();
    let as_it_is = map.dead_time_ratios.iter().position(|ratio| (ratio - 1.0).abs() < 1e-9).unwrap();
    let limit = map.stability_limit[as_it_is].unwrap();
    assert!((limit / alone.gain_margin.unwrap() - 1.0).abs() < 0.01, "{limit} {:?}", alone.gain_margin);
    // What a load costs beside what it costs as modelled is what the controller itself, with a plan at every scan, lets it cost.
    let error = |gain: f64, dead_time: f64| -> f64 {
        let mut other = on_another(&vec![vec![[gain, 20.0, 5.0 * dead_time]]], &model, 1.0, 50.0);
        other.scenario.duration = 1500.0;
        other.scenario.events = vec![Event::load(0.0, 1.0)];
        column(&other.run().unwrap(), "Y1.PV").iter().map(|pv| (pv - 50.0).abs()).sum()
    };
    let nominal = error(1.0, 1.0);
    for (row, place) in [(2, 3), (as_it_is, 5), (8, 6), (10, 2)] {
        let (gain, dead_time) = (map.gain_ratios[place], map.dead_time_ratios[row]);
        let (said, is) = (map.degradation[row][place], error(gain, dead_time) / nominal);
        assert!((said.unwrap() / is - 1.0).abs() < 2e-3, "{gain} {dead_time}: {said:?} {is}");
    }
    // One that only keeps a range does nothing while it is kept.
    let mut range = trial.clone();
    planned::predictive(&mut range).cvs[0].follows_set_point = false;
    assert_eq!(margins(&range), None);
    // A model of a gain of the wrong sign drives the loop away, and that is told.
    let wrong = on_another(&vec![vec![[-1.0, 20.0, 5.0]]], &model, 1.0, 50.0);
    assert!(!margins(&wrong).unwrap().stable);
}
