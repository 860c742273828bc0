//! Reactors: mole balances, and energy balances where the reaction is not isothermal.

use super::super::description::{Balance, Description, Quantity, TermKind, UsualDrive};
use super::{Facts, Laws, MINUTE, Number, Point, ZERO_CELSIUS, take};
use TermKind::{Generated, In, Lost, Out};

const SOME: (f64, f64) = (1e-9, 1e20);
const ANY: (f64, f64) = (0.0, 1e20);
/// Beyond these a reactor has frozen or run away, in °C.
const TEMPERATURE: (f64, f64) = (-50.0, 400.0);

fn temperature(name: &str, value: f64, text: &str) -> Quantity {
    Quantity::new(name, "°C", value, TEMPERATURE, text)
}

fn concentration(name: &str, value: f64, text: &str) -> Quantity {
    Quantity::new(name, "mol/L", value, (-1e-3, 100.0), text)
}

/// Arrhenius's law: the rate constant at a temperature in °C.
fn arrhenius<N: Number>(factor: N, activation: N, celsius: N) -> N {
    factor * (-activation / (celsius + ZERO_CELSIUS)).exp()
}

/// A continuous stirred reactor with a first-order exothermic reaction A → B, cooled through its wall: it lights, goes out
/// and runs away. The coolant's temperature is an input, or that of a jacket through which coolant flows.
///
/// Equations and usual parameters: Seborg, Edgar & Mellichamp, Process Dynamics and Control (the stirred-tank reactor
/// example); the jacket as a second energy balance is common practice.
pub(super) struct StirredReactor {
    pub with_jacket: bool,
}

/// The terms of the balances: mol/min and J/min.
struct ReactorFlows<N> {
    feed: N,
    outflow: N,
    reacted: N,
    heat_in: N,
    heat_out: N,
    heat_made: N,
    cooled: N,
    coolant_in: N,
    coolant_out: N,
}

impl StirredReactor {
    fn flows<N: Number>(&self, at: Point<'_, N>) -> ReactorFlows<N> {
        let [volume, density, heat_capacity, heat, activation, factor, transfer, activity, _, coolant_capacity] =
            take(at.p);
        let [coolant, flow, feed, feed_temperature, coolant_inlet] = take(at.u);
        let [concentration, temperature, jacket] = take(at.x);
        let reacted = activity * arrhenius(factor, activation, temperature) * concentration * volume;
        let stream = flow * density * heat_capacity;
        let surface = if self.with_jacket { jacket } else { coolant };
        let coolant_stream = if self.with_jacket { coolant * coolant_capacity } else { N::from(0.0) };
        ReactorFlows {
            feed: flow * feed,
            outflow: flow * concentration,
            reacted,
            heat_in: stream * feed_temperature,
            heat_out: stream * temperature,
            heat_made: heat * reacted,
            cooled: transfer * (temperature - surface),
            coolant_in: if self.with_jacket { coolant_stream * coolant_inlet } else { N::from(0.0) },
            coolant_out: if self.with_jacket { coolant_stream * jacket } else { N::from(0.0) },
        }
    }
}

