//! Where the table stands in its file: titles above it, names, units, the first row of data.

use super::number::is_number;
use super::time::RawTime;
use antistasis_core::units::Unit;

/// Rows directly above the data that may belong to its header.
const MOST_HEADER_ROWS: usize = 3;

/// A row as it stands in the file.
#[derive(Debug, Clone)]
pub(crate) struct RawRow {
    /// Line or row number in the file, from 1.
    pub line: u64,
    /// The cells as text, trimmed.
    pub cells: Vec<String>,
}

impl RawRow {
    fn filled(&self) -> usize {
        self.cells.iter().filter(|cell| !cell.is_empty()).count()
    }
}

/// Which rows are what, as positions among the first rows of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Outline {
    /// The row of names.
    pub names: Option<usize>,
    /// The row of units.
    pub units: Option<usize>,
    /// The first row of data.
    pub first: usize,
}

/// Finds the table among the first rows of a file. `header_row` is the number of the row of names where it is given, 0
/// where there is none.
///
/// Data are rows with a number or a time in the column that holds one most often. Names stand directly above them;
/// rows of units, or a second row of names, are told from them by what they hold. What stands further up is a title.
pub(crate) fn outline(rows: &[RawRow], decimal_comma: bool, header_row: Option<u64>) -> Outline {
    let readable = |cell: &String| is_number(cell, decimal_comma) || RawTime::scan(cell).is_some();
    let width = rows.iter().map(|row| row.cells.len()).max().unwrap_or(0);
    let share = |column: usize| rows.iter().filter(|row| row.cells.get(column).is_some_and(readable)).count();
    let shares: Vec<usize> = (0..width).map(share).collect();
    let most = shares.iter().copied().max().unwrap_or(0);
    let key = shares.iter().position(|share| *share > 0 && 2 * share >= most);
    let is_data = |k: usize| key.is_some_and(|key| rows[k].cells.get(key).is_some_and(readable));
    let mut widths: Vec<usize> = rows.iter().map(RawRow::filled).filter(|filled| *filled > 0).collect();
    widths.sort_unstable();
    let usual = widths.get(widths.len() / 2).copied().unwrap_or(1);

    let given = header_row.filter(|line| *line > 0).and_then(|line| rows.iter().position(|row| row.line == line));
    let from = given.map_or(0, |names| names + 1);
    let begins = |k: &usize| {
        let wide = 2 * rows[*k].filled() >= usual;
        // A row of words alone right below is a header, and what looked like data a title.
        let goes_on = |row: &RawRow| row.cells.iter().any(readable);
        is_data(*k) && (given.is_some() || wide && rows.get(*k + 1).is_none_or(goes_on))
    };
    let first = (from..rows.len()).find(begins).unwrap_or_else(|| from.max(usize::from(key.is_none())).min(rows.len()));
    if let Some(names) = given {
        let units = (names + 1..first).find(|k| is_units(&rows[*k]));
        return Outline { names: Some(names), units, first };
    }
    if header_row == Some(0) {
        return Outline { names: None, units: None, first };
    }
    // The rows that stand on the data without a blank line between, the nearest first.
    let mut above: Vec<usize> = Vec::new();
    for k in (0..first).rev().take(MOST_HEADER_ROWS) {
        let below = above.last().map_or(first, |k| *k);
        let touches = rows.get(below).is_none_or(|below| below.line == rows[k].line + 1);
        let is_header = 4 * rows[k].filled() >= 3 * usual || is_units(&rows[k]);
        if !is_header || (!above.is_empty() && !touches) {
            break;
        }
        above.push(k);
    }
    let units = above.iter().copied().find(|k| is_units(&rows[*k]) && above.len() > 1);
    let named: Vec<usize> = above.into_iter().filter(|k| Some(*k) != units).collect();
    Outline { names: best_names(rows, &named), units, first }
}

/// Of two rows of names the one whose cells tell the columns apart and read like tags; else the nearest.
fn best_names(rows: &[RawRow], named: &[usize]) -> Option<usize> {
    let score = |k: usize| {
        let cells: Vec<&String> = rows[k].cells.iter().filter(|cell| !cell.is_empty()).collect();
        let different = cells.iter().enumerate().filter(|(k, cell)| !cells[..*k].contains(cell)).count();
        let short = cells.iter().filter(|cell| !cell.contains(' ')).count();
        (different, short)
    };
    let nearest = *named.first()?;
    Some(named.iter().copied().take(2).fold(nearest, |best, k| if score(k) > score(best) { k } else { best }))
}

/// Whether most cells of a row are units.
fn is_units(row: &RawRow) -> bool {
    let known = row.cells.iter().filter(|cell| is_unit(cell)).count();
    known > 0 && 2 * known >= row.filled()
}

fn is_unit(cell: &str) -> bool {
    Unit::parse(without_brackets(cell)).is_ok()
}

/// `[°C]` and `(°C)` as `°C`.
pub(crate) fn without_brackets(cell: &str) -> &str {
    let inner = |open, close| cell.strip_prefix(open).and_then(|rest| rest.strip_suffix(close));
    inner('[', ']').or_else(|| inner('(', ')')).unwrap_or(cell).trim()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(text: &str, header_row: Option<u64>) -> Outline {
        let rows: Vec<RawRow> = (1..)
            .zip(text.lines())
            .map(|(line, row)| RawRow { line, cells: row.split(';').map(str::to_owned).collect() })
            .filter(|row| row.filled() > 0)
            .collect();
        outline(&rows, false, header_row)
    }

    #[test]
    fn names_units_and_titles() {
        let plain = found("t;PV;OP\n0;1;2\n1;2;3", None);
        assert_eq!(plain, Outline { names: Some(0), units: None, first: 1 });
        let bare = found("0;1;2\n1;2;3", None);
        assert_eq!(bare, Outline { names: None, units: None, first: 0 });
        let titled = found("Export of March\nWorks;Saltmarch\n\nTime;PV;OP\n;°C;%\n0;1;2\n1;2;3\n2;3;4", None);
        assert_eq!(titled, Outline { names: Some(2), units: Some(3), first: 4 });
        // A title directly on the header, and a period in it that looks like data.
        let period = found("Period;2026-03-01;2026-03-02\nTime;PV;OP\n0;1;2\n1;2;3\n2;3;4", None);
        assert_eq!((period.names, period.first), (Some(1), 2));
    }

    #[test]
    fn a_second_row_of_names() {
        let descriptions = found("Time;TIC-1.PV;TIC-1.OP\nof day;brine outlet;steam valve\n0;1;2\n1;2;3\n2;3;4", None);
        assert_eq!((descriptions.names, descriptions.first), (Some(0), 2));
        let groups = found(";brine side;brine side\nTime;PV;OP\ns;°C;%\n0;1;2\n1;2;3\n2;3;4", None);
        assert_eq!((groups.names, groups.units, groups.first), (Some(1), Some(2), 3));
    }

    #[test]
    fn what_was_guessed_can_be_overruled() {
        let text = "a;b;c\nd;e;f\n0;1;2\n1;2;3";
        assert_eq!(found(text, Some(2)).names, Some(1));
        assert_eq!(found(text, Some(1)).names, Some(0));
        assert_eq!(found(text, Some(0)).names, None);
    }

    #[test]
    fn missing_values_do_not_hide_the_first_row() {
        let gaps = found("t;PV;OP\n0;Bad;Bad\n1;2;3\n2;3;4", None);
        assert_eq!((gaps.names, gaps.first), (Some(0), 1));
    }
}
