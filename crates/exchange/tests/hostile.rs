//! Files that mean harm, or that were damaged: each is refused in words or read, none takes the program down, none takes more
//! memory than a file of a plant would.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_core::work::{Ended, Work};
use antistasis_exchange::{Format, Reading, preview, read, write};
use proptest::prelude::*;
use std::io::{Cursor, Write};
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::{Duration, Instant};
use tempfile::TempDir;

fn file(directory: &TempDir, name: &str, bytes: &[u8]) -> PathBuf {
    let path = directory.path().join(name);
    std::fs::write(&path, bytes).unwrap();
    path
}

/// What is said of a file that is refused; how it is refused must be quick.
fn refusal(name: &str, bytes: &[u8]) -> String {
    let directory = tempfile::tempdir().unwrap();
    let path = file(&directory, name, bytes);
    let begun = Instant::now();
    let said = preview(&path, &Reading::default()).map(drop).unwrap_err().to_string();
    assert!(begun.elapsed() < Duration::from_secs(30), "{:?}: {said}", begun.elapsed());
    said
}

fn record() -> Record {
    let channel = |tag: &str, role, unit: &str, f: fn(usize) -> f64| Channel {
        tag: tag.into(),
        role,
        unit: unit.into(),
        values: (0..40).map(f).collect(),
    };
    let channels = vec![
        channel("TIC-1.PV", Role::Pv, "°C", |k| 50.0 + (0.3 * k as f64).sin()),
        channel("TIC-1.OP", Role::Op, "%", |k| if k < 20 { 40.0 } else { 55.0 }),
    ];
    Record::new(TimeAxis::uniform(2.0, 40).unwrap(), channels).unwrap()
}

/// A good file of each form.
fn good() -> &'static [(Format, Vec<u8>)] {
    static GOOD: OnceLock<Vec<(Format, Vec<u8>)>> = OnceLock::new();
    GOOD.get_or_init(|| {
        let bytes = |format| {
            let mut bytes = Vec::new();
            write(&record(), 0.0, format, &mut bytes).unwrap();
            (format, bytes)
        };
        Format::ALL.into_iter().map(bytes).collect()
    })
}

/// A part of a workbook, and what writes another in its place.
type Part<'a> = (&'a str, &'a dyn Fn(&mut dyn Write));

