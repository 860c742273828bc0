//! Heaters, vessels, an exchanger and a hall: energy balances. Energies are in kJ from 0 °C, heat flows in kW.

use super::super::description::{Balance, Description, Quantity, TermKind, UsualDrive};
use super::{Facts, HOUR, Laws, Number, Point, take};
use TermKind::{In, Lost, Out};

/// Range of temperatures that equipment survives, in °C.
const TEMPERATURE: (f64, f64) = (-100.0, 1000.0);
/// Range of what can be anything from nothing.
const ANY: (f64, f64) = (0.0, 1e7);
/// Range of what must be there.
const SOME: (f64, f64) = (1e-6, 1e7);

fn temperature(name: &str, value: f64, text: &str) -> Quantity {
    Quantity::new(name, "°C", value, TEMPERATURE, text)
}

fn drive(input: &str, at_0: f64, at_100: f64) -> UsualDrive {
    UsualDrive { input: input.to_owned(), at_0, at_100 }
}

/// t/h to kg/s.
const TONNES_PER_HOUR: f64 = 1000.0 / HOUR;

/// A stirred vessel through which liquid flows, with a heating element of its own mass and loss to ambient.
///
/// `M c T' = F c (Tf − T) + h_e (Te − T) − h_l (T − Ta)`, `C_e Te' = η P − h_e (Te − T)`.
pub(super) struct StirredHeater;

impl Facts for StirredHeater {
    fn describe(&self, _: &[f64]) -> Description {
        Description {
            batch: false,
            name: "stirred_heater".to_owned(),
            title: "Stirred heater with flow through it".to_owned(),
            states: vec![
                temperature("liquid_temperature", 60.0, "liquid, well stirred"),
                temperature("element_temperature", 80.0, "heating element"),
            ],
            inputs: vec![
                Quantity::new("power", "kW", 250.0, (0.0, 1e6), "heat given to the element"),
                Quantity::new("feed_flow", "t/h", 6.0, (0.0, 1e5), "what flows in and out"),
                temperature("feed_temperature", 20.0, "of the feed"),
                temperature("ambient_temperature", 15.0, "around the vessel"),
            ],
            outputs: vec![
                Quantity::output("liquid_temperature", "°C", "liquid, at the outlet too"),
                Quantity::output("element_temperature", "°C", "heating element"),
            ],
            parameters: vec![
                Quantity::new("holdup", "kg", 400.0, SOME, "liquid in the vessel"),
                Quantity::new("heat_capacity", "kJ/(kg K)", 4.0, SOME, "of the liquid"),
                Quantity::new("element_capacity", "kJ/K", 60.0, SOME, "heat to warm the element by 1 K"),
                Quantity::new("element_transfer", "kW/K", 8.0, ANY, "from element to liquid"),
                Quantity::new("loss", "kW/K", 0.15, ANY, "from liquid to ambient"),
                Quantity::new("efficiency", "", 1.0, (1e-3, 10.0), "share of the power that reaches the element"),
            ],
            balances: vec![Balance::new(
                "energy",
                "kJ",
                &[("power", In), ("feed", In), ("outflow", Out), ("loss", Lost)],
            )],
            drive: drive("power", 0.0, 600.0),
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * p[1] * x[0] + p[2] * x[1];
    }
}

impl Laws for StirredHeater {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let [holdup, heat_capacity, element_capacity, element_transfer, loss, efficiency] = take(at.p);
        let [power, flow, feed, ambient] = take(at.u);
        let [liquid, element] = take(at.x);
        let stream = flow * TONNES_PER_HOUR * heat_capacity;
        let transferred = element_transfer * (element - liquid);
        rates[0] = (stream * (feed - liquid) + transferred - loss * (liquid - ambient)) / (holdup * heat_capacity);
        rates[1] = (efficiency * power - transferred) / element_capacity;
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(at.x);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [_, heat_capacity, _, _, loss, efficiency] = take(at.p);
        let [power, flow, feed, ambient] = take(at.u);
        let stream = flow * TONNES_PER_HOUR * heat_capacity;
        terms.copy_from_slice(&[efficiency * power, stream * feed, stream * at.x[0], loss * (at.x[0] - ambient)]);
    }
}

/// A heated body that warms another; both lose heat to the air (Newton's law of cooling).
pub(super) struct TwoBodies;

