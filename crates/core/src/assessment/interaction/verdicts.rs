//! What the figures of interaction mean, in sentences.

use super::{Interaction, Pair, Pairing, pairing};
use crate::verdict::{Tone, Verdict, readable, readable_duration};

/// From here on a process is called ill-conditioned.
const ILL_CONDITIONED: f64 = 20.0;
/// Relative gains from here on make a decoupler worthless.
const TOO_LARGE: f64 = 10.0;

fn listed(pairing: &Pairing) -> String {
    let pairs: Vec<String> = pairing.pairs.iter().map(Pair::in_words).collect();
    pairs.join(", ")
}

pub(super) fn of(interaction: &Interaction) -> Vec<Verdict> {
    let mut verdicts = Vec::new();
    let Some(best) = interaction.pairings.first() else {
        verdicts.push(Verdict::new(
            Tone::Bad,
            "The gains at rest cannot be inverted: some combination of the outputs cannot be moved by these inputs at all.",
            "a matrix of gains without full rank cannot hold as many set points",
        ));
        return verdicts;
    };
    let pairs = listed(best);
    let text = if best.tone == Tone::Bad {
        format!("No pairing can be recommended. The least bad is {pairs}: {}", best.text)
    } else {
        format!("Pair {pairs}. {}", best.text)
    };
    verdicts.push(Verdict::new(best.tone, text, pairing::RULE));
    let is_warned_of = |other: &&Pairing| other.tone == Tone::Bad && other.niederlinski_index.is_some();
    for other in interaction.pairings[1..].iter().filter(is_warned_of).take(3) {
        verdicts.push(Verdict::new(Tone::Caution, format!("Not {}. {}", listed(other), other.text), pairing::RULE));
    }
    let largest =
        interaction.relative_gains.iter().flatten().flatten().fold(0.0, |most: f64, gain| most.max(gain.abs()));
    if largest > TOO_LARGE {
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "A relative gain of {} makes a decoupler sensitive: errors of the gains of {} % already turn it round.",
                readable(largest),
                readable(100.0 / largest)
            ),
            "large relative gains: no inverse-based control (Skogestad & Morari, Ind. Eng. Chem. Res. 26, 1987)",
        ));
    }
    if let Some(condition) = interaction.condition_number {
        let (tone, what) = if condition > ILL_CONDITIONED {
            (
                Tone::Caution,
                "one combination of the outputs is hard to move: check that the drives reach far enough for it",
            )
        } else {
            (Tone::Good, "all combinations of the outputs can be moved with similar effort")
        };
        verdicts.push(Verdict::new(
            tone,
            format!("The condition number is {} on these spans: {what}.", readable(condition)),
            format!("above {ILL_CONDITIONED} is called ill-conditioned: common practice; it depends on the spans"),
        ));
    }
    let right: Vec<_> = interaction.zeros.iter().filter(|zero| zero.real > 0.0).collect();
    if let Some(slowest) = right.first() {
        let size = slowest.real.hypot(slowest.imaginary);
        let felt: Vec<String> = slowest
            .output_direction
            .iter()
            .zip(&interaction.outputs)
            .filter(|(share, _)| share.abs() > 0.25)
            .map(|(_, name)| pairing::spoken(name))
            .collect();
        verdicts.push(Verdict::new(
            Tone::Caution,
            format!(
                "A zero in the right half-plane at {} 1/s lets no control be faster than about {} in the direction of {}: the first \
                 move there goes the wrong way.",
                readable(slowest.real),
                readable_duration(2.0 / size),
                felt.join(" and ")
            ),
            "bandwidth below half of a right half-plane zero (Skogestad & Postlethwaite 2005, section 5.9)",
        ));
    }
    verdicts
}
