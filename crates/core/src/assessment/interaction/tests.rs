use super::*;
use crate::process::{DetailedSpec, Element, NamedValue, ProcessSpec, TransferFunctionsSpec};
use crate::units::Span;
use crate::verdict::Tone;
use proptest::prelude::*;

/// A matrix of lags with dead time: gain, time constant, dead time in the places that are connected.
pub(super) fn lags(cells: &[&[Option<[f64; 3]>]]) -> Plant {
    let named = |letter: &str, k: usize| NamedValue {
        name: format!("{letter}{}", k + 1),
        unit: "%".into(),
        value: 50.0,
        low: None,
        high: None,
    };
    let mut elements = Vec::new();
    for (i, row) in cells.iter().enumerate() {
        for (j, cell) in row.iter().enumerate() {
            let Some([gain, time_constant, dead_time]) = cell else { continue };
            elements.push(Element {
                output: format!("y{}", i + 1),
                input: format!("u{}", j + 1),
                numerator: vec![*gain],
                denominator: vec![*time_constant, 1.0],
                dead_time: *dead_time,
            });
        }
    }
    let signals = |letter: &str| (0..cells.len()).map(|k| named(letter, k)).collect();
    plant(signals("u"), signals("y"), elements)
}

fn plant(inputs: Vec<NamedValue>, outputs: Vec<NamedValue>, elements: Vec<Element>) -> Plant {
    let spec = TransferFunctionsSpec { inputs, outputs, elements };
    Plant::usual(ProcessSpec::from(DetailedSpec::TransferFunctions(spec)), "X").unwrap()
}

pub(super) fn asked(count: usize) -> InteractionQuestion {
    InteractionQuestion {
        outputs: (1..=count)
            .map(|k| MeasuredOutput { output: format!("y{k}"), span: Span::new(0.0, 100.0, "%") })
            .collect(),
        inputs: (1..=count).map(|k| DrivenInput { input: format!("u{k}"), at_0: 0.0, at_100: 100.0 }).collect(),
    }
}

/// Wood & Berry, Chem. Eng. Sci. 28 (1973) 1707: a column for methanol and water, here with its minutes as seconds times 60.
pub(super) fn column() -> Plant {
    let cell = |gain: f64, minutes: f64, late: f64| Some([gain, 60.0 * minutes, 60.0 * late]);
    lags(&[&[cell(12.8, 16.7, 1.0), cell(-18.9, 21.0, 3.0)], &[cell(6.6, 10.9, 7.0), cell(-19.4, 14.4, 3.0)]])
}

fn near(value: f64, expected: f64, within: f64) -> bool {
    (value - expected).abs() <= within
}

#[test]
fn the_column_has_its_published_relative_gain() {
    let interaction = Interaction::of(&column(), &asked(2)).unwrap();
    let relative = interaction.relative_gains.as_ref().unwrap();
    // 2.009: published many times (Luyben 1986, say); condition number and index by hand from the gains.
    assert!(near(relative[0][0], 2.009, 5e-4) && near(relative[0][1], -1.009, 5e-4), "{relative:?}");
    assert!(near(interaction.condition_number.unwrap(), 7.48, 5e-3));
    let best = &interaction.pairings[0];
    assert_eq!((best.pairs[0].input.as_str(), best.pairs[1].input.as_str()), ("u1", "u2"));
    assert!(near(best.niederlinski_index.unwrap(), 123.58 / 248.32, 1e-9));
    // The wrong pairing is unstable with integral action, and is told so.
    let wrong = &interaction.pairings[1];
    assert!(wrong.tone == Tone::Bad && wrong.niederlinski_index.unwrap() < 0.0 && wrong.text.contains("unstable"));
    let texts: Vec<&str> = interaction.verdicts.iter().map(|verdict| verdict.text.as_str()).collect();
    assert!(texts[0].starts_with("Pair y1 with u1, y2 with u2.") && texts[0].contains("0.498 times"), "{texts:?}");
    assert!(texts[1].starts_with("Not y1 with u2, y2 with u1."), "{texts:?}");
    // Its determinant is 0 nowhere in the right half-plane.
    assert!(interaction.zeros.iter().all(|zero| zero.real < 0.0), "{:?}", interaction.zeros);
}

