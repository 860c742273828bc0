//! Curves over time, for paper: lines are told apart by their dashes, and each is named.
//!
//! Written here since plotters, which would be the library for it, rounds every point to a whole pixel and draws each dash as a path of
//! its own.

use crate::drawing::{Anchor, Drawing, Pen};

const WIDTH: f64 = 680.0;
const PANEL: f64 = 150.0;
const GAP: f64 = 22.0;
const LEFT: f64 = 62.0;
const RIGHT: f64 = 10.0;
const TOP: f64 = 22.0;
const BOTTOM: f64 = 34.0;
/// Points that a curve has at most: two a pixel.
const MOST_POINTS: usize = 1200;
/// Inks and dashes in their order: dark enough on paper, and told apart without colour.
const PENS: [Pen; 6] = [
    Pen { ink: "#0b5cad", width: 1.6, dash: &[] },
    Pen { ink: "#b3470b", width: 1.6, dash: &[7.0, 3.0] },
    Pen { ink: "#1d6f42", width: 1.8, dash: &[2.0, 2.5] },
    Pen { ink: "#6a3d9a", width: 1.6, dash: &[10.0, 3.0, 2.0, 3.0] },
    Pen { ink: "#444444", width: 1.4, dash: &[5.0, 2.0, 1.0, 2.0, 1.0, 2.0] },
    Pen { ink: "#8c1d40", width: 2.0, dash: &[1.0, 4.0] },
];
/// Of what is wanted or allowed, not measured.
const REFERENCE: Pen = Pen { ink: QUIET, width: 1.0, dash: &[4.0, 3.0] };
/// Of what was measured.
const MEASURED: Pen = Pen { ink: "#9a9a9a", width: 0.8, dash: &[] };
const QUIET: &str = "#555555";

/// How a curve is drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Style {
    /// By its place among the others.
    Plain,
    /// As a set point or a limit.
    Reference,
    /// As what was measured, behind what is said of it.
    Measured,
}

/// A curve.
pub(crate) struct Curve<'a> {
    /// What it is called.
    pub name: String,
    /// Its times, s.
    pub times: &'a [f64],
    /// Its values; NaN where there is none.
    pub values: &'a [f64],
    /// How it is drawn.
    pub style: Style,
    /// Whether a value holds until the next one.
    pub holds: bool,
}

/// Curves of one quantity.
pub(crate) struct Panel<'a> {
    /// Quantity and unit.
    pub title: String,
    /// The curves.
    pub curves: Vec<Curve<'a>>,
}

