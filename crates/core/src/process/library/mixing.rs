//! Mixing: streams that share a tank, so that what controls one output disturbs the other.

use super::super::Bound;
use super::super::description::{Balance, Description, Quantity, TermKind, UsualDrive};
use super::{Facts, GRAVITY, HOUR, Laws, Number, Point, take};
use TermKind::{In, Lost, Out};

const SOME: (f64, f64) = (1e-6, 1e7);
const ANY: (f64, f64) = (0.0, 1e7);
const TEMPERATURE: (f64, f64) = (-50.0, 400.0);

fn temperature(name: &str, value: f64, text: &str) -> Quantity {
    Quantity::new(name, "°C", value, TEMPERATURE, text)
}

fn flow(name: &str, value: f64, text: &str) -> Quantity {
    Quantity::new(name, "m³/h", value, (0.0, 1e5), text)
}

/// A hot and a cold stream into an upright tank that drains by gravity: level and temperature are coupled.
///
/// `V' = q_h + q_c − q − spill`, `ρ c V T' = ρ c (q_h (T_h − T) + q_c (T_c − T)) − h (T − T_a)`.
pub(super) struct MixingTank;

/// Share of the full volume below which the temperature is that of a film on the bottom.
const FILM: f64 = 1e-6;

/// Flows in m³/s and the loss in kW.
struct MixingFlows<N> {
    hot: N,
    cold: N,
    outflow: N,
    spill: N,
    loss: N,
}

impl MixingTank {
    fn flows<N: Number>(at: Point<'_, N>) -> MixingFlows<N> {
        let [area, height, outlet_area, discharge, _, _, loss] = take(at.p);
        let [hot, cold, _, _, opening, ambient] = take(at.u);
        let level = (at.x[0] / area).at_least(0.0);
        let (hot, cold) = (hot / HOUR, cold / HOUR);
        let wanted = opening / 100.0 * discharge * 1e-4 * outlet_area * (level * (2.0 * GRAVITY)).sqrt();
        let outflow = if at.held.is_low(0) { wanted.lower(hot + cold) } else { wanted };
        let spill = if at.held.is_high(0) { (hot + cold - outflow).at_least(0.0) } else { N::from(0.0) };
        // The wall gives off heat as far as it is wetted.
        MixingFlows { hot, cold, outflow, spill, loss: loss * level / height * (at.x[1] - ambient) }
    }
}

impl Facts for MixingTank {
    fn describe(&self, p: &[f64]) -> Description {
        let [area, height]: [f64; 2] = if p.is_empty() { [2.0, 2.5] } else { take(p) };
        let full = area * height;
        Description {
            batch: false,
            name: "mixing_tank".to_owned(),
            title: "Hot and cold stream into a tank".to_owned(),
            states: vec![
                Quantity::new("volume", "m³", 0.4 * full, (0.0, full), "liquid in the tank"),
                temperature("temperature", 40.0, "of the liquid"),
            ],
            inputs: vec![
                flow("hot_flow", 8.0, "hot stream"),
                flow("cold_flow", 8.0, "cold stream"),
                temperature("hot_temperature", 70.0, "of the hot stream"),
                temperature("cold_temperature", 12.0, "of the cold stream"),
                Quantity::new("outlet_opening", "%", 100.0, (0.0, 100.0), "opening of the valve in the outlet"),
                temperature("ambient_temperature", 15.0, "around the tank"),
            ],
            outputs: vec![
                Quantity::output("temperature", "°C", "of the liquid"),
                Quantity::output("level", "m", "height of the liquid"),
                Quantity::output("outflow", "m³/h", "what flows out"),
            ],
            parameters: vec![
                Quantity::new("area", "m²", 2.0, (1e-4, 1e5), "cross-section"),
                Quantity::new("height", "m", 2.5, (1e-3, 1e4), "height of the rim"),
                Quantity::new("outlet_area", "cm²", 16.0, (1e-4, 1e5), "free area of the outlet"),
                Quantity::new("discharge", "", 0.62, (0.01, 1.0), "discharge coefficient of the outlet"),
                Quantity::new("density", "kg/m³", 1000.0, SOME, "of the liquid"),
                Quantity::new("heat_capacity", "kJ/(kg K)", 4.18, SOME, "of the liquid"),
                Quantity::new("loss", "kW/K", 0.1, ANY, "through the wall of the full tank"),
            ],
            balances: vec![
                Balance::new("volume", "m³", &[("hot", In), ("cold", In), ("outflow", Out), ("spill", Lost)]),
                Balance::new(
                    "energy",
                    "kJ",
                    &[("hot", In), ("cold", In), ("outflow", Out), ("spill", Lost), ("loss", Lost)],
                ),
            ],
            drive: UsualDrive { input: "hot_flow".to_owned(), at_0: 0.0, at_100: 20.0 },
        }
    }