impl Facts for TwoBodies {
    fn describe(&self, _: &[f64]) -> Description {
        Description {
            batch: false,
            name: "two_bodies".to_owned(),
            title: "Heated body that warms another".to_owned(),
            states: vec![
                temperature("heater_temperature", 60.0, "the heated body"),
                temperature("body_temperature", 50.0, "the body that it warms"),
            ],
            inputs: vec![
                Quantity::new("power", "kW", 0.05, (0.0, 1e6), "heat given to the heated body"),
                temperature("air_temperature", 20.0, "around both"),
            ],
            outputs: vec![
                Quantity::output("body_temperature", "°C", "the body that is warmed"),
                Quantity::output("heater_temperature", "°C", "the heated body"),
            ],
            parameters: vec![
                Quantity::new("heater_capacity", "kJ/K", 0.05, SOME, "heat to warm the heated body by 1 K"),
                Quantity::new("body_capacity", "kJ/K", 0.25, SOME, "heat to warm the other body by 1 K"),
                Quantity::new("coupling", "kW/K", 0.004, ANY, "from body to body"),
                Quantity::new("heater_loss", "kW/K", 0.0002, ANY, "from the heated body to the air"),
                Quantity::new("body_loss", "kW/K", 0.001, ANY, "from the other body to the air"),
            ],
            balances: vec![Balance::new("energy", "kJ", &[("power", In), ("loss", Lost)])],
            drive: drive("power", 0.0, 0.2),
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * x[0] + p[1] * x[1];
    }
}

impl Laws for TwoBodies {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let [heater_capacity, body_capacity, coupling, heater_loss, body_loss] = take(at.p);
        let [power, air] = take(at.u);
        let [heater, body] = take(at.x);
        let passed = coupling * (heater - body);
        rates[0] = (power - passed - heater_loss * (heater - air)) / heater_capacity;
        rates[1] = (passed - body_loss * (body - air)) / body_capacity;
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(&[at.x[1], at.x[0]]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [_, _, _, heater_loss, body_loss] = take(at.p);
        let [power, air] = take(at.u);
        terms.copy_from_slice(&[power, heater_loss * (at.x[0] - air) + body_loss * (at.x[1] - air)]);
    }
}

/// A closed vessel whose jacket is fed with hot medium, cold medium, or neither, by one demand from −100 to 100 %.
pub(super) struct JacketedVessel;

impl JacketedVessel {
    /// Heat flows in kW: the hot and the cold stream in, the jacket's outflow, to the vessel, and what both lose.
    fn flows<N: Number>(at: Point<'_, N>) -> [N; 5] {
        let [_, _, _, medium_capacity, transfer, loss, hot_flow, cold_flow] = take(at.p);
        let [demand, hot, cold, ambient] = take(at.u);
        let [vessel, jacket] = take(at.x);
        let hot_stream = hot_flow * medium_capacity * demand.kept_within(0.0, 100.0) / 100.0;
        let cold_stream = cold_flow * medium_capacity * (-demand).kept_within(0.0, 100.0) / 100.0;
        let leaving = (hot_stream + cold_stream) * jacket;
        [hot_stream * hot, cold_stream * cold, leaving, transfer * (jacket - vessel), loss * (vessel - ambient)]
    }
}

impl Facts for JacketedVessel {
    fn describe(&self, _: &[f64]) -> Description {
        Description {
            batch: false,
            name: "jacketed_vessel".to_owned(),
            title: "Batch vessel with a heating and cooling jacket".to_owned(),
            states: vec![
                temperature("vessel_temperature", 20.0, "what is in the vessel"),
                temperature("jacket_temperature", 20.0, "medium in the jacket"),
            ],
            inputs: vec![
                Quantity::new("demand", "%", 0.0, (-100.0, 100.0), "above 0 heats, below 0 cools"),
                temperature("hot_temperature", 110.0, "hot medium"),
                temperature("cold_temperature", 12.0, "cold medium"),
                temperature("ambient_temperature", 20.0, "around the vessel"),
            ],
            outputs: vec![
                Quantity::output("vessel_temperature", "°C", "what is in the vessel"),
                Quantity::output("jacket_temperature", "°C", "medium in the jacket"),
            ],
            parameters: vec![
                Quantity::new("charge", "kg", 800.0, SOME, "what is in the vessel"),
                Quantity::new("heat_capacity", "kJ/(kg K)", 3.6, SOME, "of the charge"),
                Quantity::new("jacket_capacity", "kJ/K", 450.0, SOME, "heat to warm jacket and wall by 1 K"),
                Quantity::new("medium_capacity", "kJ/(kg K)", 4.2, SOME, "of the media"),
                Quantity::new("transfer", "kW/K", 3.0, ANY, "from jacket to vessel"),
                Quantity::new("loss", "kW/K", 0.05, ANY, "from vessel to ambient"),
                Quantity::new("hot_flow", "kg/s", 1.5, ANY, "hot medium at a demand of 100 %"),
                Quantity::new("cold_flow", "kg/s", 1.5, ANY, "cold medium at a demand of −100 %"),
            ],
            balances: vec![Balance::new(
                "energy",
                "kJ",
                &[("hot medium", In), ("cold medium", In), ("jacket outflow", Out), ("loss", Lost)],
            )],
            drive: drive("demand", -100.0, 100.0),
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[0] * p[1] * x[0] + p[2] * x[1];
    }
}

impl Laws for JacketedVessel {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let [hot, cold, leaving, passed, lost] = Self::flows(at);
        rates[0] = (passed - lost) / (at.p[0] * at.p[1]);
        rates[1] = (hot + cold - leaving - passed) / at.p[2];
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(at.x);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [hot, cold, leaving, _, lost] = Self::flows(at);
        terms.copy_from_slice(&[hot, cold, leaving, lost]);
    }
}

/// A counter-current heat exchanger in cells, each well stirred on both sides.
pub(super) struct HeatExchanger;

/// Most cells.
const MOST_CELLS: f64 = 50.0;

impl Facts for HeatExchanger {
    fn describe(&self, p: &[f64]) -> Description {
        let cells = p.first().map_or(10.0, |cells| *cells) as usize;
        let side = |name: &str, start: f64| {
            (1..=cells)
                .map(|k| temperature(&format!("{name}_{k}"), start, "a cell, counted from the hot inlet"))
                .collect::<Vec<_>>()
        };
        let mut states = side("hot", 70.0);
        states.extend(side("cold", 40.0));
        Description {
            batch: false,
            name: "heat_exchanger".to_owned(),
            title: "Counter-current heat exchanger".to_owned(),
            states,
            inputs: vec![
                Quantity::new("hot_flow", "t/h", 10.0, (0.0, 1e5), "hot side"),
                Quantity::new("cold_flow", "t/h", 10.0, (0.0, 1e5), "cold side"),
                temperature("hot_inlet", 95.0, "of the hot side"),
                temperature("cold_inlet", 15.0, "of the cold side"),
            ],
            outputs: vec![
                Quantity::output("cold_outlet", "°C", "of the cold side"),
                Quantity::output("hot_outlet", "°C", "of the hot side"),
                Quantity::output("duty", "kW", "heat that passes over"),
            ],
            parameters: vec![
                Quantity::new("cells", "", 10.0, (1.0, MOST_CELLS), "on each side"),
                Quantity::new("transfer", "kW/K", 18.0, ANY, "through the whole wall; falls as it fouls"),
                Quantity::new("hot_holdup", "kg", 80.0, SOME, "hot side"),
                Quantity::new("cold_holdup", "kg", 80.0, SOME, "cold side"),
                Quantity::new("hot_capacity", "kJ/(kg K)", 4.2, SOME, "of the hot stream"),
                Quantity::new("cold_capacity", "kJ/(kg K)", 4.0, SOME, "of the cold stream"),
            ],
            balances: vec![
                Balance::new("hot side", "kJ", &[("hot inlet", In), ("hot outlet", Out), ("to the cold side", Out)]),
                Balance::new("cold side", "kJ", &[("cold inlet", In), ("from the hot side", In), ("cold outlet", Out)]),
            ],
            drive: drive("hot_flow", 0.0, 25.0),
        }
    }