#[test]
#[allow(clippy::approx_constant, reason = "a pump of the paper happens to give 3.14 cm³/(V s)")]
fn the_four_tanks_turn_with_their_valves() {
    // Johansson, IEEE Trans. Control Systems Technology 8 (2000) 456, table and section III: λ = γ₁γ₂/(γ₁ + γ₂ − 1); zeros at −0.060
    // and −0.018 with more water below, at 0.013 and −0.057 with more above, from
    // levels that are printed with three digits.
    let phases = [
        ([0.70, 0.60, 3.33, 3.35], 12.4, 3.0, [-0.018, -0.060]),
        ([0.43, 0.34, 3.14, 3.29], 12.6, 3.15, [0.013, -0.057]),
    ];
    for ([split_1, split_2, gain_1, gain_2], level, volts, expected) in phases {
        let parameters = [("split_1", split_1), ("split_2", split_2), ("pump_gain_1", gain_1), ("pump_gain_2", gain_2)];
        let tanks = ProcessSpec::library("four_tanks", &parameters);
        let mut tanks = Plant::usual(tanks, "L").unwrap();
        tanks.operating_point.pv = level;
        tanks.inputs = [("pump_2".to_owned(), volts)].into();
        let question = InteractionQuestion::usual(&tanks).unwrap().unwrap();
        let interaction = Interaction::of(&tanks, &question).unwrap();
        let lambda = split_1 * split_2 / (split_1 + split_2 - 1.0);
        assert!(near(interaction.relative_gains.as_ref().unwrap()[0][0], lambda, 1e-6));
        let zeros: Vec<f64> = interaction.zeros.iter().map(|zero| zero.real).collect();
        assert!(zeros.iter().zip(expected).all(|(zero, expected)| near(*zero, expected, 1.5e-3)), "{zeros:?}");
        let backwards = interaction.verdicts.iter().any(|verdict| verdict.text.contains("the wrong way"));
        assert_eq!(backwards, split_1 + split_2 < 1.0);
        // The usual pairing holds in one phase only.
        let straight = interaction.pairings[0].pairs[0].input == "pump_1";
        assert_eq!(straight, split_1 + split_2 > 1.0, "{:?}", interaction.pairings);
    }
}

#[test]
fn loops_that_do_not_feel_each_other_are_told_so_and_integrators_have_relative_gains() {
    let apart = lags(&[&[Some([2.0, 30.0, 5.0]), None], &[None, Some([-1.0, 60.0, 0.0])]]);
    let interaction = Interaction::of(&apart, &asked(2)).unwrap();
    assert!(interaction.pairings[0].text.contains("hardly feel"), "{:?}", interaction.pairings);
    // A level (y1, which integrates both flows) and a temperature: the blend of two streams. By hand: rates 0.01 and 0.01, gains
    // 0.5 and −0.25: λ = 1/(1 − g12 g21/(g11 g22)) = 1/(1 + 2) for y1 with u1.
    let named = |name: &str| NamedValue { name: name.into(), unit: "%".into(), value: 0.0, low: None, high: None };
    let element = |output: &str, input: &str, gain: f64, denominator: &[f64]| Element {
        output: output.into(),
        input: input.into(),
        numerator: vec![gain],
        denominator: denominator.to_vec(),
        dead_time: 2.0,
    };
    let blend = plant(
        vec![named("u1"), named("u2")],
        vec![named("y1"), named("y2")],
        vec![
            element("y1", "u1", 0.01, &[1.0, 0.0]),
            element("y1", "u2", 0.01, &[1.0, 0.0]),
            element("y2", "u1", 0.5, &[20.0, 1.0]),
            element("y2", "u2", -0.25, &[20.0, 1.0]),
        ],
    );
    let interaction = Interaction::of(&blend, &asked(2)).unwrap();
    assert!(interaction.gains.is_none() && interaction.condition_number.is_none());
    let relative = interaction.relative_gains.unwrap();
    assert!(near(relative[0][0], 1.0 / 3.0, 1e-4), "{relative:?}");
    assert_eq!(interaction.pairings[0].pairs[0].input, "u2");
    // One input that is integrated beside one that acts at once: in the limit of slow changes only the first counts, however
    // small its rate (by hand: G⁻¹ of [a/s b; c d] gives λ11 = 1/(1 − b c s/(a d)), which goes to 1).
    let mixed = plant(
        vec![named("u1"), named("u2")],
        vec![named("y1"), named("y2")],
        vec![
            element("y1", "u1", 0.001, &[1.0, 0.0]),
            element("y1", "u2", 5.0, &[10.0, 1.0]),
            element("y2", "u1", 0.5, &[20.0, 1.0]),
            element("y2", "u2", 0.25, &[20.0, 1.0]),
        ],
    );
    let interaction = Interaction::of(&mixed, &asked(2)).unwrap();
    let relative = interaction.relative_gains.unwrap();
    assert!(near(relative[0][0], 1.0, 1e-3), "{relative:?}");
    assert_eq!(interaction.pairings[0].pairs[0].input, "u1");
}

