//! Relative gains, and every way to pair outputs with inputs.

use super::frequency::{ratio, singular_values};
use crate::verdict::{Tone, readable};
use nalgebra::DMatrix;
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// An output with the input that is to control it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Pair {
    /// Name of the output.
    pub output: String,
    /// Name of the input.
    pub input: String,
    /// The relative gain: by what factor the gain of this pair falls when all other loops are closed.
    pub relative_gain: f64,
}

impl Pair {
    /// Output and input as they are read.
    pub(super) fn in_words(&self) -> String {
        format!("{} with {}", spoken(&self.output), spoken(&self.input))
    }
}

/// A name as it is read.
pub(super) fn spoken(name: &str) -> String {
    name.replace('_', " ")
}

/// One way to give each output an input of its own.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Pairing {
    /// The pairs, in the order of the outputs.
    pub pairs: Vec<Pair>,
    /// The Niederlinski index: det G(0) over the product of the gains of the pairs. Null where a pair has no gain.
    pub niederlinski_index: Option<f64>,
    /// Sum of the sizes of what the relative gains differ from 1 in the pairs and from 0 elsewhere.
    pub distance: f64,
    /// How it is to be taken.
    pub tone: Tone,
    /// What it does, in a sentence.
    pub text: String,
}

/// The rule by which pairings are judged.
pub(super) const RULE: &str = "pair on relative gains near 1, never on negative ones (Bristol, IEEE Trans. Automatic Control 11, \
     1966); with integral action a negative Niederlinski index is unstable (Niederlinski, Automatica 7, 1971; Grosdidier, Morari \
     & Holt, Ind. Eng. Chem. Fundam. 24, 1985)";

/// Relative gains far above 1 are as bad as those near 0.
const STRONG: f64 = 5.0;
const WEAK: f64 = 1.0 / 3.0;
/// Relative gains about 1 with which loops can be tuned each by itself, with a little left over.
const MILD: f64 = 1.5;
/// Relative gains as small as this are none.
const NO_GAIN: f64 = 1e-5;
/// Below this distance loops hardly feel each other.
const CALM: f64 = 0.5;

/// Rows and columns are made alike before a matrix is called singular, so that an integrator among them makes it none.
fn alike(gains: &DMatrix<Complex64>) -> DMatrix<Complex64> {
    let mut scaled = gains.clone();
    for mut row in scaled.row_iter_mut() {
        let size = row.norm().max(f64::MIN_POSITIVE);
        row.iter_mut().for_each(|value| *value /= size);
    }
    for mut column in scaled.column_iter_mut() {
        let size = column.norm().max(f64::MIN_POSITIVE);
        column.iter_mut().for_each(|value| *value /= size);
    }
    scaled
}

/// The relative gains `Λ = G ∘ (G⁻¹)ᵀ` (Bristol 1966), of slow changes their real parts; None where G cannot be inverted.
pub(super) fn relative_gains(gains: &DMatrix<Complex64>) -> Option<DMatrix<f64>> {
    let gains = alike(gains);
    singular_values(&gains).as_deref().and_then(ratio)?;
    let inverse = gains.clone().try_inverse()?;
    let relative = gains.component_mul(&inverse.transpose()).map(|value| value.re);
    relative.iter().all(|value| value.is_finite()).then_some(relative)
}

/// Every pairing, the one to be preferred first: such that can be stable before those that cannot, then by the distance of their
/// relative gains from those of loops that do not feel each other.
pub(super) fn all(
    gains: &DMatrix<Complex64>,
    relative: &DMatrix<f64>,
    outputs: &[String],
    inputs: &[String],
) -> Vec<Pairing> {
    let mut pairings: Vec<Pairing> = permutations(outputs.len())
        .into_iter()
        .map(|places| pairing(gains, relative, &places, outputs, inputs))
        .collect();
    let rank = |pairing: &Pairing| (u8::from(pairing.tone == Tone::Bad), pairing.distance);
    pairings.sort_by(|a, b| rank(a).0.cmp(&rank(b).0).then(rank(a).1.total_cmp(&rank(b).1)));
    pairings
}

