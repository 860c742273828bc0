//! Drawings of lines and labels, for a page of HTML and for one of PDF alike.

use serde::{Deserialize, Serialize};
use std::fmt::Write;
use utoipa::ToSchema;

/// Height of the letters of labels.
pub(crate) const LETTERS: f64 = 11.0;

/// A drawing; places are from its upper left corner.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Drawing {
    /// Its width.
    pub width: f64,
    /// Its height.
    pub height: f64,
    /// What is in it, the lowest first.
    pub marks: Vec<Mark>,
}

/// A line or a label.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Mark {
    /// A line in stretches.
    Line {
        /// The corners of each stretch.
        stretches: Vec<Vec<[f64; 2]>>,
        /// Its colour, `#rrggbb`.
        ink: String,
        /// Its width.
        width: f64,
        /// Lengths of dashes and gaps; empty for a whole line.
        dash: Vec<f64>,
    },
    /// A label.
    Label {
        /// Where its foot is.
        at: [f64; 2],
        /// The text.
        text: String,
        /// Which end of it is there.
        anchor: Anchor,
        /// Whether it is bold.
        bold: bool,
    },
}

/// Which end of a label is at its place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum Anchor {
    /// Its start.
    Start,
    /// Its middle.
    Middle,
    /// Its end.
    End,
}

/// How a line is drawn.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Pen {
    pub ink: &'static str,
    pub width: f64,
    pub dash: &'static [f64],
}

/// A place to a hundredth: finer is not seen.
fn hundredths(value: f64) -> f64 {
    (100.0 * value).round() / 100.0
}

impl Drawing {
    pub(crate) fn new(width: f64, height: f64) -> Self {
        Self { width, height, marks: Vec::new() }
    }

    pub(crate) fn line(&mut self, corners: &[[f64; 2]], pen: Pen) {
        self.lines(vec![corners.to_vec()], pen);
    }

    pub(crate) fn lines(&mut self, mut stretches: Vec<Vec<[f64; 2]>>, pen: Pen) {
        for place in stretches.iter_mut().flatten().flatten() {
            *place = hundredths(*place);
        }
        let Pen { ink, width, dash } = pen;
        self.marks.push(Mark::Line { stretches, ink: ink.to_owned(), width, dash: dash.to_vec() });
    }

    pub(crate) fn label(&mut self, at: [f64; 2], text: &str, anchor: Anchor, bold: bool) {
        self.marks.push(Mark::Label { at: at.map(hundredths), text: text.to_owned(), anchor, bold });
    }

    /// The drawing as SVG.
    #[must_use]
    pub fn svg(&self) -> String {
        let Self { width, height, marks } = self;
        let mut svg = format!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\" \
             font-family=\"Libertinus Serif, Georgia, serif\" font-size=\"{LETTERS}\" fill=\"#222222\">"
        );
        for mark in marks {
            // Writing into a string does not fail.
            let _ = match mark {
                Mark::Line { stretches, ink, width, dash } => {
                    let dashes: Vec<String> = dash.iter().map(f64::to_string).collect();
                    let dashes = if dashes.is_empty() { "none".to_owned() } else { dashes.join(" ") };
                    write!(
                        svg,
                        "<path d=\"{}\" fill=\"none\" stroke=\"{ink}\" stroke-width=\"{width}\" stroke-dasharray=\"{dashes}\" \
                         stroke-linejoin=\"round\"/>",
                        path(stretches)
                    )
                }
                Mark::Label { at: [x, y], text, anchor, bold } => {
                    let anchor = match anchor {
                        Anchor::Start => "start",
                        Anchor::Middle => "middle",
                        Anchor::End => "end",
                    };
                    let weight = if *bold { "bold" } else { "normal" };
                    let text = text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;");
                    write!(
                        svg,
                        "<text x=\"{x}\" y=\"{y}\" text-anchor=\"{anchor}\" font-weight=\"{weight}\">{text}</text>"
                    )
                }
            };
        }
        svg + "</svg>"
    }
}

fn path(stretches: &[Vec<[f64; 2]>]) -> String {
    let mut text = String::new();
    for stretch in stretches {
        for (k, [x, y]) in stretch.iter().enumerate() {
            let _ = write!(text, "{}{x} {y}", if k == 0 { 'M' } else { 'L' });
        }
    }
    text
}
