//! A dossier as PDF: text that can be searched, vector curves, fonts of its own.
//!
//! `krilla` writes the file, subsets the fonts and shapes the text; how a dossier flows over its pages stands in [`flow`]. Typst, which
//! would set it better, was tried: its crates took 12 minutes of processor to build, where the whole program takes 15.

mod flow;
mod letters;

use crate::document::Dossier;
use crate::drawing::{Anchor, Mark};
use flow::{Ink, Page, pages};
use krilla::color::rgb;
use krilla::geom::{PathBuilder, Point};
use krilla::metadata::Metadata;
use krilla::num::NormalizedF32;
use krilla::page::PageSettings;
use krilla::paint::{Fill, Stroke, StrokeDash};
use krilla::surface::Surface;
use krilla::text::{Font, TextDirection};
use letters::{BOLD, Letters, REGULAR};

/// Why there is no PDF.
#[derive(Debug, thiserror::Error)]
#[error("the dossier cannot be written as PDF: {0}")]
pub struct PdfError(String);

/// A4, in points.
const WIDTH: f32 = 595.28;
const HEIGHT: f32 = 841.89;

/// The bytes of the PDF: the same for the same dossier.
pub fn pdf(dossier: &Dossier) -> Result<Vec<u8>, PdfError> {
    let failed = |what: &str| PdfError(what.to_owned());
    let font = |data: &'static [u8]| Font::new(data.into(), 0).ok_or_else(|| failed("a font cannot be read"));
    let hand = Hand {
        regular: font(REGULAR)?,
        bold: font(BOLD)?,
        letters: Letters::read().ok_or_else(|| failed("a font cannot be read"))?,
    };
    let pages = pages(dossier, &hand.letters, WIDTH, HEIGHT);
    let mut document = krilla::Document::new();
    let title = Metadata::new().title(dossier.title.clone()).language("en".to_owned());
    document.set_metadata(title.document_id(dossier.title.clone()));
    let count = pages.len();
    for (k, page) in pages.iter().enumerate() {
        let settings = PageSettings::from_wh(WIDTH, HEIGHT).ok_or_else(|| failed("no page of this size"))?;
        let mut sheet = document.start_page_with(settings);
        let mut surface = sheet.surface();
        hand.draw(&mut surface, page);
        let foot = HEIGHT - 30.0;
        hand.write(&mut surface, [flow::LEFT, foot], &dossier.title, 8.0, false, Anchor::Start);
        hand.write(
            &mut surface,
            [WIDTH - flow::LEFT, foot],
            &format!("page {} of {count}", k + 1),
            8.0,
            false,
            Anchor::End,
        );
        surface.finish();
        sheet.finish();
    }
    document.finish().map_err(|error| PdfError(format!("{error:?}")))
}

/// What writes and draws.
struct Hand {
    regular: Font,
    bold: Font,
    letters: Letters,
}

impl Hand {
    fn draw(&self, surface: &mut Surface<'_>, page: &Page) {
        for ink in page {
            match ink {
                Ink::Text { at, text, size, bold } => self.write(surface, *at, text, *size, *bold, Anchor::Start),
                Ink::Line { corners, ink, width, dash } => {
                    line(surface, std::slice::from_ref(corners), ink, *width, dash);
                }
                Ink::Drawing { at: [x, y], scale, drawing } => {
                    let placed = |[a, b]: [f64; 2]| [x + scale * a as f32, y + scale * b as f32];
                    for mark in &drawing.marks {
                        match mark {
                            Mark::Line { stretches, ink, width, dash } => {
                                let own: Vec<Vec<[f32; 2]>> =
                                    stretches.iter().map(|one| one.iter().map(|at| placed(*at)).collect()).collect();
                                let dash: Vec<f32> = dash.iter().map(|part| scale * *part as f32).collect();
                                line(surface, &own, ink, scale * *width as f32, &dash);
                            }
                            Mark::Label { at, text, anchor, bold } => {
                                let size = scale * crate::drawing::LETTERS as f32;
                                self.write(surface, placed(*at), text, size, *bold, *anchor);
                            }
                        }
                    }
                }
            }
        }
    }

    fn write(&self, surface: &mut Surface<'_>, at: [f32; 2], text: &str, size: f32, bold: bool, anchor: Anchor) {
        let wide = self.letters.width(text, size, bold);
        let back = match anchor {
            Anchor::Start => 0.0,
            Anchor::Middle => wide / 2.0,
            Anchor::End => wide,
        };
        let font = if bold { &self.bold } else { &self.regular };
        surface.set_stroke(None);
        surface.set_fill(Some(Fill { paint: colour("#1c1c1c").into(), ..Fill::default() }));
        surface.draw_text(
            Point::from_xy(at[0] - back, at[1]),
            font.clone(),
            size,
            text,
            false,
            TextDirection::LeftToRight,
        );
    }
}

fn line(surface: &mut Surface<'_>, stretches: &[Vec<[f32; 2]>], ink: &str, width: f32, dash: &[f32]) {
    let mut path = PathBuilder::new();
    for stretch in stretches {
        for (k, [x, y]) in stretch.iter().enumerate() {
            if k == 0 { path.move_to(*x, *y) } else { path.line_to(*x, *y) }
        }
    }
    let Some(path) = path.finish() else { return };
    surface.set_fill(None);
    let dash = (!dash.is_empty()).then(|| StrokeDash { array: dash.to_vec(), offset: 0.0 });
    surface.set_stroke(Some(Stroke {
        paint: colour(ink).into(),
        width,
        opacity: NormalizedF32::ONE,
        dash,
        ..Stroke::default()
    }));
    surface.draw_path(&path);
}

/// `#rrggbb`; black for anything else.
fn colour(text: &str) -> rgb::Color {
    let part = |k: usize| text.get(k..k + 2).and_then(|part| u8::from_str_radix(part, 16).ok()).unwrap_or(0);
    rgb::Color::new(part(1), part(3), part(5))
}