/// Panels above each other over one time axis, with a mark where something begins.
pub(crate) fn over_time(panels: &[Panel<'_>], mark: Option<(f64, &str)>) -> Drawing {
    let height = TOP + panels.len() as f64 * (PANEL + GAP) - GAP + BOTTOM;
    let times = panels.iter().flat_map(|panel| &panel.curves).flat_map(|curve| curve.times.iter().copied());
    let (from, to) = ends(times).unwrap_or((0.0, 1.0));
    let x = Scale { from, to, start: LEFT, end: WIDTH - RIGHT };
    let mut drawing = Drawing::new(WIDTH, height);
    let (unit, symbol) = time_unit(to - from);
    for (k, panel) in panels.iter().enumerate() {
        let top = TOP + k as f64 * (PANEL + GAP);
        draw(&mut drawing, panel, &x, top, unit);
        if let Some((at, text)) = mark.filter(|(at, _)| (from..=to).contains(at)) {
            let place = x.at(at);
            drawing.line(&[[place, top], [place, top + PANEL]], Pen { ink: QUIET, width: 0.8, dash: &[1.0, 3.0] });
            if k == 0 {
                drawing.label([place + 4.0, top + 12.0], text, Anchor::Start, false);
            }
        }
    }
    let foot = height - BOTTOM + 14.0;
    for tick in ticks(from / unit, to / unit, 8) {
        drawing.label([x.at(tick * unit), foot], &said(tick), Anchor::Middle, false);
    }
    drawing.label([WIDTH - RIGHT, foot + 14.0], &format!("time, {symbol}"), Anchor::End, false);
    drawing
}

fn draw(drawing: &mut Drawing, panel: &Panel<'_>, x: &Scale, top: f64, unit: f64) {
    let values = panel.curves.iter().flat_map(|curve| curve.values.iter().copied());
    let (low, high) = padded(ends(values).unwrap_or((0.0, 1.0)));
    let y = Scale { from: low, to: high, start: top + PANEL, end: top };
    let (right, bottom) = (WIDTH - RIGHT, top + PANEL);
    for tick in ticks(low, high, 5) {
        let place = y.at(tick);
        drawing.line(&[[LEFT, place], [right, place]], Pen { ink: "#dddddd", width: 0.5, dash: &[] });
        drawing.label([LEFT - 5.0, place + 3.5], &said(tick), Anchor::End, false);
    }
    let frame = Pen { ink: "#999999", width: 0.6, dash: &[] };
    drawing.line(&[[LEFT, top], [right, top], [right, bottom], [LEFT, bottom], [LEFT, top]], frame);
    for tick in ticks(x.from / unit, x.to / unit, 8) {
        let place = x.at(tick * unit);
        drawing.line(&[[place, bottom], [place, bottom + 4.0]], frame);
    }
    drawing.label([4.0, top - 7.0], &panel.title, Anchor::Start, true);
    let mut next = 0;
    let mut named = Vec::new();
    for curve in &panel.curves {
        let pen = match curve.style {
            Style::Reference => REFERENCE,
            Style::Measured => MEASURED,
            Style::Plain => {
                next += 1;
                PENS[(next - 1) % PENS.len()]
            }
        };
        drawing.lines(path(curve, x, &y), pen);
        named.push((curve.name.as_str(), pen));
    }
    // Names with a piece of their line stand above the panel, from the right.
    let mut end = right;
    for (name, pen) in named.into_iter().rev() {
        // Widths of letters are not known here: half their height is enough for what stands in a name.
        let wide = 5.6 * name.chars().count() as f64;
        drawing.label([end, top - 7.0], name, Anchor::End, false);
        drawing.line(&[[end - wide - 26.0, top - 10.5], [end - wide - 5.0, top - 10.5]], pen);
        end -= wide + 40.0;
    }
}

/// The stretches of a curve, with as many points as can be seen: of each stretch of a pixel its lowest and its highest.
fn path(curve: &Curve<'_>, x: &Scale, y: &Scale) -> Vec<Vec<[f64; 2]>> {
    let mut all: Vec<Vec<[f64; 2]>> = vec![Vec::new()];
    for k in seen(curve.values) {
        let (time, value) = (curve.times[k], curve.values[k]);
        let Some(stretch) = all.last_mut() else { break };
        if !value.is_finite() {
            all.push(Vec::new());
            continue;
        }
        let point = [x.at(time), y.at(value)];
        if let Some([_, last]) = stretch.last().copied().filter(|_| curve.holds) {
            stretch.push([point[0], last]);
        }
        stretch.push(point);
    }
    all.retain(|stretch| !stretch.is_empty());
    all
}

/// Places of the values that are drawn.
fn seen(values: &[f64]) -> Vec<usize> {
    let count = values.len();
    if count <= MOST_POINTS {
        return (0..count).collect();
    }
    let buckets = MOST_POINTS / 2;
    let mut all = Vec::with_capacity(MOST_POINTS + 2);
    for bucket in 0..buckets {
        let range = bucket * count / buckets..(bucket + 1) * count / buckets;
        let missing = range.clone().find(|k| !values[*k].is_finite());
        let known = || range.clone().filter(|k| values[*k].is_finite());
        let lowest = known().min_by(|a, b| values[*a].total_cmp(&values[*b]));
        let highest = known().max_by(|a, b| values[*a].total_cmp(&values[*b]));
        let mut own: Vec<usize> = [lowest, highest, missing].into_iter().flatten().collect();
        own.sort_unstable();
        own.dedup();
        all.extend(own);
    }
    if all.last() != Some(&(count - 1)) {
        all.push(count - 1);
    }
    all
}

struct Scale {
    from: f64,
    to: f64,
    start: f64,
    end: f64,
}

impl Scale {
    fn at(&self, value: f64) -> f64 {
        self.start + (value - self.from) / (self.to - self.from) * (self.end - self.start)
    }
}

/// The ends of what is finite; apart even where all is the same.
fn ends(values: impl Iterator<Item = f64>) -> Option<(f64, f64)> {
    let found = values.filter(|value| value.is_finite()).fold(None, |ends: Option<(f64, f64)>, value| {
        Some(ends.map_or((value, value), |(low, high)| (low.min(value), high.max(value))))
    });
    found.map(|(low, high)| {
        if high > low {
            return (low, high);
        }
        let half = if low == 0.0 { 1.0 } else { 0.05 * low.abs() };
        (low - half, high + half)
    })
}

fn padded((low, high): (f64, f64)) -> (f64, f64) {
    let room = 0.06 * (high - low);
    (low - room, high + room)
}

/// Round values between two ends, about so many.
fn ticks(low: f64, high: f64, about: usize) -> Vec<f64> {
    let rough = (high - low) / about as f64;
    let power = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|one| one * power).find(|step| *step >= rough).unwrap_or(rough);
    let first = (low / step).ceil() as i64;
    let last = (high / step).floor() as i64;
    (first..=last).map(|k| k as f64 * step).collect()
}

