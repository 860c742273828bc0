//! Numbers as people write them.

/// The number in a cell; None where the cell is empty or holds anything else (`Bad`, `No Data`, `inf`).
pub(super) fn parse_number(cell: &[u8], decimal_comma: bool) -> Option<f64> {
    let text = std::str::from_utf8(cell).ok()?.trim();
    // `inf` and `nan` are words, not measurements.
    if !text.starts_with(|c: char| c.is_ascii_digit() || matches!(c, '-' | '+' | '.' | ',' | '−')) {
        return None;
    }
    if !decimal_comma && let Ok(value) = text.parse::<f64>() {
        return value.is_finite().then_some(value);
    }
    let (decimal, thousands) = if decimal_comma { (',', '.') } else { ('.', ',') };
    let mut plain = String::with_capacity(text.len());
    let fraction_at = text.find(decimal).unwrap_or(text.len());
    for (at, character) in text.char_indices() {
        match character {
            c if c == decimal => plain.push('.'),
            // Groups of thousands, and only before the decimal sign.
            c if (c == thousands || matches!(c, ' ' | '\u{a0}' | '\u{202f}' | '\'')) && at < fraction_at => {
                let group: String = text[at + c.len_utf8()..].chars().take(4).collect();
                let digits = group.chars().take_while(char::is_ascii_digit).count();
                if digits != 3 {
                    return None;
                }
            }
            '−' => plain.push('-'),
            c => plain.push(c),
        }
    }
    plain.parse::<f64>().ok().filter(|value| value.is_finite())
}

pub(crate) fn is_number(cell: &str, decimal_comma: bool) -> bool {
    parse_number(cell.as_bytes(), decimal_comma).is_some()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn as_people_write_them() {
        let point = |text: &str| parse_number(text.as_bytes(), false);
        let comma = |text: &str| parse_number(text.as_bytes(), true);
        assert_eq!(point("-1.5e3"), Some(-1500.0));
        assert_eq!(point(" 1,234,567.5 "), Some(1_234_567.5));
        assert_eq!(comma("1.234.567,5"), Some(1_234_567.5));
        assert_eq!(comma("12 345,6"), Some(12_345.6));
        assert_eq!(comma("−3,25"), Some(-3.25));
        assert_eq!(point(".5"), Some(0.5));
        for nothing in ["", "Bad", "nan", "inf", "1e999", "--", "12:30", "1,2,3", "2026-01-01"] {
            assert_eq!(point(nothing), None, "{nothing}");
        }
        assert_eq!(comma("1.23"), None, "neither a decimal comma nor a group of thousands");
    }
}
