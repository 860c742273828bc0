//! PI settings of several loops: detuned together, or one after the other with those before closed.

use super::LoopsMethod;
use crate::lti::StateSpace;
use crate::numerics::{bisect, eigenvalues, peak_in};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use std::f64::consts::PI;

/// The direction in which a system answers slow changes.
pub(super) fn sign_at_rest(system: &StateSpace) -> f64 {
    let poles = eigenvalues(system.matrices().0.clone());
    let slowest = poles.iter().map(|pole| pole.norm()).filter(|norm| *norm > 1e-12).fold(1.0, f64::min);
    let slow = system.response(1e-4 * slowest);
    // Of one that integrates the answer lags by a quarter of a turn.
    if slow.im.abs() > slow.re.abs() { -slow.im } else { slow.re }
}

/// The ultimate gain and period of a system, `hold` seconds of dead time added: its first lag of half a turn.
pub(super) fn crossing(system: &StateSpace, hold: f64) -> Option<(f64, f64)> {
    let sign = sign_at_rest(system).signum();
    let response = |omega: f64| sign * system.response(omega) * Complex64::from_polar(1.0, -omega * hold);
    let (lowest, highest, late) = reach(system, hold);
    first_crossing(response, lowest, highest, late)
}

/// Between which frequencies a system lags by half a turn, if anywhere, and its dead time with the hold's.
fn reach(system: &StateSpace, hold: f64) -> (f64, f64, f64) {
    let poles = eigenvalues(system.matrices().0.clone());
    let sizes: Vec<f64> = poles.iter().map(|pole| pole.norm()).filter(|norm| *norm > 1e-12).collect();
    let slowest = sizes.iter().copied().fold(f64::MAX, f64::min).min(1e3);
    let fastest = sizes.iter().copied().fold(0.0, f64::max);
    let late = system.dead_time().seconds() + hold;
    (1e-3 * slowest, (1e3 * fastest).max(20.0 / late.max(1e-9)).min(1e9), late)
}

/// Ultimate gain and period of a response, at its first lag of half a turn.
fn first_crossing(response: impl Fn(f64) -> Complex64, lowest: f64, highest: f64, late: f64) -> Option<(f64, f64)> {
    let mut omega = lowest;
    while omega < highest {
        let next = omega + (0.02 * omega).min(0.1 / late.max(1e-12));
        if response(omega).im < 0.0 && response(next).im >= 0.0 {
            let at = bisect(omega, next, |omega| response(omega).im);
            return Some((response(at).norm().recip(), 2.0 * PI / at));
        }
        omega = next;
    }
    None
}

/// Settings of all loops.
pub(super) struct Settled {
    /// Ultimate gain and period of each loop as it was tuned: alone, or with those before it closed.
    pub ultimate: Vec<(f64, f64)>,
    /// Gain in %/%, above 0, and integral time of each.
    pub settings: Vec<(f64, f64)>,
    /// By what all were detuned together.
    pub factor: Option<f64>,
    /// The order in which they were tuned, where there is one.
    pub order: Option<Vec<usize>>,
    /// Of the loops together: the largest log modulus in dB, and the largest singular value of S.
    pub log_modulus: f64,
    pub sensitivity: f64,
}

/// The loops of a plant over frequency: what each OP does to each measured signal, hold included, in % of span per %.
struct Network<'a> {
    elements: &'a [Vec<StateSpace>],
    signs: Vec<f64>,
    hold: f64,
    /// Ultimate gain and period of each loop alone.
    alone: Vec<(f64, f64)>,
}

impl<'a> Network<'a> {
    fn new(elements: &'a [Vec<StateSpace>], scan: f64) -> Self {
        let (n, hold) = (elements.len(), 0.5 * scan);
        let alone = (0..n).map(|k| crossing(&elements[k][k], hold).unwrap_or((1.0, 1.0))).collect();
        Self { elements, signs: (0..n).map(|k| sign_at_rest(&elements[k][k]).signum()).collect(), hold, alone }
    }

    fn element(&self, i: usize, j: usize, omega: f64) -> Complex64 {
        self.elements[i][j].response(omega) * Complex64::from_polar(1.0, -omega * self.hold)
    }