impl Facts for StirredReactor {
    fn describe(&self, _: &[f64]) -> Description {
        let mut states = vec![
            concentration("concentration", 0.8773, "of A in the reactor"),
            temperature("temperature", 51.3, "in the reactor"),
        ];
        let mut inputs = vec![temperature("coolant_temperature", 26.85, "at the cooled wall")];
        if self.with_jacket {
            states.push(temperature("jacket_temperature", 30.0, "coolant in the jacket"));
            inputs[0] = Quantity::new("coolant_flow", "L/min", 100.0, (0.0, 1e6), "through the jacket");
        }
        inputs.extend([
            Quantity::new("feed_flow", "L/min", 100.0, (0.0, 1e6), "in and out"),
            concentration("feed_concentration", 1.0, "of A in the feed"),
            temperature("feed_temperature", 76.85, "of the feed"),
        ]);
        let mut parameters = vec![
            Quantity::new("volume", "L", 100.0, SOME, "liquid in the reactor"),
            Quantity::new("density", "g/L", 1000.0, SOME, "of the liquid"),
            Quantity::new("heat_capacity", "J/(g K)", 0.239, SOME, "of the liquid"),
            Quantity::new("reaction_heat", "J/mol", 5e4, (-1e9, 1e9), "given off by the reaction"),
            Quantity::new("activation_temperature", "K", 8750.0, ANY, "activation energy over the gas constant"),
            Quantity::new("rate_factor", "1/min", 7.2e10, ANY, "of Arrhenius's law"),
            Quantity::new("transfer", "J/(min K)", 5e4, ANY, "through the cooled wall; falls as it fouls"),
            Quantity::new("activity", "", 1.0, (0.0, 10.0), "of the catalyst"),
        ];
        let energy: &[(&str, TermKind)] = &[("feed", In), ("outflow", Out), ("reaction", Generated), ("cooling", Lost)];
        let mut balances = vec![
            Balance::new("reactant A", "mol", &[("feed", In), ("outflow", Out), ("reacted", Lost)]),
            Balance::new("energy", "J", energy),
        ];
        let mut outputs = vec![
            Quantity::output("temperature", "°C", "in the reactor"),
            Quantity::output("concentration", "mol/L", "of A in the reactor"),
            Quantity::output("conversion", "%", "share of the feed that has reacted"),
        ];
        let (name, title, drive) = if self.with_jacket {
            inputs.push(temperature("coolant_inlet", 15.0, "of the coolant"));
            parameters.push(Quantity::new("jacket_heat", "J/K", 6e4, SOME, "heat to warm the jacket by 1 K"));
            parameters.push(Quantity::new("coolant_capacity", "J/(L K)", 4180.0, SOME, "of the coolant"));
            balances.push(Balance::new(
                "jacket energy",
                "J",
                &[("coolant", In), ("from the reactor", In), ("coolant outflow", Out)],
            ));
            outputs.push(Quantity::output("jacket_temperature", "°C", "coolant in the jacket"));
            let drive = UsualDrive { input: "coolant_flow".to_owned(), at_0: 0.0, at_100: 200.0 };
            ("jacketed_reactor", "Exothermic stirred reactor with a flowing jacket", drive)
        } else {
            let drive = UsualDrive { input: "coolant_temperature".to_owned(), at_0: 0.0, at_100: 50.0 };
            ("stirred_reactor", "Exothermic stirred reactor with cooled wall", drive)
        };
        Description {
            batch: false,
            name: name.to_owned(),
            title: title.to_owned(),
            states,
            inputs,
            outputs,
            parameters,
            balances,
            drive,
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * x[0];
        contents[1] = p[0] * p[1] * p[2] * x[1];
        if self.with_jacket {
            contents[2] = p[8] * x[2];
        }
    }
}

impl Laws for StirredReactor {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let flows = self.flows(at);
        let [volume, density, heat_capacity] = take(at.p);
        rates[0] = (flows.feed - flows.outflow - flows.reacted) / (volume * MINUTE);
        let gained = flows.heat_in - flows.heat_out + flows.heat_made - flows.cooled;
        rates[1] = gained / (volume * density * heat_capacity * MINUTE);
        if self.with_jacket {
            rates[2] = (flows.coolant_in + flows.cooled - flows.coolant_out) / (at.p[8] * MINUTE);
        }
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        let feed = at.u[2];
        let conversion = if feed.re() > 0.0 { (-(at.x[0] / feed) + 1.0) * 100.0 } else { N::from(0.0) };
        outputs[..3].copy_from_slice(&[at.x[1], at.x[0], conversion]);
        if self.with_jacket {
            outputs[3] = at.x[2];
        }
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let flows = self.flows(at);
        let per_minute = [
            flows.feed,
            flows.outflow,
            flows.reacted,
            flows.heat_in,
            flows.heat_out,
            flows.heat_made,
            flows.cooled,
            flows.coolant_in,
            flows.cooled,
            flows.coolant_out,
        ];
        for (term, value) in terms.iter_mut().zip(per_minute) {
            *term = value / MINUTE;
        }
    }
}

/// An isothermal continuous stirred reactor with A → B → C and 2 A → D: the yield of B has a maximum over the flow, and
/// B answers the flow inversely beyond it (van de Vusse, Chem. Eng. Sci. 19, 1964; usual parameters after Bequette,
/// Process Dynamics, from memory).
pub(super) struct SeriesParallel;

