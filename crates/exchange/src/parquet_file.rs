//! Records in Apache Parquet: flat columns.

mod pages;

use crate::table::{Layout, Rows, header};
use crate::{Error, Result, limits};
use antistasis_core::series::Record;
use antistasis_core::work::go_on;
use csv::ByteRecord;
use parquet::basic::{LogicalType, Repetition, TimeUnit as ParquetUnit, Type as Physical};
use parquet::data_type::DoubleType;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use parquet::record::Field;
use parquet::record::reader::RowIter;
use parquet::schema::types::Type;
use std::fs::File;
use std::io::Write;
use std::path::Path;
use std::sync::Arc;

const SAMPLE_ROWS: usize = 400;
/// Rows of a row group that is written.
const GROUP: usize = 131_072;

fn broken(error: parquet::errors::ParquetError) -> Error {
    Error::content("the Parquet file", error.to_string(), "write it again with flat columns of numbers and time stamps")
}

fn reader(path: &Path) -> Result<SerializedFileReader<File>> {
    let file = File::open(path)?;
    let packed = file.metadata()?.len();
    let reader = SerializedFileReader::new(file).map_err(broken)?;
    let metadata = reader.metadata();
    limits::columns(metadata.file_metadata().schema_descr().num_columns())?;
    let size = |size: i64| u64::try_from(size).unwrap_or(u64::MAX);
    let unpacked = metadata.row_groups().iter().fold(0u64, |sum, group| {
        group.columns().iter().fold(sum, |sum, column| sum.saturating_add(size(column.uncompressed_size())))
    });
    limits::unpacks_to("the Parquet file", packed, unpacked)?;
    Ok(reader)
}

/// The columns with their first rows.
pub(crate) fn layout(path: &Path) -> Result<Layout> {
    let reader = reader(path)?;
    // What the file says of its own sizes is not believed.
    let file = File::open(path)?;
    let packed = file.metadata()?.len();
    let chunks = reader.metadata().row_groups().iter().flat_map(|group| group.columns());
    limits::unpacks_to("the Parquet file", packed, pages::unpacked(file, chunks)?)?;
    let schema = reader.metadata().file_metadata().schema_descr_ptr();
    for column in schema.columns() {
        if column.path().parts().len() > 1 || column.max_rep_level() > 0 {
            return Err(Error::content(
                format!("column “{}”", column.path()),
                "it is nested",
                "a record needs flat columns",
            ));
        }
    }
    let names: Vec<String> = schema.columns().iter().map(|column| column.name().to_owned()).collect();
    let mut rows = rows(path)?;
    let (mut sample, mut row) = (Vec::new(), ByteRecord::new());
    while sample.len() < SAMPLE_ROWS && rows.next(&mut row)? {
        sample.push(row.iter().map(|cell| String::from_utf8_lossy(cell).into_owned()).collect());
    }
    Ok(Layout::with_header(&names, sample, false))
}

/// The rows of a file.
pub(crate) fn rows(path: &Path) -> Result<impl Rows + use<>> {
    let reader = reader(path)?;
    let total = reader.metadata().file_metadata().num_rows().max(1) as f64;
    // Stamps in nanoseconds are not told from plain integers by the row itself.
    let nanoseconds = reader
        .metadata()
        .file_metadata()
        .schema_descr()
        .columns()
        .iter()
        .map(|column| matches!(column.logical_type_ref(), Some(LogicalType::Timestamp(stamp)) if stamp.unit == ParquetUnit::NANOS))
        .collect();
    Ok(ParquetRows { rows: RowIter::from_file_into(Box::new(reader)), nanoseconds, done: 0.0, total })
}

struct ParquetRows {
    rows: RowIter<'static>,
    nanoseconds: Vec<bool>,
    done: f64,
    total: f64,
}

impl Rows for ParquetRows {
    fn next(&mut self, row: &mut ByteRecord) -> Result<bool> {
        go_on();
        row.clear();
        let Some(next) = self.rows.next() else { return Ok(false) };
        for (column, (_, field)) in next.map_err(broken)?.get_column_iter().enumerate() {
            let text = match field {
                Field::Long(value) if self.nanoseconds.get(column) == Some(&true) => stamp(value.div_euclid(1_000_000)),
                other => text(other),
            };
            row.push_field(text.as_bytes());
        }
        self.done += 1.0;
        Ok(true)
    }

