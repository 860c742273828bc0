//! Records as delimited text.

use crate::Result;
use crate::table::{header, shown_as_text};
use antistasis_core::series::Record;
use std::io::Write;

/// Writes a record with a header `time [s],TAG [unit],…`, its times from `start` seconds on, numbers so that they read back
/// as the same bits; missing samples are empty.
pub fn write_record(record: &Record, start: f64, delimiter: u8, target: impl Write) -> Result<()> {
    let headers = record.channels.iter().map(|channel| shown_as_text(header(&channel.tag, &channel.unit)));
    let columns: Vec<&[f64]> = record.channels.iter().map(|channel| channel.values.as_slice()).collect();
    write_columns(headers, record.axis.len(), |k| start + record.axis.at(k), &columns, delimiter, target)
}

fn write_columns(
    headers: impl Iterator<Item = String>,
    rows: usize,
    time: impl Fn(usize) -> f64,
    columns: &[&[f64]],
    delimiter: u8,
    target: impl Write,
) -> Result<()> {
    let mut writer = csv::WriterBuilder::new().delimiter(delimiter).from_writer(target);
    let io = |error: csv::Error| crate::Error::Io(error.into());
    writer.write_record(std::iter::once("time [s]".to_owned()).chain(headers)).map_err(io)?;
    let shown = |value: f64| if value.is_finite() { value.to_string() } else { String::new() };
    for k in 0..rows {
        let values = columns.iter().map(|values| shown(values[k]));
        writer.write_record(std::iter::once(shown(time(k))).chain(values)).map_err(io)?;
    }
    writer.flush()?;
    Ok(())
}