/// All orders of the numbers below `count`.
fn permutations(count: usize) -> Vec<Vec<usize>> {
    let mut all = vec![Vec::new()];
    for _ in 0..count {
        all = all
            .into_iter()
            .flat_map(|begun: Vec<usize>| {
                let rest: Vec<usize> = (0..count).filter(|k| !begun.contains(k)).collect();
                rest.into_iter().map(move |k| [begun.clone(), vec![k]].concat())
            })
            .collect();
    }
    all
}

fn pairing(
    gains: &DMatrix<Complex64>,
    relative: &DMatrix<f64>,
    places: &[usize],
    outputs: &[String],
    inputs: &[String],
) -> Pairing {
    let pairs: Vec<Pair> = places
        .iter()
        .enumerate()
        .map(|(i, j)| Pair { output: outputs[i].clone(), input: inputs[*j].clone(), relative_gain: relative[(i, *j)] })
        .collect();
    // The columns in the order of the outputs they belong to.
    let ordered = DMatrix::from_fn(places.len(), places.len(), |i, j| gains[(i, places[j])]);
    let product: Complex64 = ordered.diagonal().iter().product();
    let index = (ordered.determinant() / product).re;
    let has_gain = pairs.iter().all(|pair| pair.relative_gain.abs() > NO_GAIN);
    let niederlinski_index = (has_gain && index.is_finite()).then_some(index);
    let distance = (0..places.len())
        .flat_map(|i| (0..places.len()).map(move |j| (i, j)))
        .map(|(i, j)| (relative[(i, j)] - f64::from(u8::from(places[i] == j))).abs())
        .sum();
    let (tone, text) = judged(&pairs, niederlinski_index, distance);
    Pairing { pairs, niederlinski_index, distance, tone, text }
}

fn judged(pairs: &[Pair], index: Option<f64>, distance: f64) -> (Tone, String) {
    let named = Pair::in_words;
    let by_size = |a: &&Pair, b: &&Pair| a.relative_gain.total_cmp(&b.relative_gain);
    let (Some(lowest), Some(highest)) = (pairs.iter().min_by(by_size), pairs.iter().max_by(by_size)) else {
        return (Tone::Bad, String::new());
    };
    let Some(index) = index else {
        let text = "A pair has no gain at rest: its loop acts only through the others, and fails when one of them is in manual.";
        return (Tone::Bad, text.to_owned());
    };
    if index < 0.0 {
        let text = format!(
            "With integral action in every loop this is unstable whatever the settings: the Niederlinski index is {}.",
            readable(index)
        );
        return (Tone::Bad, text);
    }
    if lowest.relative_gain <= 0.0 {
        let text = format!(
            "The gain of {} changes its sign when the other loops close: a loop that works by itself is unstable beside them, or \
             the other way round.",
            named(lowest)
        );
        return (Tone::Bad, text);
    }
    if highest.relative_gain > STRONG {
        let text = format!(
            "The loops fight each other: with the others closed the gain of {} falls to {} of what it is alone, and turns with small \
             errors of the gains.",
            named(highest),
            readable(highest.relative_gain.recip())
        );
        return (Tone::Caution, text);
    }
    if lowest.relative_gain < WEAK {
        let text = format!(
            "The gain of {} grows {} times when the other loops close: tune it with them closed, and expect it slow when they are in \
             manual.",
            named(lowest),
            readable(lowest.relative_gain.recip())
        );
        return (Tone::Caution, text);
    }
    if distance < CALM {
        return (Tone::Good, "The loops hardly feel each other: each can be tuned by itself.".to_owned());
    }
    let far = if (highest.relative_gain - 1.0).abs() >= (lowest.relative_gain - 1.0).abs() { highest } else { lowest };
    let text = format!(
        "The loops feel each other: with the others closed the gain of {} is {} times what it is alone. Tune them together, or \
         decouple them.",
        named(far),
        readable(far.relative_gain.recip())
    );
    let is_mild = highest.relative_gain < MILD && lowest.relative_gain > MILD.recip();
    (if is_mild { Tone::Good } else { Tone::Caution }, text)
}
