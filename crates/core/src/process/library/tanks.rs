//! Tanks: volume balances with outflow by gravity or by a pump.

use super::super::Bound;
use super::super::description::{Balance, Description, Quantity, TermKind, UsualDrive};
use super::{Facts, GRAVITY, HOUR, Laws, Number, Point, take};
use crate::numerics::rounded;
use TermKind::{In, Lost, Out};
use std::f64::consts::PI;

/// The shape of a tank.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Shape {
    Upright,
    Lying,
    Cone,
    Sphere,
}

/// What drives the outflow.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Outflow {
    Gravity,
    Pumped,
}

/// One tank: `V' = inflow − outflow − spill`, the state being the volume V.
pub(super) struct Tank {
    pub shape: Shape,
    pub outflow: Outflow,
}

impl Shape {
    fn parameters(self) -> Vec<Quantity> {
        let size = |name: &str, unit: &str, value: f64, text: &str| Quantity::new(name, unit, value, (1e-3, 1e6), text);
        match self {
            Self::Upright => {
                vec![size("area", "m²", 6.0, "cross-section"), size("height", "m", 4.0, "height of the rim")]
            }
            Self::Lying => vec![size("diameter", "m", 2.0, "inner diameter"), size("length", "m", 5.0, "inner length")],
            Self::Cone => {
                vec![
                    size("top_diameter", "m", 3.0, "diameter at the rim"),
                    size("height", "m", 4.0, "from apex to rim"),
                ]
            }
            Self::Sphere => vec![size("diameter", "m", 3.0, "inner diameter")],
        }
    }

    /// How many parameters describe it.
    fn sizes(self) -> usize {
        if self == Self::Sphere { 1 } else { 2 }
    }

    /// Volume to the rim in m³.
    fn full<N: Number>(self, [a, b]: [N; 2]) -> N {
        match self {
            Self::Upright => a * b,
            Self::Lying => a * (0.25 * PI) * a * b,
            Self::Cone => a * PI * a * b / 12.0,
            Self::Sphere => a * PI * a * a / 6.0,
        }
    }

    /// Level in m at a volume of 0 to full.
    fn level<N: Number>(self, [a, b]: [N; 2], volume: N) -> N {
        match self {
            Self::Upright => volume / a,
            Self::Lying => a * 0.5 * (-(segment_angle(volume * 8.0 / (a * a * b)) * 0.5).cos() + 1.0),
            Self::Cone => b * (volume / self.full([a, b])).at_least(0.0).cbrt(),
            // s = h/D solves 3s² − 2s³ = V/full; the root between 0 and 1 in closed form.
            Self::Sphere => {
                let share = (volume / self.full([a, b])).kept_within(0.0, 1.0);
                a * (-((-(share * 2.0) + 1.0).asin() / 3.0).sin() + 0.5)
            }
        }
    }
}

/// The angle φ from 0 to 2π with `φ − sin φ = c`: the angle at the centre of a circle segment of area `c r²/2`.
fn segment_angle<N: Number>(c: N) -> N {
    let phi = angle_of_segment(c.re().clamp(0.0, 2.0 * PI));
    // c = φ − sin φ: dφ/dc = 1/(1 − cos φ).
    c.through(phi, || (1.0 - phi.cos()).recip())
}

fn angle_of_segment(c: f64) -> f64 {
    let small = c.min(2.0 * PI - c);
    // For small angles φ³/6 = c; Newton's method from there rises to the root.
    let mut phi = (6.0 * small).cbrt().min(PI);
    for _ in 0..30 {
        let slope = 1.0 - phi.cos();
        if slope <= 0.0 {
            break;
        }
        let step = (phi - phi.sin() - small) / slope;
        phi -= step;
        if step.abs() < 1e-15 * phi {
            break;
        }
    }
    if c <= PI { phi } else { 2.0 * PI - phi }
}

/// The flows of a tank in m³/s.
struct Flows<N> {
    inflow: N,
    outflow: N,
    spill: N,
}

