//! How the blocks of a dossier flow over pages.

use super::letters::Letters;
use crate::document::{Block, Cell, Dossier, Section};
use crate::drawing::Drawing;
use crate::html::word;
use antistasis_core::Tone;

/// Margins, in points.
pub(super) const LEFT: f32 = 54.0;
const TOP: f32 = 52.0;
const FOOT: f32 = 56.0;
/// Height of letters, and from line to line.
const TEXT: f32 = 9.5;
const LEADING: f32 = 12.2;
const SMALL: f32 = 8.5;
/// Room about the text of a cell.
const PAD: f32 = 2.6;
const GAP: f32 = 6.0;

/// What is on a page.
pub(super) type Page = Vec<Ink>;

/// A piece of what is on a page; places are from its upper left corner.
pub(super) enum Ink {
    /// A line of text, its foot at a place.
    Text { at: [f32; 2], text: String, size: f32, bold: bool },
    /// A line.
    Line { corners: Vec<[f32; 2]>, ink: &'static str, width: f32, dash: Vec<f32> },
    /// A drawing, its corner at a place.
    Drawing { at: [f32; 2], scale: f32, drawing: Drawing },
}

/// The pages of a dossier.
pub(super) fn pages(dossier: &Dossier, letters: &Letters, width: f32, height: f32) -> Vec<Page> {
    let mut flow = Flow { letters, width: width - 2.0 * LEFT, bottom: height - FOOT, pages: vec![Vec::new()], y: TOP };
    flow.write(&dossier.title, 17.0, true, 20.0);
    flow.write(&dossier.subtitle, TEXT, false, LEADING);
    for section in &dossier.sections {
        flow.section(section);
    }
    flow.pages
}

struct Flow<'a> {
    letters: &'a Letters,
    width: f32,
    bottom: f32,
    pages: Vec<Page>,
    y: f32,
}