    fn controller(&self, k: usize, (gain, time): (f64, f64), omega: f64) -> Complex64 {
        self.signs[k] * gain * (1.0 + (Complex64::new(0.0, omega) * time).inv())
    }

    /// `I + G C` of these loops, each with its settings.
    fn return_difference(&self, loops: &[(usize, (f64, f64))], omega: f64) -> DMatrix<Complex64> {
        let n = loops.len();
        DMatrix::from_fn(n, n, |a, b| {
            let ((i, _), (j, settings)) = (loops[a], loops[b]);
            let identity = if a == b { Complex64::ONE } else { Complex64::ZERO };
            identity + self.element(i, j, omega) * self.controller(j, settings, omega)
        })
    }

    /// `20 log |W/(1 + W)|` with `W = −1 + det(I + G C)`, dB.
    fn log_modulus(&self, settings: &[(f64, f64)], omega: f64) -> f64 {
        let w = self.return_difference(&numbered(settings), omega).determinant() - 1.0;
        20.0 * (w / (1.0 + w)).norm().log10()
    }

    /// The largest singular value of `(I + G C)⁻¹`.
    fn sensitivity(&self, settings: &[(f64, f64)], omega: f64) -> f64 {
        self.return_difference(&numbered(settings), omega).singular_values().min().recip()
    }

    /// The highest value over frequency: the peaks lie near the crossings; below them everything follows.
    fn highest(&self, of: impl Fn(f64) -> f64) -> f64 {
        const POINTS: usize = 400;
        let slowest = self.alone.iter().map(|point| point.1).fold(0.0, f64::max);
        let fastest = self.alone.iter().map(|point| point.1).fold(f64::MAX, f64::min);
        let (low, high) = ((0.02 / slowest).ln(), (4.0 * PI / fastest).ln());
        let at = |k: usize| low + (high - low) * k as f64 / POINTS as f64;
        let values: Vec<f64> = (0..=POINTS).map(|k| of(at(k).exp())).collect();
        let best = (0..=POINTS).max_by(|a, b| values[*a].total_cmp(&values[*b])).unwrap_or(0);
        peak_in(30, at(best.saturating_sub(1)), at((best + 1).min(POINTS)), |omega| of(omega.exp())).1
    }

    /// What OP `k` does to its own signal while these loops are closed.
    fn seen_by(&self, k: usize, closed: &[(usize, (f64, f64))], omega: f64) -> Complex64 {
        if closed.is_empty() {
            return self.element(k, k, omega);
        }
        let moved = DVector::from_fn(closed.len(), |a, _| self.element(closed[a].0, k, omega));
        let Some(error) = self.return_difference(closed, omega).lu().solve(&moved) else {
            return Complex64::new(f64::MAX, 0.0);
        };
        let back: Complex64 = (0..closed.len())
            .map(|b| {
                let (j, settings) = closed[b];
                self.element(k, j, omega) * self.controller(j, settings, omega) * error[b]
            })
            .sum();
        self.element(k, k, omega) - back
    }
}

fn numbered(settings: &[(f64, f64)]) -> Vec<(usize, (f64, f64))> {
    settings.iter().copied().enumerate().collect()
}

/// Settings of the loops of a plant by a method.
pub(super) fn settled(
    elements: &[Vec<StateSpace>],
    names: &[String],
    scan: f64,
    method: LoopsMethod,
    most: f64,
) -> Result<Settled> {
    let network = Network::new(elements, scan);
    if method == LoopsMethod::OneByOne {
        return one_by_one(&network, names);
    }
    let (factor, settings) = detuned(&network, method, most);
    Ok(Settled {
        log_modulus: network.highest(|omega| network.log_modulus(&settings, omega)),
        sensitivity: network.highest(|omega| network.sensitivity(&settings, omega)),
        ultimate: network.alone,
        settings,
        factor: Some(factor),
        order: None,
    })
}