    fn sizes(&self) -> &'static [usize] {
        &[0]
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        let n = x.len() / 2;
        let mean = |side: &[f64]| side.iter().sum::<f64>() / n as f64;
        contents[0] = p[2] * p[4] * mean(&x[..n]);
        contents[1] = p[3] * p[5] * mean(&x[n..]);
    }
}

impl Laws for HeatExchanger {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let n = at.x.len() / 2;
        let [_, transfer, hot_holdup, cold_holdup, hot_capacity, cold_capacity] = take(at.p);
        let [hot_flow, cold_flow, hot_inlet, cold_inlet] = take(at.u);
        let (hot, cold) = at.x.split_at(n);
        let share = 1.0 / n as f64;
        let (hot_stream, cold_stream) =
            (hot_flow * TONNES_PER_HOUR * hot_capacity, cold_flow * TONNES_PER_HOUR * cold_capacity);
        for i in 0..n {
            let passed = transfer * share * (hot[i] - cold[i]);
            let (before, after) =
                (if i == 0 { hot_inlet } else { hot[i - 1] }, if i + 1 == n { cold_inlet } else { cold[i + 1] });
            rates[i] = (hot_stream * (before - hot[i]) - passed) / (hot_holdup * share * hot_capacity);
            rates[n + i] = (cold_stream * (after - cold[i]) + passed) / (cold_holdup * share * cold_capacity);
        }
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        let n = at.x.len() / 2;
        outputs.copy_from_slice(&[at.x[n], at.x[n - 1], self.duty(at)]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let n = at.x.len() / 2;
        let [hot_flow, cold_flow, hot_inlet, cold_inlet] = take(at.u);
        let (hot_stream, cold_stream) = (hot_flow * TONNES_PER_HOUR * at.p[4], cold_flow * TONNES_PER_HOUR * at.p[5]);
        let duty = self.duty(at);
        terms.copy_from_slice(&[
            hot_stream * hot_inlet,
            hot_stream * at.x[n - 1],
            duty,
            cold_stream * cold_inlet,
            duty,
            cold_stream * at.x[n],
        ]);
    }
}