impl Flow<'_> {
    fn put(&mut self, ink: Ink) {
        if let Some(page) = self.pages.last_mut() {
            page.push(ink);
        }
    }

    /// Begins a page where so much does not fit on this one.
    fn room(&mut self, height: f32) -> bool {
        if self.y + height <= self.bottom || self.y <= TOP {
            return false;
        }
        self.pages.push(Vec::new());
        self.y = TOP;
        true
    }

    fn line(&mut self, from: [f32; 2], to: [f32; 2], ink: &'static str, width: f32) {
        self.put(Ink::Line { corners: vec![from, to], ink, width, dash: Vec::new() });
    }

    fn write(&mut self, text: &str, size: f32, bold: bool, leading: f32) {
        self.write_at(text, size, bold, leading, LEFT, self.width);
    }

    fn write_at(&mut self, text: &str, size: f32, bold: bool, leading: f32, x: f32, width: f32) {
        for line in self.letters.lines(text, size, bold, width) {
            self.room(leading);
            self.y += leading;
            self.put(Ink::Text { at: [x, self.y - 0.25 * leading], text: line, size, bold });
        }
    }

    fn section(&mut self, section: &Section) {
        self.y += 14.0;
        // A heading stays with what it is the heading of.
        self.room(90.0);
        self.write(&section.title, 12.0, true, 15.0);
        self.line([LEFT, self.y + 1.0], [LEFT + self.width, self.y + 1.0], "#aaaaaa", 0.6);
        self.y += GAP;
        if !section.stale.is_empty() {
            self.write(&format!("Stale. {}", section.stale.join(" ")), TEXT, true, LEADING);
            self.y += GAP;
        }
        for block in &section.blocks {
            self.block(block);
            self.y += GAP;
        }
    }

    fn block(&mut self, block: &Block) {
        match block {
            Block::Text { text } => self.write(text, TEXT, false, LEADING),
            Block::Heading { text } => {
                self.room(60.0);
                self.write(text, 10.5, true, 13.5);
            }
            Block::Verdict { tone, text, rule } => self.verdict(*tone, text, rule),
            Block::List { items } => {
                for (k, item) in items.iter().enumerate() {
                    let lines = self.letters.lines(item, TEXT, false, self.width - 18.0).len() as f32;
                    self.room(lines * LEADING);
                    let y = self.y + 0.75 * LEADING;
                    self.put(Ink::Text { at: [LEFT, y], text: format!("{}.", k + 1), size: TEXT, bold: false });
                    self.write_at(item, TEXT, false, LEADING, LEFT + 18.0, self.width - 18.0);
                    self.y += 2.0;
                }
            }
            Block::Facts { rows } => {
                let head = ["What", "Value", "From"].map(Cell::of).to_vec();
                let rows: Vec<Vec<Cell>> =
                    rows.iter().map(|row| [&row.name, &row.value, &row.from].map(Cell::of).to_vec()).collect();
                self.table(&head, &rows, &[0.3, 0.48, 0.22]);
            }
            Block::Table { caption, columns, rows } => {
                self.room(50.0);
                self.write(caption, SMALL, false, 11.0);
                let head: Vec<Cell> = columns.iter().map(Cell::of).collect();
                let first = if columns.len() > 2 { 0.26 } else { 0.4 };
                let rest = (1.0 - first) / (columns.len().max(2) - 1) as f32;
                let mut shares = vec![rest; columns.len()];
                if let Some(own) = shares.first_mut() {
                    *own = first;
                }
                self.table(&head, rows, &shares);
            }
            Block::Chart { caption, drawing, .. } => {
                let scale = self.width / drawing.width as f32;
                let height = scale * drawing.height as f32;
                self.room(height + 14.0);
                self.put(Ink::Drawing { at: [LEFT, self.y], scale, drawing: drawing.clone() });
                self.y += height + 2.0;
                self.write(caption, SMALL, false, 11.0);
            }
        }
    }

    fn verdict(&mut self, tone: Tone, text: &str, rule: &str) {
        let ink = match tone {
            Tone::Good => "#5a7a5a",
            Tone::Caution => "#a07000",
            Tone::Bad => "#a02020",
        };
        let whole = format!("{}: {text} ({rule})", word(tone));
        let lines = self.letters.lines(&whole, TEXT, false, self.width - 9.0).len() as f32;
        self.room(lines * LEADING);
        let from = self.y + 1.5;
        self.write_at(&whole, TEXT, false, LEADING, LEFT + 9.0, self.width - 9.0);
        // On the page where it ends; a verdict longer than a page has no mark.
        if self.y > from {
            self.line([LEFT + 2.0, from], [LEFT + 2.0, self.y - 1.0], ink, 2.0);
        }
    }

    fn table(&mut self, head: &[Cell], rows: &[Vec<Cell>], shares: &[f32]) {
        self.row(head, shares, true, "#777777");
        for row in rows {
            if self.row(row, shares, false, "#cccccc") {
                continue;
            }
            // The page was full: its head again, then the row.
            self.pages.push(Vec::new());
            self.y = TOP;
            self.row(head, shares, true, "#777777");
            self.row(row, shares, false, "#cccccc");
        }
    }

    /// A row, where it fits on this page or nothing else is on it.
    fn row(&mut self, cells: &[Cell], shares: &[f32], is_head: bool, ink: &'static str) -> bool {
        let columns: Vec<f32> = shares.iter().map(|share| share * self.width).collect();
        let written: Vec<(Vec<String>, bool)> = cells
            .iter()
            .zip(&columns)
            .enumerate()
            .map(|(k, (cell, column))| {
                let bold = is_head || k == 0 || cell.fails;
                // A word, and no sign: what is searched for and read out is text.
                let text = if cell.fails { format!("fails: {}", cell.text) } else { cell.text.clone() };
                (self.letters.lines(&text, SMALL, bold, column - 2.0 * PAD), bold)
            })
            .collect();
        let lines = written.iter().map(|(lines, _)| lines.len()).max().unwrap_or(1) as f32;
        let height = lines * 10.6 + 2.0 * PAD;
        if is_head {
            self.room(height + 40.0);
        } else if self.y + height > self.bottom && self.y > TOP + 40.0 {
            return false;
        }
        let mut x = LEFT;
        for ((lines, bold), column) in written.into_iter().zip(&columns) {
            for (k, text) in lines.into_iter().enumerate() {
                let y = self.y + PAD + 10.6 * k as f32 + 8.2;
                self.put(Ink::Text { at: [x, y], text, size: SMALL, bold });
            }
            x += column;
        }
        self.y += height;
        self.line([LEFT, self.y], [LEFT + self.width, self.y], ink, 0.5);
        true
    }
}