/// A tick as it is read: without the last digits that binary numbers leave.
fn said(value: f64) -> String {
    let text = format!("{value:.9}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.replace('-', "−") }
}

fn time_unit(length: f64) -> (f64, &'static str) {
    match length {
        length if length >= 345_600.0 => (86_400.0, "d"),
        length if length >= 14_400.0 => (3600.0, "h"),
        length if length >= 600.0 => (60.0, "min"),
        _ => (1.0, "s"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn drawn(times: &[f64], values: &[f64], holds: bool) -> Drawing {
        let curve = Curve { name: "A & B".into(), times, values, style: Style::Plain, holds };
        over_time(&[Panel { title: "PV, °C".into(), curves: vec![curve] }], None)
    }

    #[test]
    fn ticks_are_round_and_within() {
        assert_eq!(ticks(0.0, 10.0, 5), [0.0, 2.0, 4.0, 6.0, 8.0, 10.0]);
        assert_eq!(ticks(-0.3, 0.31, 5).into_iter().map(said).collect::<Vec<_>>(), ["−0.2", "0", "0.2"]);
    }

    #[test]
    fn gaps_stay_gaps() {
        let (times, values) = ([0.0, 1.0, 2.0, 3.0, 4.0], [1.0, 2.0, f64::NAN, 2.0, 1.0]);
        let scale = || Scale { from: 0.0, to: 4.0, start: 0.0, end: 40.0 };
        let curve = |holds| Curve { name: String::new(), times: &times, values: &values, style: Style::Plain, holds };
        let stretches = path(&curve(false), &scale(), &scale());
        assert_eq!(stretches, [vec![[0.0, 10.0], [10.0, 20.0]], vec![[30.0, 20.0], [40.0, 10.0]]]);
        // What holds goes up where the next value comes, not before.
        assert_eq!(path(&curve(true), &scale(), &scale())[0], [[0.0, 10.0], [10.0, 10.0], [10.0, 20.0]]);
    }

    #[test]
    fn a_peak_of_one_sample_is_seen_among_many() {
        let times: Vec<f64> = (0..100_000).map(f64::from).collect();
        let mut values = vec![0.0; times.len()];
        values[54_321] = 7.0;
        let places = seen(&values);
        assert!(places.contains(&54_321) && places.len() <= MOST_POINTS + 1);
        assert!(places.windows(2).all(|pair| pair[0] < pair[1]));
    }

    #[test]
    fn what_stands_still_is_drawn_in_the_middle() {
        for value in [0.0, 37.0, -4.0] {
            let svg = drawn(&[0.0, 10.0], &[value, value], true).svg();
            assert!(!svg.contains("NaN") && !svg.contains("inf") && svg.contains("A &amp; B"), "{svg}");
        }
    }
}