impl Facts for SeriesParallel {
    fn describe(&self, _: &[f64]) -> Description {
        Description {
            batch: false,
            name: "series_parallel_reactor".to_owned(),
            title: "Isothermal reactor with series and parallel reaction".to_owned(),
            states: vec![concentration("a", 3.0, "of A"), concentration("b", 1.117, "of B, the product")],
            inputs: vec![
                Quantity::new("feed_flow", "L/min", 400.0 / 7.0, (0.0, 1e6), "in and out"),
                concentration("feed_concentration", 10.0, "of A in the feed"),
            ],
            outputs: vec![
                Quantity::output("product", "mol/L", "B in the outflow"),
                Quantity::output("a", "mol/L", "A in the outflow"),
            ],
            parameters: vec![
                Quantity::new("volume", "L", 100.0, SOME, "liquid in the reactor"),
                Quantity::new("rate_a_to_b", "1/min", 5.0 / 6.0, ANY, "A → B"),
                Quantity::new("rate_b_to_c", "1/min", 5.0 / 3.0, ANY, "B → C"),
                Quantity::new("rate_a_to_d", "L/(mol min)", 1.0 / 6.0, ANY, "2 A → D"),
            ],
            balances: vec![
                Balance::new("A", "mol", &[("feed", In), ("outflow", Out), ("to B", Lost), ("to D", Lost)]),
                Balance::new("B", "mol", &[("from A", Generated), ("outflow", Out), ("to C", Lost)]),
            ],
            drive: UsualDrive { input: "feed_flow".to_owned(), at_0: 0.0, at_100: 200.0 },
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * x[0];
        contents[1] = p[0] * x[1];
    }
}

impl Laws for SeriesParallel {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let mut terms = [N::from(0.0); 7];
        self.terms(at, &mut terms);
        let [feed, out_a, to_b, to_d, from_a, out_b, to_c] = terms;
        rates[0] = (feed - out_a - to_b - to_d) / at.p[0];
        rates[1] = (from_a - out_b - to_c) / at.p[0];
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(&[at.x[1], at.x[0]]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [volume, k1, k2, k3] = take(at.p);
        let [flow, feed] = take(at.u);
        let [a, b] = take(at.x);
        let to_b = k1 * a * volume;
        let per_minute = [flow * feed, flow * a, to_b, k3 * a * a * volume, to_b, flow * b, k2 * b * volume];
        for (term, value) in terms.iter_mut().zip(per_minute) {
            *term = value / MINUTE;
        }
    }
}

/// A batch reactor with A → B → C, both exothermic, whose temperature follows a programme through its jacket: too cold
/// wastes time, too hot wastes B (common practice; the parameters are made up).
pub(super) struct Batch;

impl Facts for Batch {
    fn describe(&self, _: &[f64]) -> Description {
        Description {
            batch: true,
            name: "batch_reactor".to_owned(),
            title: "Batch reactor with consecutive reactions".to_owned(),
            states: vec![
                concentration("a", 2.0, "of A"),
                concentration("b", 0.0, "of B, the product"),
                concentration("c", 0.0, "of C, the by-product"),
                temperature("temperature", 25.0, "in the reactor"),
            ],
            inputs: vec![temperature("jacket_temperature", 25.0, "of the medium in the jacket")],
            outputs: vec![
                Quantity::output("temperature", "°C", "in the reactor"),
                Quantity::output("a", "mol/L", "A in the reactor"),
                Quantity::output("product", "mol/L", "B in the reactor"),
                Quantity::output("by_product", "mol/L", "C in the reactor"),
            ],
            parameters: vec![
                Quantity::new("volume", "L", 1000.0, SOME, "liquid in the reactor"),
                Quantity::new("heat_capacity", "J/(L K)", 3600.0, SOME, "of the liquid"),
                Quantity::new("transfer", "J/(min K)", 120_000.0, ANY, "through the wall"),
                Quantity::new("rate_factor_1", "1/min", 1.2e6, ANY, "of A → B"),
                Quantity::new("activation_temperature_1", "K", 6000.0, ANY, "of A → B"),
                Quantity::new("reaction_heat_1", "J/mol", 60_000.0, (-1e9, 1e9), "given off by A → B"),
                Quantity::new("rate_factor_2", "1/min", 1e10, ANY, "of B → C"),
                Quantity::new("activation_temperature_2", "K", 9500.0, ANY, "of B → C"),
                Quantity::new("reaction_heat_2", "J/mol", 80_000.0, (-1e9, 1e9), "given off by B → C"),
            ],
            balances: vec![
                Balance::new("A", "mol", &[("to B", Lost)]),
                Balance::new("B", "mol", &[("from A", Generated), ("to C", Lost)]),
                Balance::new("C", "mol", &[("from B", Generated)]),
                Balance::new("energy", "J", &[("jacket", In), ("A to B", Generated), ("B to C", Generated)]),
            ],
            drive: UsualDrive { input: "jacket_temperature".to_owned(), at_0: 5.0, at_100: 105.0 },
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        for i in 0..3 {
            contents[i] = p[0] * x[i];
        }
        contents[3] = p[0] * p[1] * x[3];
    }
}

impl Laws for Batch {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let mut terms = [N::from(0.0); 7];
        self.terms(at, &mut terms);
        let [to_b, _, to_c, _, jacket, heat_1, heat_2] = terms;
        let volume = at.p[0];
        rates[0] = -to_b / volume;
        rates[1] = (to_b - to_c) / volume;
        rates[2] = to_c / volume;
        rates[3] = (jacket + heat_1 + heat_2) / (volume * at.p[1]);
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        let [a, b, c, temperature] = take(at.x);
        outputs.copy_from_slice(&[temperature, a, b, c]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [volume, _, transfer, factor_1, activation_1, heat_1, factor_2, activation_2, heat_2] = take(at.p);
        let [a, b, _, temperature] = take(at.x);
        let first = arrhenius(factor_1, activation_1, temperature) * a * volume / MINUTE;
        let second = arrhenius(factor_2, activation_2, temperature) * b * volume / MINUTE;
        let jacket = transfer * (at.u[0] - temperature) / MINUTE;
        terms.copy_from_slice(&[first, first, second, second, jacket, heat_1 * first, heat_2 * second]);
    }
}