impl Tank {
    fn flows<N: Number>(&self, at: Point<'_, N>) -> Flows<N> {
        let (sizes, rest) = at.p.split_at(self.shape.sizes());
        let [outlet_area, discharge] = take(rest);
        let [first, second] = take(at.u);
        let (inflow, wanted) = match self.outflow {
            Outflow::Gravity => {
                let head = self.shape.level(take(sizes), at.x[0].at_least(0.0));
                (first / HOUR, second / 100.0 * drain(outlet_area, discharge, head))
            }
            Outflow::Pumped => (second / HOUR, first / HOUR),
        };
        let outflow = if at.held.is_low(0) { wanted.lower(inflow) } else { wanted };
        let spill = if at.held.is_high(0) { (inflow - outflow).at_least(0.0) } else { N::from(0.0) };
        Flows { inflow, outflow, spill }
    }
}

/// Outflow in m³/s through an opening of `area` cm² under `head` m of liquid (Torricelli's law with a discharge
/// coefficient).
fn drain<N: Number>(area: N, discharge: N, head: N) -> N {
    discharge * 1e-4 * area * (head * (2.0 * GRAVITY)).sqrt()
}

impl Facts for Tank {
    fn describe(&self, p: &[f64]) -> Description {
        let mut parameters = self.shape.parameters();
        let (name, title) = match (self.outflow, self.shape) {
            (Outflow::Pumped, _) => ("pumped_tank", "Upright tank with pumped outflow (integrating)"),
            (_, Shape::Upright) => ("upright_tank", "Upright tank drained by gravity"),
            (_, Shape::Lying) => ("lying_tank", "Lying cylinder drained by gravity"),
            (_, Shape::Cone) => ("cone_tank", "Cone, apex down, drained by gravity"),
            (_, Shape::Sphere) => ("sphere_tank", "Sphere drained by gravity"),
        };
        let usual: Vec<f64> = parameters.iter().map(|parameter| parameter.value).collect();
        let full: f64 = self.shape.full(take(if p.is_empty() { &usual } else { p }));
        let flow = (0.0, 1e5);
        let inputs = match self.outflow {
            Outflow::Gravity => {
                parameters.push(Quantity::new("outlet_area", "cm²", 20.0, (1e-4, 1e5), "free area of the outlet"));
                parameters.push(Quantity::new(
                    "discharge",
                    "",
                    0.62,
                    (0.01, 1.0),
                    "discharge coefficient of the outlet",
                ));
                vec![
                    Quantity::new("inflow", "m³/h", 20.0, flow, "what flows in"),
                    Quantity::new("outlet_opening", "%", 100.0, (0.0, 100.0), "opening of the valve in the outlet"),
                ]
            }
            Outflow::Pumped => vec![
                Quantity::new("outflow", "m³/h", 20.0, flow, "what the pump is to draw"),
                Quantity::new("inflow", "m³/h", 20.0, flow, "what flows in"),
            ],
        };
        Description {
            batch: false,
            name: name.to_owned(),
            title: title.to_owned(),
            states: vec![Quantity::new("volume", "m³", 0.4 * full, (0.0, full), "liquid in the tank")],
            drive: UsualDrive { input: inputs[0].name.clone(), at_0: 0.0, at_100: 40.0 },
            inputs,
            outputs: vec![
                Quantity::output("level", "m", "height of the liquid"),
                Quantity::output("actual_outflow", "m³/h", "what flows out"),
                Quantity::output("spill", "m³/h", "what runs over the rim"),
            ],
            parameters,
            balances: vec![Balance::new("volume", "m³", &[("inflow", In), ("outflow", Out), ("spill", Lost)])],
        }
    }

    fn bounds(&self, p: &[f64]) -> Vec<Bound> {
        vec![tank_bound(0, self.shape.full(take(p)), "the tank")]
    }

    fn contents(&self, _: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = x[0];
    }
}

impl Laws for Tank {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let Flows { inflow, outflow, spill } = self.flows(at);
        rates[0] = inflow - outflow - spill;
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        let Flows { outflow, spill, .. } = self.flows(at);
        outputs.copy_from_slice(&[self.shape.level(take(at.p), at.x[0]), outflow * HOUR, spill * HOUR]);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let Flows { inflow, outflow, spill } = self.flows(at);
        terms.copy_from_slice(&[inflow, outflow, spill]);
    }
}

fn tank_bound(state: usize, high: f64, name: &str) -> Bound {
    Bound { state, low: 0.0, high, at_low: format!("{name} runs dry"), at_high: format!("{name} spills over its rim") }
}

/// Tanks in series, each draining into the next: by its own head, or by the difference of the heads where they stand
/// on one level and interact.
pub(super) struct Series {
    pub interacting: bool,
}