/// The settings of Ziegler & Nichols (1942) for each loop alone, `Ku/2.2` and `Pu/1.2`, all gains divided and all integral times
/// multiplied by one factor, so that what the loops do together is within a limit: the largest log modulus, `20 log |W/(1 + W)|` with
/// `W = −1 + det(I + G C)`, within 2 dB a loop (Luyben, Ind. Eng. Chem. Process Des. Dev. 25 (1986) 654), or the largest singular value
/// of S within `most`.
fn detuned(network: &Network<'_>, method: LoopsMethod, most: f64) -> (f64, Vec<(f64, f64)>) {
    let settings = |factor: f64| -> Vec<(f64, f64)> {
        network.alone.iter().map(|(gain, period)| (gain / 2.2 / factor, period / 1.2 * factor)).collect()
    };
    let beyond = |factor: f64| {
        let own = settings(factor);
        if method == LoopsMethod::MaximumSensitivity {
            network.highest(|omega| network.sensitivity(&own, omega)) - most
        } else {
            network.highest(|omega| network.log_modulus(&own, omega)) - 2.0 * network.alone.len() as f64
        }
    };
    // More detuning lowers the peak; not even loops that do not feel each other are made quicker than alone.
    let factor = if beyond(1.0) <= 0.0 { 1.0 } else { bisect_falling(1.0, 200.0, beyond) };
    (factor, settings(factor))
}

/// The loops tuned one after the other, the quickest first, each by the rule of Tyreus & Luyben (Ind. Eng. Chem. Res. 31 (1992) 2625),
/// `Ku/3.2` and `2.2 Pu`, on what it sees of the plant with those before it closed (sequential loop closing; Mayne, Automatica 9 (1973)
/// 201).
fn one_by_one(network: &Network<'_>, names: &[String]) -> Result<Settled> {
    let n = network.elements.len();
    let mut order: Vec<usize> = (0..n).collect();
    order.sort_by(|a, b| network.alone[*a].1.total_cmp(&network.alone[*b].1));
    let mut closed: Vec<(usize, (f64, f64))> = Vec::new();
    let mut ultimate = vec![(1.0, 1.0); n];
    for k in &order {
        let (lowest, highest, late) = (0..n)
            .flat_map(|i| (0..n).map(move |j| (i, j)))
            .map(|(i, j)| reach(&network.elements[i][j], network.hold))
            .fold((f64::MAX, 0.0f64, 0.0f64), |a, b| (a.0.min(b.0), a.1.max(b.1), a.2.max(b.2)));
        let response = |omega: f64| network.signs[*k] * network.seen_by(*k, &closed, omega);
        if response(lowest).re < 0.0 && !network.elements[*k][*k].integrates() {
            return Err(Error::unfit(
                format!("with the quicker loops closed {} answers its OP the other way", names[*k]),
                "pair the signals otherwise: this pairing has a negative relative gain",
            ));
        }
        let point = first_crossing(response, lowest, highest, late).unwrap_or(network.alone[*k]);
        ultimate[*k] = point;
        closed.push((*k, (point.0 / 3.2, 2.2 * point.1)));
    }
    let mut settings = vec![(0.0, 0.0); n];
    closed.iter().for_each(|(k, own)| settings[*k] = *own);
    Ok(Settled {
        log_modulus: network.highest(|omega| network.log_modulus(&settings, omega)),
        sensitivity: network.highest(|omega| network.sensitivity(&settings, omega)),
        ultimate,
        settings,
        factor: None,
        order: Some(order),
    })
}

