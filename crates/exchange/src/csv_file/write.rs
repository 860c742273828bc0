//! Traces as CSV.

use crate::Result;
use antistasis_core::simulation::Trace;
use std::io::Write;

/// Writes a trace with a header `time [s],TAG [unit],…`, numbers so that they read back as the same bits.
pub fn write_trace(trace: &Trace, target: impl Write) -> Result<()> {
    let mut writer = csv::Writer::from_writer(target);
    let headers = trace.columns.iter().map(|column| format!("{} [{}]", column.tag, column.unit));
    let io = |error: csv::Error| crate::Error::Io(error.into());
    writer.write_record(std::iter::once("time [s]".to_owned()).chain(headers)).map_err(io)?;
    for k in 0..trace.len() {
        let values = trace.columns.iter().map(|column| column.values[k].to_string());
        writer.write_record(std::iter::once(trace.time(k).to_string()).chain(values)).map_err(io)?;
    }
    writer.flush()?;
    Ok(())
}