/// Most tanks in a row.
const MOST_TANKS: f64 = 10.0;
/// Difference of heads in m below which the flow between two tanks is laminar, so that it has a finite slope at 0.
const LAMINAR_HEAD: f64 = 1e-6;

impl Series {
    /// An inflow in m³/h that the tanks can pass on without spilling: 15, or what fills the fullest one by less than 0.7.
    fn usual_inflow(&self, [n, _, height, outlet, last_outlet, discharge]: [f64; 6]) -> f64 {
        let head_of_unit_flow = |opening: f64| (discharge * 1e-4 * opening).powi(-2) / (2.0 * GRAVITY);
        let (each, last) = (head_of_unit_flow(outlet), head_of_unit_flow(last_outlet));
        let highest = if self.interacting { (n - 1.0) * each + last } else { each.max(last) };
        let most = HOUR * (0.7 * height / highest).sqrt();
        if most > 15.0 { 15.0 } else { rounded(0.98 * most, 2) }
    }

    /// Inflow, spill and outflow of each tank in m³/s, in this order; calls `each(tank, in, spill, out)`.
    fn flows<N: Number>(&self, at: Point<'_, N>, mut each: impl FnMut(usize, N, N, N)) {
        let [_, area, _, outlet, last_outlet, discharge] = take(at.p);
        let n = at.x.len();
        let [feed, side_feed] = take(at.u);
        let mut arriving = feed / HOUR;
        for i in 0..n {
            let level = |k: usize| at.x[k] / area;
            let opening = if i + 1 == n { last_outlet } else { outlet };
            let leaving = if self.interacting && i + 1 < n {
                let head = level(i) - level(i + 1);
                let root = head / (head * head + LAMINAR_HEAD * LAMINAR_HEAD).sqrt().sqrt();
                discharge * 1e-4 * opening * (2.0 * GRAVITY).sqrt() * root
            } else {
                drain(opening, discharge, level(i).at_least(0.0))
            };
            let inflow = if i + 1 == n { arriving + side_feed / HOUR } else { arriving };
            let leaving = if at.held.is_low(i) { leaving.lower(inflow.at_least(0.0)) } else { leaving };
            let spill = if at.held.is_high(i) { (inflow - leaving).at_least(0.0) } else { N::from(0.0) };
            each(i, inflow, spill, leaving);
            arriving = leaving;
        }
    }
}

impl Facts for Series {
    fn describe(&self, p: &[f64]) -> Description {
        let parameters = vec![
            Quantity::new("tanks", "", 2.0, (2.0, MOST_TANKS), "how many stand in a row"),
            Quantity::new("area", "m²", 1.5, (1e-4, 1e5), "cross-section of each"),
            Quantity::new("height", "m", 3.0, (1e-3, 1e4), "height of the rim of each"),
            Quantity::new("outlet_area", "cm²", 15.0, (1e-4, 1e5), "free area of each outlet but the last"),
            Quantity::new("last_outlet_area", "cm²", 15.0, (1e-4, 1e5), "free area of the last outlet"),
            Quantity::new("discharge", "", 0.62, (0.01, 1.0), "discharge coefficient of the outlets"),
        ];
        let values: Vec<f64> =
            if p.is_empty() { parameters.iter().map(|parameter| parameter.value).collect() } else { p.to_vec() };
        let n = values[0] as usize;
        let full = values[1] * values[2];
        let usual_inflow = self.usual_inflow(take(&values));
        let (name, title) = if self.interacting {
            ("interacting_tanks", "Tanks in series that interact")
        } else {
            ("tanks_in_series", "Tanks in series without interaction")
        };
        // The last tank is what one measures first.
        let mut outputs: Vec<Quantity> =
            (1..=n).rev().map(|k| Quantity::output(format!("level_{k}"), "m", "height of the liquid")).collect();
        outputs.push(Quantity::output("outflow", "m³/h", "what leaves the last tank"));
        Description {
            batch: false,
            name: name.to_owned(),
            title: title.to_owned(),
            states: (1..=n)
                .map(|k| Quantity::new(format!("volume_{k}"), "m³", 0.4 * full, (0.0, full), "liquid in the tank"))
                .collect(),
            inputs: vec![
                Quantity::new("inflow", "m³/h", usual_inflow, (0.0, 1e5), "what flows into the first tank"),
                Quantity::new("side_inflow", "m³/h", 0.0, (0.0, 1e5), "what flows into the last tank besides"),
            ],
            outputs,
            parameters,
            balances: vec![Balance::new(
                "volume",
                "m³",
                &[("inflow", In), ("side inflow", In), ("outflow", Out), ("spill", Lost)],
            )],
            drive: UsualDrive { input: "inflow".to_owned(), at_0: 0.0, at_100: 40.0 },
        }
    }