    fn progress(&self) -> f64 {
        self.done / self.total
    }
}

fn stamp(milliseconds: i64) -> String {
    let at = chrono::DateTime::from_timestamp_millis(milliseconds).unwrap_or_default();
    at.format("%Y-%m-%dT%H:%M:%S%.3f").to_string()
}

/// A field as text; NaN is missing.
fn text(field: &Field) -> String {
    match field {
        Field::Null => String::new(),
        Field::Bool(value) => if *value { "1" } else { "0" }.into(),
        Field::Double(value) => {
            if value.is_finite() {
                value.to_string()
            } else {
                String::new()
            }
        }
        Field::Float(value) => {
            if value.is_finite() {
                value.to_string()
            } else {
                String::new()
            }
        }
        Field::TimestampMillis(value) => stamp(*value),
        Field::TimestampMicros(value) => stamp(value.div_euclid(1000)),
        Field::Str(value) => value.clone(),
        other => other.to_string(),
    }
}

/// Writes a record: doubles, missing samples as nulls.
pub(crate) fn write(record: &Record, start: f64, target: impl Write + Send) -> Result<()> {
    let names = std::iter::once(header("time", "s"))
        .chain(record.channels.iter().map(|channel| header(&channel.tag, &channel.unit)));
    let times: Vec<f64> = (0..record.axis.len()).map(|k| start + record.axis.at(k)).collect();
    let columns: Vec<&[f64]> = std::iter::once(times.as_slice())
        .chain(record.channels.iter().map(|channel| channel.values.as_slice()))
        .collect();
    write_columns(names, &columns, target)
}

/// Writes columns of doubles of one length; what is no finite number becomes a null.
pub(crate) fn write_columns(
    names: impl Iterator<Item = String>,
    columns: &[&[f64]],
    target: impl Write + Send,
) -> Result<()> {
    let fields: Vec<Arc<Type>> = names
        .map(|name| {
            let column = Type::primitive_type_builder(&name, Physical::DOUBLE).with_repetition(Repetition::OPTIONAL);
            column.build().map(Arc::new).map_err(broken)
        })
        .collect::<Result<_>>()?;
    let schema = Arc::new(Type::group_type_builder("record").with_fields(fields).build().map_err(broken)?);
    let properties = Arc::new(WriterProperties::builder().set_compression(parquet::basic::Compression::SNAPPY).build());
    let mut writer = SerializedFileWriter::new(target, schema, properties).map_err(broken)?;
    let rows = columns.first().map_or(0, |column| column.len());
    for from in (0..rows).step_by(GROUP) {
        let range = from..(from + GROUP).min(rows);
        let mut group = writer.next_row_group().map_err(broken)?;
        for values in columns.iter().map(|column| &column[range.clone()]) {
            let Some(mut column) = group.next_column().map_err(broken)? else { break };
            let there: Vec<f64> = values.iter().copied().filter(|value| value.is_finite()).collect();
            let levels: Vec<i16> = values.iter().map(|value| i16::from(value.is_finite())).collect();
            column.typed::<DoubleType>().write_batch(&there, Some(&levels), None).map_err(broken)?;
            column.close().map_err(broken)?;
        }
        group.close().map_err(broken)?;
    }
    writer.close().map_err(broken)?;
    Ok(())
}

/// Reads columns of doubles back; nulls become NaN.
pub(crate) fn read_columns(bytes: Vec<u8>) -> Result<Vec<Vec<f64>>> {
    let reader = SerializedFileReader::new(bytes::Bytes::from(bytes)).map_err(broken)?;
    let mut columns: Vec<Vec<f64>> = Vec::new();
    for row in reader.get_row_iter(None).map_err(broken)? {
        for (k, (_, field)) in row.map_err(broken)?.get_column_iter().enumerate() {
            let value = match field {
                Field::Double(value) => *value,
                Field::Null => f64::NAN,
                _ => return Err(Error::content(format!("column {}", k + 1), "it holds no numbers", "write it again")),
            };
            match columns.get_mut(k) {
                Some(column) => column.push(value),
                None => columns.push(vec![value]),
            }
        }
    }
    Ok(columns)
}
