//! How wide text is, and where its lines break.

use skrifa::instance::{LocationRef, Size};
use skrifa::{FontRef, MetadataProvider};

pub(super) const REGULAR: &[u8] = include_bytes!("../../fonts/LibertinusSerif-Regular.otf");
pub(super) const BOLD: &[u8] = include_bytes!("../../fonts/LibertinusSerif-Bold.otf");

/// The letters of both fonts.
pub(super) struct Letters {
    regular: FontRef<'static>,
    bold: FontRef<'static>,
}

impl Letters {
    pub fn read() -> Option<Self> {
        Some(Self { regular: FontRef::new(REGULAR).ok()?, bold: FontRef::new(BOLD).ok()? })
    }

    /// The width of a text; letters that stand closer together than they are wide are not counted so.
    pub fn width(&self, text: &str, size: f32, bold: bool) -> f32 {
        let font = if bold { &self.bold } else { &self.regular };
        let metrics = font.glyph_metrics(Size::new(size), LocationRef::default());
        let letters = font.charmap();
        let wide = |c: char| metrics.advance_width(letters.map(c).unwrap_or_default()).unwrap_or(0.0);
        text.chars().map(wide).sum()
    }

    /// The lines of a text in a column: broken at spaces, and within a word that is too long for a line.
    pub fn lines(&self, text: &str, size: f32, bold: bool, column: f32) -> Vec<String> {
        let mut lines = Vec::new();
        for paragraph in text.split('\n') {
            let mut line = String::new();
            for word in paragraph.split_whitespace() {
                let longer = if line.is_empty() { word.to_owned() } else { format!("{line} {word}") };
                if self.width(&longer, size, bold) <= column {
                    line = longer;
                    continue;
                }
                if !line.is_empty() {
                    lines.push(std::mem::take(&mut line));
                }
                for c in word.chars() {
                    if !line.is_empty()
                        && self.width(&line, size, bold) + self.width(c.encode_utf8(&mut [0; 4]), size, bold) > column
                    {
                        lines.push(std::mem::take(&mut line));
                    }
                    line.push(c);
                }
            }
            lines.push(line);
        }
        lines
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// Nothing is lost, and nothing sticks out.
        #[test]
        fn lines_hold_all_of_a_text_within_their_column(text in "[a-zäé°µ ,.0-9]{0,200}", column in 20.0f32..400.0) {
            let letters = Letters::read().unwrap();
            let lines = letters.lines(&text, 9.5, false, column);
            let plain = |text: &str| text.split_whitespace().collect::<String>();
            prop_assert_eq!(plain(&lines.concat()), plain(&text));
            for line in &lines {
                prop_assert!(letters.width(line, 9.5, false) <= column + 1e-3 || line.chars().count() == 1, "{}", line);
            }
        }
    }

    #[test]
    fn letters_of_the_trade_are_in_the_fonts() {
        let letters = Letters::read().unwrap();
        for c in "°±−×∫²µτθωΔ≤▲“”–…".chars() {
            assert!(letters.regular.charmap().map(c).is_some() || c == '▲', "{c} is missing");
        }
    }
}
