//! Archives: a ZIP of documents in JSON, samples in Parquet, and texts. The same entries give the same bytes.

use crate::parquet_file::{read_columns, write_columns};
use crate::{Error, Result};
use antistasis_core::series::{Record, TimeAxis};
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{BufReader, Cursor, Read, Write};
use std::path::Path;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipArchive, ZipWriter};

/// Entries by their path in the archive, in the order of their paths.
pub type Entries = BTreeMap<String, Vec<u8>>;

/// Most entries of an archive that is read, and their size together.
const MOST_ENTRIES: usize = 20_000;
const MOST_BYTES: u64 = 4 * 1024 * 1024 * 1024;

fn broken(error: impl std::fmt::Display) -> Error {
    Error::content("the archive", error.to_string(), "it must be a ZIP file that was written here")
}

/// The bytes of an archive.
pub fn pack(entries: &Entries) -> Result<Vec<u8>> {
    let mut zip = ZipWriter::new(Cursor::new(Vec::new()));
    // No clock: what is packed alone decides the bytes.
    let options = SimpleFileOptions::default().last_modified_time(DateTime::default());
    for (path, bytes) in entries {
        // Parquet is packed already.
        let method = if path.ends_with(".parquet") { CompressionMethod::Stored } else { CompressionMethod::Deflated };
        let large = bytes.len() as u64 >= u64::from(u32::MAX);
        zip.start_file(path.as_str(), options.compression_method(method).large_file(large)).map_err(broken)?;
        zip.write_all(bytes)?;
    }
    Ok(zip.finish().map_err(broken)?.into_inner())
}

/// What stands in an archive.
///
/// Errors where it is no ZIP file, or holds more than can be taken.
pub fn unpack(path: &Path) -> Result<Entries> {
    let mut zip = ZipArchive::new(BufReader::new(File::open(path)?)).map_err(broken)?;
    if zip.len() > MOST_ENTRIES {
        return Err(broken(format!("{} entries", zip.len())));
    }
    let mut entries = Entries::new();
    let mut left = MOST_BYTES;
    for k in 0..zip.len() {
        let entry = zip.by_index(k).map_err(broken)?;
        if entry.is_dir() {
            continue;
        }
        let name = entry.name().map_err(broken)?.into_owned();
        let mut bytes = Vec::new();
        // What an entry says of its own size is not believed.
        entry.take(left + 1).read_to_end(&mut bytes)?;
        left = left.checked_sub(bytes.len() as u64).ok_or_else(|| broken("more than 4 GiB"))?;
        entries.insert(name, bytes);
    }
    Ok(entries)
}

/// The samples of a record: times where they are uneven, then a column a channel.
pub fn samples(record: &Record) -> Result<Vec<u8>> {
    let times: &[f64] = match &record.axis {
        TimeAxis::Irregular(times) => times,
        TimeAxis::Uniform { .. } => &[],
    };
    let is_uneven = matches!(record.axis, TimeAxis::Irregular(_));
    let names = is_uneven.then(|| "time [s]".to_owned()).into_iter();
    let names =
        names.chain(record.channels.iter().enumerate().map(|(k, channel)| format!("{} {}", k + 1, channel.tag)));
    let columns: Vec<&[f64]> = is_uneven
        .then_some(times)
        .into_iter()
        .chain(record.channels.iter().map(|channel| channel.values.as_slice()))
        .collect();
    let mut bytes = Vec::new();
    write_columns(names, &columns, &mut bytes)?;
    Ok(bytes)
}

/// Columns of samples as they were written by [`samples`].
pub fn columns(bytes: Vec<u8>) -> Result<Vec<Vec<f64>>> {
    read_columns(bytes)
}