    fn sizes(&self) -> &'static [usize] {
        &[0]
    }

    fn bounds(&self, p: &[f64]) -> Vec<Bound> {
        let [n, area, height] = take(p);
        (0..n as usize).map(|k| tank_bound(k, area * height, &format!("tank {}", k + 1))).collect()
    }

    fn contents(&self, _: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = x.iter().sum();
    }
}

impl Laws for Series {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        self.flows(at, |i, inflow, spill, leaving| rates[i] = inflow - spill - leaving);
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        let n = at.x.len();
        for i in 0..n {
            outputs[n - 1 - i] = at.x[i] / at.p[1];
        }
        self.flows(at, |_, _, _, leaving| outputs[n] = leaving * HOUR);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        terms.copy_from_slice(&[at.u[0] / HOUR, at.u[1] / HOUR, N::from(0.0), N::from(0.0)]);
        self.flows(at, |_, _, spill, leaving| {
            terms[2] = leaving;
            terms[3] += spill;
        });
    }
}

/// Four coupled tanks, two above two, fed by two pumps whose flows are split crosswise (Johansson, IEEE Trans. Control
/// Systems Technology 8(3), 2000), in centimetres.
pub(super) struct FourTanks;

/// Gravity as the paper has it, in cm/s².
const GRAVITY_CM: f64 = 981.0;

/// Of the four tanks in cm³/s: what flows in from pumps and from above, what leaves, what spills.
struct FourFlows<N> {
    fed: [N; 4],
    inflow: [N; 4],
    leaving: [N; 4],
    spill: [N; 4],
}

impl FourTanks {
    fn flows<N: Number>(at: Point<'_, N>) -> FourFlows<N> {
        let [_, _, outlet_odd, outlet_even, k1, k2, split1, split2] = take(at.p);
        let [v1, v2] = take(at.u);
        let fed = [split1 * k1 * v1, split2 * k2 * v2, (-split2 + 1.0) * k2 * v2, (-split1 + 1.0) * k1 * v1];
        let mut inflow = fed;
        let (mut leaving, mut spill) = ([N::from(0.0); 4], [N::from(0.0); 4]);
        // The upper tanks 3 and 4 first: they drain into 1 and 2.
        for i in [2, 3, 0, 1] {
            let outlet = if i % 2 == 0 { outlet_odd } else { outlet_even };
            leaving[i] = outlet * (at.x[i].at_least(0.0) * (2.0 * GRAVITY_CM)).sqrt();
            if at.held.is_low(i) {
                leaving[i] = leaving[i].lower(inflow[i]);
            }
            if at.held.is_high(i) {
                spill[i] = (inflow[i] - leaving[i]).at_least(0.0);
            }
            if i >= 2 {
                inflow[i - 2] += leaving[i];
            }
        }
        FourFlows { fed, inflow, leaving, spill }
    }

    fn area<N: Copy>(p: &[N], i: usize) -> N {
        p[i % 2]
    }
}