impl HeatExchanger {
    fn duty<N: Number>(&self, at: Point<'_, N>) -> N {
        let n = at.x.len() / 2;
        let difference: N = (0..n).map(|i| at.x[i] - at.x[n + i]).sum();
        at.p[1] * difference / n as f64
    }
}

/// A heated hall: the air and what stands in it, the walls, weather, sun and ventilation.
pub(super) struct HeatedHall;

/// Heat capacity of air per volume at 20 °C, kJ/(m³ K).
const AIR: f64 = 1.2;

impl HeatedHall {
    /// Heat flows in kW: sun through windows, sun on the walls, air to wall, wall to outside, through windows, by
    /// ventilation.
    fn flows<N: Number>(at: Point<'_, N>) -> [N; 6] {
        let [volume, _, _, inner, outer, windows, glass, absorbing] = take(at.p);
        let [_, outdoor, sun, changes] = take(at.u);
        let [air, wall] = take(at.x);
        let exchanged = changes * volume * AIR / HOUR;
        [
            glass * 1e-3 * sun,
            absorbing * 1e-3 * sun,
            inner * (air - wall),
            outer * (wall - outdoor),
            windows * (air - outdoor),
            exchanged * (air - outdoor),
        ]
    }
}

impl Facts for HeatedHall {
    fn describe(&self, _: &[f64]) -> Description {
        let outside = (-60.0, 60.0);
        Description {
            batch: false,
            name: "heated_hall".to_owned(),
            title: "Heated hall with walls, weather and sun".to_owned(),
            states: vec![
                Quantity::new("air_temperature", "°C", 20.0, (-60.0, 150.0), "air and what stands in it"),
                Quantity::new("wall_temperature", "°C", 15.0, (-60.0, 150.0), "walls and floor"),
            ],
            inputs: vec![
                Quantity::new("heating", "kW", 60.0, (0.0, 1e5), "heat given to the air"),
                Quantity::new("outdoor_temperature", "°C", 5.0, outside, "weather"),
                Quantity::new("sun", "W/m²", 0.0, (0.0, 1400.0), "on windows and walls"),
                Quantity::new("air_changes", "1/h", 0.8, (0.0, 100.0), "ventilation"),
            ],
            outputs: vec![
                Quantity::output("air_temperature", "°C", "air of the hall"),
                Quantity::output("wall_temperature", "°C", "walls and floor"),
            ],
            parameters: vec![
                Quantity::new("volume", "m³", 6000.0, SOME, "air in the hall"),
                Quantity::new("air_capacity", "kJ/K", 15_000.0, SOME, "heat to warm air and goods by 1 K"),
                Quantity::new("wall_capacity", "kJ/K", 120_000.0, SOME, "heat to warm the walls by 1 K"),
                Quantity::new("inner_transfer", "kW/K", 8.0, ANY, "from air to walls"),
                Quantity::new("outer_transfer", "kW/K", 1.6, ANY, "from walls to outside; falls with insulation"),
                Quantity::new("window_transfer", "kW/K", 0.5, ANY, "through the windows"),
                Quantity::new("glass_area", "m²", 60.0, ANY, "windows, times what they let through"),
                Quantity::new("absorbing_area", "m²", 250.0, ANY, "walls, times what they take up"),
            ],
            balances: vec![Balance::new(
                "energy",
                "kJ",
                &[("heating", In), ("sun", In), ("walls", Lost), ("windows", Lost), ("ventilation", Lost)],
            )],
            drive: drive("heating", 0.0, 150.0),
        }
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = p[1] * x[0] + p[2] * x[1];
    }
}

impl Laws for HeatedHall {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let [glass, absorbed, to_wall, to_outside, windows, ventilation] = Self::flows(at);
        rates[0] = (at.u[0] + glass - to_wall - windows - ventilation) / at.p[1];
        rates[1] = (to_wall + absorbed - to_outside) / at.p[2];
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(at.x);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let [glass, absorbed, _, to_outside, windows, ventilation] = Self::flows(at);
        terms.copy_from_slice(&[at.u[0], glass + absorbed, to_outside, windows, ventilation]);
    }
}