#[test]
fn gains_that_cannot_be_inverted_and_questions_that_do_not_fit_are_told() {
    let flat =
        lags(&[&[Some([1.0, 10.0, 0.0]), Some([2.0, 10.0, 0.0])], &[Some([2.0, 10.0, 0.0]), Some([4.0, 10.0, 0.0])]]);
    let interaction = Interaction::of(&flat, &asked(2)).unwrap();
    assert!(interaction.relative_gains.is_none() && interaction.verdicts[0].text.contains("cannot be inverted"));
    let refused = |change: &dyn Fn(&mut InteractionQuestion)| {
        let mut question = asked(2);
        change(&mut question);
        Interaction::of(&column(), &question).unwrap_err().field().unwrap_or_default().to_owned()
    };
    assert_eq!(refused(&|question| drop(question.inputs.pop())), "inputs");
    assert_eq!(refused(&|question| question.outputs[1].output = "y9".into()), "outputs[1].output");
    assert_eq!(refused(&|question| question.outputs[1].output = "y1".into()), "outputs[1].output");
    assert_eq!(refused(&|question| question.outputs[0].span.unit = "°C".into()), "outputs[0].span.unit");
    assert_eq!(refused(&|question| question.inputs[0].at_100 = 0.0), "inputs[0].at_100");
    assert_eq!(refused(&|question| question.inputs[1].at_0 = f64::NAN), "inputs[1].at_0");
}

#[test]
fn the_usual_question_of_every_process_can_be_answered() {
    let mut asked = 0;
    for offer in crate::process::offers() {
        let plant = Plant::usual(offer.process, "X").unwrap();
        let Some(question) = InteractionQuestion::usual(&plant).unwrap() else { continue };
        if plant.operating_point.states.is_some() {
            continue;
        }
        let interaction = Interaction::of(&plant, &question).unwrap_or_else(|error| panic!("{}: {error}", offer.title));
        assert!(!interaction.verdicts.is_empty() && question.outputs.len() == 2, "{}", offer.title);
        asked += 1;
    }
    assert!(asked >= 4, "{asked}");
    // Two streams into a full tank move its composition and its temperature together: what flows out is asked for instead.
    let blend = Plant::usual(ProcessSpec::library("blending_tank", &[]), "X").unwrap();
    let interaction = Interaction::of(&blend, &InteractionQuestion::usual(&blend).unwrap().unwrap()).unwrap();
    assert!(interaction.relative_gains.is_some(), "{interaction:?}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// Relative gains sum to 1 over each row and column, and do not know of spans (Bristol 1966, both from their definition).
    #[test]
    fn relative_gains_sum_to_one_and_know_no_spans(
        gains in prop::collection::vec(-5f64..5.0, 9),
        spans in prop::collection::vec(0.1f64..1e3, 6),
    ) {
        let cells: Vec<Vec<Option<[f64; 3]>>> =
            gains.chunks(3).map(|row| row.iter().map(|gain| Some([*gain, 10.0, 1.0])).collect()).collect();
        let rows: Vec<&[Option<[f64; 3]>]> = cells.iter().map(Vec::as_slice).collect();
        let process = lags(&rows);
        let determinant = DMatrix::from_row_slice(3, 3, &gains).determinant();
        prop_assume!(determinant.abs() > 0.5 && gains.iter().all(|gain| gain.abs() > 0.01));
        let plain = Interaction::of(&process, &asked(3)).unwrap();
        let relative = plain.relative_gains.unwrap();
        for k in 0..3 {
            prop_assert!(near(relative[k].iter().sum(), 1.0, 1e-7));
            prop_assert!(near(relative.iter().map(|row| row[k]).sum(), 1.0, 1e-7));
        }
        let mut question = asked(3);
        for k in 0..3 {
            question.outputs[k].span = Span::new(0.0, spans[k], "%");
            question.inputs[k].at_100 = spans[3 + k];
        }
        let scaled = Interaction::of(&process, &question).unwrap();
        for (a, b) in scaled.relative_gains.unwrap().iter().flatten().zip(relative.iter().flatten()) {
            prop_assert!(near(*a, *b, 1e-6 * (1.0 + b.abs())));
        }
        // Of all pairings exactly the first is recommended, and its order does not depend on the spans.
        prop_assert_eq!(&scaled.pairings[0].pairs[0].input, &plain.pairings[0].pairs[0].input);
        prop_assert_eq!(scaled.pairings.len(), 6);
    }
}