impl Facts for FourTanks {
    fn describe(&self, p: &[f64]) -> Description {
        let height = p.get(8).copied().unwrap_or(20.0);
        let area = |name: &str, value: f64, text: &str| Quantity::new(name, "cm²", value, (1e-4, 1e6), text);
        let level = |k: usize, value: f64| {
            Quantity::new(format!("level_{k}"), "cm", value.min(0.9 * height), (0.0, height), "height of the liquid")
        };
        Description {
            batch: false,
            name: "four_tanks".to_owned(),
            title: "Four coupled tanks with two pumps".to_owned(),
            states: vec![level(1, 12.4), level(2, 12.7), level(3, 1.8), level(4, 1.4)],
            inputs: vec![
                Quantity::new("pump_1", "V", 3.0, (0.0, 100.0), "voltage of pump 1, which feeds tanks 1 and 4"),
                Quantity::new("pump_2", "V", 3.0, (0.0, 100.0), "voltage of pump 2, which feeds tanks 2 and 3"),
            ],
            outputs: (1..=4).map(|k| Quantity::output(format!("level_{k}"), "cm", "height of the liquid")).collect(),
            parameters: vec![
                area("area_odd", 28.0, "cross-section of tanks 1 and 3"),
                area("area_even", 32.0, "cross-section of tanks 2 and 4"),
                area("outlet_odd", 0.071, "outlet of tanks 1 and 3"),
                area("outlet_even", 0.057, "outlet of tanks 2 and 4"),
                Quantity::new("pump_gain_1", "cm³/(V s)", 3.33, (0.0, 1e4), "flow of pump 1 per volt"),
                Quantity::new("pump_gain_2", "cm³/(V s)", 3.35, (0.0, 1e4), "flow of pump 2 per volt"),
                Quantity::new("split_1", "", 0.70, (0.0, 1.0), "share of pump 1 that goes to tank 1"),
                Quantity::new("split_2", "", 0.60, (0.0, 1.0), "share of pump 2 that goes to tank 2"),
                Quantity::new("height", "cm", 20.0, (0.1, 1e4), "height of the rims"),
            ],
            balances: vec![Balance::new("volume", "cm³", &[("pumps", In), ("outlets 1 and 2", Out), ("spill", Lost)])],
            drive: UsualDrive { input: "pump_1".to_owned(), at_0: 0.0, at_100: 10.0 },
        }
    }

    fn bounds(&self, p: &[f64]) -> Vec<Bound> {
        (0..4).map(|k| tank_bound(k, p[8], &format!("tank {}", k + 1))).collect()
    }

    fn contents(&self, p: &[f64], x: &[f64], contents: &mut [f64]) {
        contents[0] = (0..4).map(|i| Self::area(p, i) * x[i]).sum();
    }
}

impl Laws for FourTanks {
    fn rates<N: Number>(&self, at: Point<'_, N>, rates: &mut [N]) {
        let FourFlows { inflow, leaving, spill, .. } = Self::flows(at);
        for i in 0..4 {
            rates[i] = (inflow[i] - leaving[i] - spill[i]) / Self::area(at.p, i);
        }
    }

    fn outputs<N: Number>(&self, at: Point<'_, N>, outputs: &mut [N]) {
        outputs.copy_from_slice(at.x);
    }

    fn terms<N: Number>(&self, at: Point<'_, N>, terms: &mut [N]) {
        let FourFlows { fed, leaving, spill, .. } = Self::flows(at);
        terms.copy_from_slice(&[fed.into_iter().sum(), leaving[0] + leaving[1], spill.into_iter().sum()]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn levels_of_known_volumes() {
        // Half full is half high for the lying cylinder and the sphere; a cone half high holds an eighth. Segment and cap
        // at a quarter of the diameter: r²(π/3 − √3/4) and πh²(3r − h)/3 (any table of solids).
        let (lying, sphere, cone) = (Shape::Lying, Shape::Sphere, Shape::Cone);
        assert!((lying.level([2.0, 5.0], 0.5 * lying.full([2.0, 5.0])) - 1.0).abs() < 1e-12);
        assert!((lying.level([2.0, 5.0], 5.0 * (PI / 3.0 - 3f64.sqrt() / 4.0)) - 0.5).abs() < 1e-12);
        assert!((sphere.level([3.0, 0.0], 0.5 * sphere.full([3.0, 0.0])) - 1.5).abs() < 1e-12);
        assert!((sphere.level([3.0, 0.0], PI * 0.75 * 0.75 * (4.5 - 0.75) / 3.0) - 0.75).abs() < 1e-12);
        assert!((cone.level([3.0, 4.0], cone.full([3.0, 4.0]) / 8.0) - 2.0).abs() < 1e-12);
        for shape in [lying, sphere, cone, Shape::Upright] {
            let size = [2.0, 3.0];
            let top = if shape == lying || shape == sphere { 2.0 } else { 3.0 };
            assert!(shape.level(size, 0.0).abs() < 1e-9 && (shape.level(size, shape.full(size)) - top).abs() < 1e-7);
        }
        for c in [1e-9, 0.01, 1.0, 3.0, PI, 4.0, 6.2] {
            let phi = segment_angle(c);
            assert!((phi - phi.sin() - c).abs() < 1e-12, "{c} {phi}");
        }
    }
}