/// Where a falling function is 0, to four digits; its highest argument where it stays above.
fn bisect_falling(mut low: f64, mut high: f64, f: impl Fn(f64) -> f64) -> f64 {
    while high / low > 1.0 + 1e-4 {
        let middle = (low * high).sqrt();
        if f(middle) > 0.0 { low = middle } else { high = middle }
    }
    high
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::process::LinearSpec;

    /// Made by `reference/loops_together.py` with NumPy and SciPy.
    const REFERENCE: &str = include_str!("../../../../../reference/data/loops_together.json");

    fn by(elements: &[Vec<StateSpace>], method: LoopsMethod, most: f64) -> Settled {
        settled(elements, &["Y1".into(), "Y2".into()], 0.0, method, most).unwrap()
    }

    /// Wood & Berry, Chem. Eng. Sci. 28 (1973) 1707.
    fn column() -> Vec<Vec<StateSpace>> {
        let element = |gain: f64, tau: f64, late: f64| {
            LinearSpec::Fopdt { gain, time_constant: 60.0 * tau, dead_time: 60.0 * late }.state_space().unwrap()
        };
        vec![
            vec![element(12.8, 16.7, 1.0), element(-18.9, 21.0, 3.0)],
            vec![element(6.6, 10.9, 7.0), element(-19.4, 14.4, 3.0)],
        ]
    }

    #[test]
    fn one_by_one_and_within_a_sensitivity_they_are_those_of_scipy() {
        let known: serde_json::Value = serde_json::from_str(REFERENCE).unwrap();
        let found = by(&column(), LoopsMethod::OneByOne, 2.0);
        assert_eq!(found.order.as_deref(), Some(&[0, 1][..]));
        for (k, (ultimate, settings)) in found.ultimate.iter().zip(&found.settings).enumerate() {
            for (name, own) in [("ultimate", ultimate), ("settings", settings)] {
                let wanted = &known["one_by_one"][name][k];
                for (own, wanted) in [own.0, own.1].iter().zip(wanted.as_array().unwrap()) {
                    assert!((own / wanted.as_f64().unwrap() - 1.0).abs() < 1e-6, "{name} {k}: {own} for {wanted}");
                }
            }
        }
        let found = by(&column(), LoopsMethod::MaximumSensitivity, 2.0);
        let wanted = known["factor_for_sensitivity_2"].as_f64().unwrap();
        assert!((found.factor.unwrap() / wanted - 1.0).abs() < 1e-3, "{:?} for {wanted}", found.factor);
        assert!((found.sensitivity - 2.0).abs() < 1e-3, "{}", found.sensitivity);
    }

    #[test]
    fn a_pairing_of_the_wrong_sign_cannot_be_tuned_one_by_one() {
        let swapped: Vec<Vec<StateSpace>> = column()
            .into_iter()
            .map(|mut row| {
                row.reverse();
                row
            })
            .collect();
        let refused = settled(&swapped, &["Y1".into(), "Y2".into()], 0.0, LoopsMethod::OneByOne, 2.0).err().unwrap();
        assert!(refused.to_string().contains("answers its OP the other way"), "{refused}");
    }

    #[test]
    fn the_column_is_detuned_as_published() {
        // Luyben (1986), table for the column of Wood & Berry (from memory): F 2.55, gains 0.375 and 0.075, integral times 8.29 and
        // 23.6 min, for 4 dB.
        let minute = 60.0;
        let element = |gain: f64, tau: f64, late: f64| {
            LinearSpec::Fopdt { gain, time_constant: minute * tau, dead_time: minute * late }.state_space().unwrap()
        };
        let found = by(&column(), LoopsMethod::LargestLogModulus, 2.0);
        let near = |value: f64, published: f64| (value / published - 1.0).abs() < 0.01;
        assert!(near(found.factor.unwrap(), 2.55), "{:?}", found.factor);
        assert!(near(found.settings[0].0, 0.375) && near(found.settings[1].0, 0.075), "{:?}", found.settings);
        assert!(
            near(found.settings[0].1, 8.29 * minute) && near(found.settings[1].1, 23.6 * minute),
            "{:?}",
            found.settings
        );
        assert!((found.log_modulus - 4.0).abs() < 1e-2, "{}", found.log_modulus);
        // Loops that do not feel each other stay as they are alone where that is robust enough.
        let apart = vec![
            vec![element(1.0, 10.0, 1.0), element(1e-9, 1.0, 0.0)],
            vec![element(1e-9, 1.0, 0.0), element(1.0, 10.0, 1.0)],
        ];
        let apart = by(&apart, LoopsMethod::LargestLogModulus, 2.0);
        assert!(apart.factor < found.factor && apart.settings[0] == apart.settings[1], "{:?}", apart.factor);
    }
}
