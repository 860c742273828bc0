//! What a file seems to hold, before it is imported.

use super::time::RawTime;
use super::{Layout, LoopProposal, Mapping, TableForm, guess, propose};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Rows shown to the user.
const SHOWN_ROWS: usize = 6;

/// What the cells of a column are.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum ColumnKind {
    /// Numbers.
    Number,
    /// Time stamps.
    Time,
    /// Anything else.
    Text,
}

/// One column as it stands in the file.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ColumnPreview {
    /// Name in the header, made unique; `column 1` and so on without a header.
    pub name: String,
    /// The header as it stands in the file.
    pub header: String,
    /// Unit in the header; empty where there is none.
    pub unit: String,
    /// What most cells are.
    pub kind: ColumnKind,
}

/// What a file seems to hold.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Preview {
    /// The columns, in order.
    pub columns: Vec<ColumnPreview>,
    /// The first rows as text, a cell a column.
    pub rows: Vec<Vec<String>>,
    /// How the file is written, in words: `CSV, UTF-8, delimiter ;`, `XLSX, sheet Trend`.
    pub form: String,
    /// Whether numbers are written with a decimal comma.
    pub decimal_comma: bool,
    /// How the file was read.
    pub reading: ReadingFound,
    /// The mapping that is probably meant.
    pub guess: Mapping,
    /// The loops that the file seems to hold.
    pub loops: Vec<LoopProposal>,
}

/// How a file was read: what was found out, or was asked for.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct ReadingFound {
    /// The sheet of a workbook.
    pub sheet: Option<String>,
    /// All sheets of the workbook; empty for other files.
    pub sheets: Vec<String>,
    /// Row of the file in which the names stand, from 1; 0 where there is none; null where the form of file has no rows.
    pub header_row: Option<u64>,
    /// How the table is laid out.
    pub form: Option<TableForm>,
}

/// What a table seems to hold.
pub(crate) fn preview_of(layout: &Layout, form: String, reading: ReadingFound) -> Preview {
    let columns: Vec<ColumnPreview> = (0..layout.names.len())
        .map(|k| ColumnPreview {
            name: layout.names[k].clone(),
            header: layout.headers[k].clone(),
            unit: layout.units[k].clone(),
            kind: kind_of(layout, k),
        })
        .collect();
    let guess = guess(&columns, layout);
    Preview {
        loops: propose(&guess),
        guess,
        rows: layout.sample.iter().take(SHOWN_ROWS).cloned().collect(),
        form,
        reading: ReadingFound { form: Some(layout.form()), ..reading },
        decimal_comma: layout.decimal_comma,
        columns,
    }
}

fn kind_of(layout: &Layout, column: usize) -> ColumnKind {
    if layout.sample.is_empty() {
        return ColumnKind::Number;
    }
    let (mut numbers, mut times, mut texts) = (0, 0, 0);
    for cell in layout.sample.iter().filter_map(|row| row.get(column)).filter(|cell| !cell.is_empty()) {
        if layout.number(cell.as_bytes()).is_some() {
            numbers += 1;
        } else if RawTime::scan(cell).is_some() {
            times += 1;
        } else {
            texts += 1;
        }
    }
    if times > numbers && times > texts {
        ColumnKind::Time
    } else if numbers > 0 && 2 * numbers >= texts {
        ColumnKind::Number
    } else {
        ColumnKind::Text
    }
}