    fn bounds(&self, p: &[f64]) -> Vec<Bound> {
        vec![Bound {
            state: 0,
            low: 0.0,
            high: p[0] * p[1],
            at_low: "the tank runs dry".to_owned(),
            at_high: "the tank spills over its rim".to_owned(),
        }]
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = x[0];
        contents[1] = p[4] * p[5] * x[0] * x[1];
    }
}

impl Laws for MixingTank {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let MixingFlows { hot, cold, outflow, spill, loss } = Self::flows(at);
        let [area, height, _, _, density, heat_capacity] = take(at.p);
        let [_, _, hot_temperature, cold_temperature] = take(at.u);
        let [volume, temperature] = take(at.x);
        rates[0] = hot + cold - outflow - spill;
        let gained = hot * (hot_temperature - temperature) + cold * (cold_temperature - temperature)
            - loss / (density * heat_capacity);
        rates[1] = gained / volume.higher(area * FILM * height);
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(&[at.x[1], at.x[0] / at.p[0], Self::flows(at).outflow * HOUR]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let MixingFlows { hot, cold, outflow, spill, loss } = Self::flows(at);
        let [_, _, hot_temperature, cold_temperature] = take(at.u);
        let heat = at.p[4] * at.p[5];
        terms.copy_from_slice(&[
            hot,
            cold,
            outflow,
            spill,
            heat * hot * hot_temperature,
            heat * cold * cold_temperature,
            heat * outflow * at.x[1],
            heat * spill * at.x[1],
            loss,
        ]);
    }
}

/// A strong and a weak stream blended in a tank that overflows into the product line: concentration and temperature
/// are coupled.
pub(super) struct BlendingTank;

impl Facts for BlendingTank {
    fn describe(&self, _: &[f64]) -> Description {
        let strength = |name: &str, value: f64, text: &str| Quantity::new(name, "g/L", value, (0.0, 1e4), text);
        Description {
            batch: false,
            name: "blending_tank".to_owned(),
            title: "Two streams blended to a product".to_owned(),
            states: vec![
                strength("concentration", 30.0, "of the product"),
                temperature("temperature", 42.0, "of the product"),
            ],
            inputs: vec![
                flow("strong_flow", 6.0, "strong stream"),
                flow("weak_flow", 6.0, "weak stream"),
                strength("strong_concentration", 55.0, "of the strong stream"),
                strength("weak_concentration", 5.0, "of the weak stream"),
                temperature("strong_temperature", 65.0, "of the strong stream"),
                temperature("weak_temperature", 20.0, "of the weak stream"),
            ],
            outputs: vec![
                Quantity::output("concentration", "g/L", "of the product"),
                Quantity::output("temperature", "°C", "of the product"),
                Quantity::output("product_flow", "m³/h", "what leaves"),
            ],
            parameters: vec![
                Quantity::new("volume", "m³", 0.3, SOME, "liquid in the tank, up to the overflow"),
                Quantity::new("density", "kg/m³", 1030.0, SOME, "of all streams"),
                Quantity::new("heat_capacity", "kJ/(kg K)", 3.9, SOME, "of all streams"),
            ],
            balances: vec![
                Balance::new("solute", "kg", &[("strong", In), ("weak", In), ("product", Out)]),
                Balance::new("energy", "kJ", &[("strong", In), ("weak", In), ("product", Out)]),
            ],
            drive: UsualDrive { input: "strong_flow".to_owned(), at_0: 0.0, at_100: 15.0 },
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * x[0];
        contents[1] = p[0] * p[1] * p[2] * x[1];
    }
}

impl Laws for BlendingTank {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let [strong, weak, strong_concentration, weak_concentration, strong_temperature, weak_temperature] = take(at.u);
        let [concentration, temperature] = take(at.x);
        let per_second = (at.p[0] * HOUR).recip();
        rates[0] = per_second
            * (strong * (strong_concentration - concentration) + weak * (weak_concentration - concentration));
        rates[1] = per_second * (strong * (strong_temperature - temperature) + weak * (weak_temperature - temperature));
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(&[at.x[0], at.x[1], at.u[0] + at.u[1]]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [strong, weak, strong_concentration, weak_concentration, strong_temperature, weak_temperature] = take(at.u);
        let heat = at.p[1] * at.p[2];
        let product = strong + weak;
        let per_hour = [
            strong * strong_concentration,
            weak * weak_concentration,
            product * at.x[0],
            heat * strong * strong_temperature,
            heat * weak * weak_temperature,
            heat * product * at.x[1],
        ];
        for (term, value) in terms.iter_mut().zip(per_hour) {
            *term = value / HOUR;
        }
    }
}