/// A workbook in which some parts are replaced.
fn workbook(replaced: &[Part<'_>]) -> Vec<u8> {
    let (_, bytes) = good().iter().find(|(format, _)| *format == Format::Xlsx).unwrap();
    let mut from = zip::ZipArchive::new(Cursor::new(bytes)).unwrap();
    let mut to = zip::ZipWriter::new(Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    for k in 0..from.len() {
        let mut entry = from.by_index(k).unwrap();
        let name = entry.name().unwrap().into_owned();
        to.start_file(name.as_str(), options).unwrap();
        match replaced.iter().find(|(known, _)| *known == name) {
            Some((_, content)) => content(&mut to),
            None => drop(std::io::copy(&mut entry, &mut to).unwrap()),
        }
    }
    to.finish().unwrap().into_inner()
}

const SHEET: &str = "xl/worksheets/sheet1.xml";
const TEXTS: &str = "xl/sharedStrings.xml";

#[test]
fn two_cells_at_the_corners_of_a_sheet_are_no_table_of_sixteen_thousand_million() {
    let mut book = rust_xlsxwriter::Workbook::new();
    let sheet = book.add_worksheet();
    for row in 0..3 {
        sheet.write(row, 0, f64::from(row)).unwrap().write(row, 1, 1.5).unwrap();
    }
    sheet.write(1_048_575, 16_383, 1.0).unwrap();
    let said = refusal("corners.xlsx", &book.save_to_buffer().unwrap());
    assert!(said.contains("columns") && said.contains("at most"), "{said}");
    // A tall one with few columns is refused by its cells.
    let mut book = rust_xlsxwriter::Workbook::new();
    let sheet = book.add_worksheet();
    sheet.write(0, 0, 1.0).unwrap().write(0, 1, 1.5).unwrap().write(1_048_575, 100, 1.0).unwrap();
    let said = refusal("tall.xlsx", &book.save_to_buffer().unwrap());
    assert!(said.contains("spans 1048576 rows and 101 columns"), "{said}");
}

#[test]
fn a_workbook_that_unpacks_to_gigabytes_is_not_unpacked() {
    let bomb = |to: &mut dyn Write| {
        to.write_all(b"<worksheet><sheetData>").unwrap();
        for _ in 0..100 {
            to.write_all(&[b' '; 1024 * 1024]).unwrap();
        }
    };
    let bytes = workbook(&[(SHEET, &bomb)]);
    assert!(bytes.len() < 300_000);
    let said = refusal("bomb.xlsx", &bytes);
    assert!(said.contains("unpacks from"), "{said}");
}

#[test]
fn a_list_of_texts_that_claims_more_than_there_is_room_for_is_damaged() {
    for count in ["99999999999999", "18446744073709551615", "999999999999999999999999"] {
        let claims = |to: &mut dyn Write| {
            write!(to, r#"<?xml version="1.0"?><sst count="1" uniqueCount="{count}"><si><t>PV</t></si></sst>"#)
                .unwrap();
        };
        let said = refusal("texts.xlsx", &workbook(&[(TEXTS, &claims)]));
        assert!(said.contains("damaged"), "{count}: {said}");
    }
}

#[test]
fn a_long_text_that_many_cells_share_is_not_copied_into_each() {
    let text = |to: &mut dyn Write| {
        write!(to, r#"<?xml version="1.0"?><sst uniqueCount="1"><si><t>{}</t></si></sst>"#, "x".repeat(30_000))
            .unwrap();
    };
    let cells = |to: &mut dyn Write| {
        to.write_all(br#"<?xml version="1.0"?><worksheet><sheetData>"#).unwrap();
        for row in 1..20_000 {
            write!(to, r#"<row r="{row}"><c r="A{row}"><v>{row}</v></c><c r="B{row}"><v>1</v></c><c r="C{row}" t="s"><v>0</v></c></row>"#)
                .unwrap();
        }
        to.write_all(b"</sheetData></worksheet>").unwrap();
    };
    let said = refusal("shared.xlsx", &workbook(&[(TEXTS, &text), (SHEET, &cells)]));
    assert!(said.contains("too much text"), "{said}");
}

#[test]
fn a_parquet_file_with_one_immense_text_is_not_unpacked() {
    use parquet::basic::{Compression, ConvertedType, Repetition, Type as Physical, ZstdLevel};
    use parquet::data_type::{ByteArray, ByteArrayType};
    use parquet::file::properties::WriterProperties;
    use parquet::file::writer::SerializedFileWriter;
    use parquet::schema::types::Type;
    let column = Type::primitive_type_builder("a", Physical::BYTE_ARRAY)
        .with_converted_type(ConvertedType::UTF8)
        .with_repetition(Repetition::REQUIRED);
    let fields = vec![std::sync::Arc::new(column.build().unwrap())];
    let schema = std::sync::Arc::new(Type::group_type_builder("r").with_fields(fields).build().unwrap());
    let packed = Compression::ZSTD(ZstdLevel::default());
    let properties = std::sync::Arc::new(WriterProperties::builder().set_compression(packed).build());
    let mut bytes = Vec::new();
    let mut writer = SerializedFileWriter::new(&mut bytes, schema, properties).unwrap();
    let mut group = writer.next_row_group().unwrap();
    let mut column = group.next_column().unwrap().unwrap();
    let text = ByteArray::from(vec![b'x'; 100 * 1024 * 1024]);
    column.typed::<ByteArrayType>().write_batch(&[text], None, None).unwrap();
    column.close().unwrap();
    group.close().unwrap();
    writer.close().unwrap();
    assert!(bytes.len() < 300_000);
    let said = refusal("immense.parquet", &bytes);
    assert!(said.contains("unpacks from"), "{said}");
}

#[test]
fn rows_and_columns_without_end_are_refused() {
    let mut endless = b"time,PV,OP\n0,1,2\n1,2,3\n\"".to_vec();
    endless.resize(40 * 1024 * 1024, b'x');
    let directory = tempfile::tempdir().unwrap();
    let path = file(&directory, "endless.csv", &endless);
    let guess = preview(&path, &Reading::default()).unwrap().guess;
    let said = read(&path, &guess, &mut |_| true).map(drop).unwrap_err().to_string();
    assert!(said.contains("row is longer"), "{said}");

    let wide = format!("time{}\n0{}\n1{}\n", ",PV".repeat(20_000), ",1".repeat(20_000), ",2".repeat(20_000));
    let said = refusal("wide.csv", wide.as_bytes());
    assert!(said.contains("20001 columns") && said.contains("10000"), "{said}");
    let names: Vec<String> = (0..20_000).map(|k| format!("\"c{k}\":1")).collect();
    let said = refusal("wide.json", format!("[{{{0}}},{{{0}}}]", names.join(",")).as_bytes());
    assert!(said.contains("columns"), "{said}");
    // Few names, many rows: each row is short, the table is not.
    let deep = format!("[{{{}}}{}]", names[..9000].join(","), ",{}".repeat(3000));
    let said = refusal("deep.json", deep.as_bytes());
    assert!(said.contains("spans 3001 rows and 9000 columns"), "{said}");
}

/// As large as JSON may be: the memory that it takes counts in what [`most_memory`] is held against.
#[test]
fn json_as_large_as_it_may_be_is_read_without_a_tree_of_it() {
    let mut text = String::with_capacity(64 * 1024 * 1024);
    text.push_str("[{\"time\":0,\"PV\":1.5}");
    let mut rows = 1;
    while text.len() < 63 * 1024 * 1024 {
        text.push_str(&format!(",{{\"time\":{rows},\"PV\":1.5}}"));
        rows += 1;
    }
    text.push(']');
    let directory = tempfile::tempdir().unwrap();
    let found = preview(&file(&directory, "large.json", text.as_bytes()), &Reading::default()).unwrap();
    assert_eq!(found.columns.len(), 2);
    assert!(rows > 2_000_000 && most_memory() < 512.0, "{} MB for {rows} rows", most_memory());
}

#[test]
fn thousands_of_columns_of_one_name_are_told_apart_at_once() {
    let wide = format!("time{}\n0{}\n1{}\n", ",PV".repeat(9000), ",1".repeat(9000), ",2".repeat(9000));
    let directory = tempfile::tempdir().unwrap();
    let begun = Instant::now();
    let found = preview(&file(&directory, "same.csv", wide.as_bytes()), &Reading::default()).unwrap();
    assert!(begun.elapsed() < Duration::from_secs(30), "{:?}", begun.elapsed());
    let names: std::collections::HashSet<&String> = found.columns.iter().map(|column| &column.name).collect();
    assert_eq!(names.len(), 9001);
}

#[test]
fn what_no_plant_measures_is_counted_as_text_and_times_are_apart() {
    let directory = tempfile::tempdir().unwrap();
    let rows: String =
        (0..30).map(|k| format!("{k},{},5\n", if k == 7 { "1e308".into() } else { k.to_string() })).collect();
    let path = file(&directory, "large.csv", format!("time,PV,OP\n{rows}").as_bytes());
    let guess = preview(&path, &Reading::default()).unwrap().guess;
    let taken = read(&path, &guess, &mut |_| true).unwrap();
    assert!(taken.record.channels[0].values[7].is_nan());
    assert!(taken.notes.iter().any(|note| note.contains("“1e308” 1 times")), "{:?}", taken.notes);

    let rows: String = (0..30).map(|k| format!("{:e},{k},5\n", 1e-12 * f64::from(k))).collect();
    let path = file(&directory, "dense.csv", format!("time,PV,OP\n{rows}").as_bytes());
    let guess = preview(&path, &Reading::default()).unwrap().guess;
    let said = read(&path, &guess, &mut |_| true).map(drop).unwrap_err().to_string();
    assert!(said.contains("at least 1e-6 s"), "{said}");
}

#[test]
fn a_tag_that_a_spreadsheet_would_take_for_a_formula_is_written_as_text_and_read_back() {
    let directory = tempfile::tempdir().unwrap();
    for tag in ["=1+1", "@SUM(A1)", "+A1", "-A1", "'quoted", "plain"] {
        let mut record = record();
        record.channels[0].tag = tag.into();
        let mut bytes = Vec::new();
        write(&record, 0.0, Format::Csv, &mut bytes).unwrap();
        let head = String::from_utf8(bytes.clone()).unwrap().lines().next().unwrap().to_owned();
        let cells: Vec<&str> = head.split(',').collect();
        assert!(cells.iter().all(|cell| !cell.trim_matches('"').starts_with(['=', '@', '+', '-'])), "{head}");
        let path = file(&directory, "formula.csv", &bytes);
        assert_eq!(preview(&path, &Reading::default()).unwrap().columns[1].name, tag);
    }
}

/// Reads a damaged file as far as it goes; whatever happens is an error in words.
fn survive(format: Format, bytes: &[u8]) {
    let directory = tempfile::tempdir().unwrap();
    let path = file(&directory, format!("damaged.{}", format.ending()).as_str(), bytes);
    let begun = Instant::now();
    if let Ok(found) = preview(&path, &Reading::default()) {
        let _ = read(&path, &found.guess, &mut |_| true).map_err(|error| assert!(!error.to_string().is_empty()));
    }
    assert!(begun.elapsed() < Duration::from_secs(30), "{format:?}: {:?}", begun.elapsed());
}

/// A way to damage a file.
#[derive(Debug, Clone)]
enum Damage {
    Bytes(Vec<(prop::sample::Index, u8)>),
    Cut(prop::sample::Index),
    Twice(prop::sample::Index, prop::sample::Index),
    Inserted(prop::sample::Index, Vec<u8>),
    /// A number in the file's own binary form, such as a length.
    Number(prop::sample::Index, u32),
}

fn damage() -> impl Strategy<Value = Damage> {
    let at = any::<prop::sample::Index>;
    prop_oneof![
        prop::collection::vec((at(), any::<u8>()), 1..8).prop_map(Damage::Bytes),
        at().prop_map(Damage::Cut),
        (at(), at()).prop_map(|(a, b)| Damage::Twice(a, b)),
        (at(), prop::collection::vec(any::<u8>(), 1..40)).prop_map(|(a, bytes)| Damage::Inserted(a, bytes)),
        (at(), prop_oneof![Just(u32::MAX), Just(0x7fff_ffff), Just(0), any::<u32>()])
            .prop_map(|(a, number)| Damage::Number(a, number)),
    ]
}

fn damaged(bytes: &[u8], damages: &[Damage]) -> Vec<u8> {
    let mut bytes = bytes.to_vec();
    for one in damages {
        if bytes.is_empty() {
            return bytes;
        }
        let count = bytes.len();
        match one {
            Damage::Bytes(list) => list.iter().for_each(|(at, byte)| bytes[at.index(count)] = *byte),
            Damage::Cut(at) => bytes.truncate(at.index(count)),
            Damage::Twice(a, b) => {
                let (from, to) = (a.index(count).min(b.index(count)), a.index(count).max(b.index(count)));
                let part = bytes[from..to].to_vec();
                bytes.splice(to..to, part);
            }
            Damage::Inserted(at, more) => drop(bytes.splice(at.index(count)..at.index(count), more.iter().copied())),
            Damage::Number(at, number) => {
                for (k, byte) in number.to_le_bytes().into_iter().enumerate() {
                    if let Some(place) = bytes.get_mut(at.index(count) + k) {
                        *place = byte;
                    }
                }
            }
        }
    }
    bytes
}

/// What nobody waits for any more is not read to its end, whatever form it has.
#[test]
fn reading_ends_with_the_work_that_it_is_part_of() {
    let rows = 30_000;
    let values = |scale: f64| (0..rows).map(|k| 50.0 + scale * f64::from(k % 17)).collect();
    let channel = |tag: &str, role, values| Channel { tag: tag.into(), role, unit: "°C".into(), values };
    let channels = vec![channel("TIC-1.PV", Role::Pv, values(1.0)), channel("TIC-1.OP", Role::Op, values(0.5))];
    let record = Record::new(TimeAxis::uniform(2.0, rows as usize).unwrap(), channels).unwrap();
    let directory = tempfile::tempdir().unwrap();
    for format in Format::ALL {
        let mut bytes = Vec::new();
        write(&record, 0.0, format, &mut bytes).unwrap();
        let path = file(&directory, &format!("long.{}", format.ending()), &bytes);
        let mapping = preview(&path, &Reading::default()).unwrap().guess;
        // Whole, when nobody ends it.
        let whole = Work::new().carry_out(|| read(&path, &mapping, &mut |_| true)).unwrap().unwrap();
        assert_eq!(whole.record.axis.len(), rows as usize);
        // Ended at the first look: the row after it is not read.
        let work = Work::new();
        let mut looks = 0;
        let ended = work.carry_out(|| {
            read(&path, &mapping, &mut |_| {
                looks += 1;
                work.end();
                true
            })
        });
        assert!(matches!(ended, Err(Ended)) && looks == 1, "{format:?}: {looks} looks");
        // Ended before: nothing is read at all.
        assert!(matches!(work.carry_out(|| preview(&path, &Reading::default())), Err(Ended)));
    }
}

/// Most memory that this process ever had, in MB.
fn most_memory() -> f64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|line| line.starts_with("VmHWM")).unwrap_or_default();
    line.split_whitespace().nth(1).and_then(|kilobytes| kilobytes.parse::<f64>().ok()).unwrap_or(0.0) / 1000.0
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(
        std::env::var("ANTISTASIS_HARDEN").ok().and_then(|count| count.parse().ok()).unwrap_or(150)
    ))]

    /// Five forms, each damaged in the same way: for `./run harden` a thousand times and more.
    #[test]
    fn damaged_files_of_every_form_are_survived(damages in prop::collection::vec(damage(), 1..4)) {
        // A library that gives up with a panic is heard, but says nothing here.
        for (format, bytes) in good() {
            survive(*format, &damaged(bytes, &damages));
        }
        prop_assert!(most_memory() < 512.0, "{} MB", most_memory());
    }
}
