//! The settings of every controller of a trial as they are typed in.

use crate::document::{Block, Fact};
use antistasis_core::simulation::{Sheet, TypedIn};

/// A heading and a table a controller, then how they work together.
pub(crate) fn sheets(typed: &TypedIn, digits: u8, from: &str) -> Vec<Block> {
    let mut blocks = Vec::new();
    for sheet in &typed.sheets {
        blocks.push(Block::Heading { text: format!("{}, {}", sheet.name, sheet.title) });
        if !sheet.refusal.is_empty() {
            blocks.push(Block::text(&sheet.refusal));
        }
        let rows = rows(sheet, digits, from);
        if !rows.is_empty() {
            blocks.push(Block::Facts { rows });
        }
    }
    if !typed.wiring.is_empty() {
        blocks.push(Block::Heading { text: "How they work together".to_owned() });
        blocks.push(Block::List { items: typed.wiring.clone() });
    }
    blocks
}

fn rows(sheet: &Sheet, digits: u8, from: &str) -> Vec<Fact> {
    let rounded = format!("trial {from}, to {digits} digits");
    let gain_and_times = sheet.rows.iter().map(|row| {
        let mut name = row.name.clone();
        name[..1].make_ascii_uppercase();
        Fact::new(name, format!("{} {}", row.text, row.unit).trim_end().to_owned(), rounded.clone())
    });
    let others = sheet.others.iter().map(|own| Fact::new(&own.name, own.value.clone(), format!("trial {from}")));
    gain_and_times.chain(others).collect()
}
