//! Every form of file, there and back, and made by others.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::series::{Channel, Record, Role, TimeAxis};
use antistasis_exchange::{Error, Format, Import, Reading, TimeSource, preview, read, write};
use std::io::Write;
use std::path::{Path, PathBuf};
use tempfile::NamedTempFile;

fn record(samples: usize) -> Record {
    let channel = |tag: &str, role, unit: &str, of: fn(usize) -> f64| Channel {
        tag: tag.into(),
        role,
        unit: unit.into(),
        values: (0..samples).map(of).collect(),
    };
    let channels = vec![
        channel("T.PV", Role::Pv, "°C", |k| if k == 7 { f64::NAN } else { 70.0 + (0.1 * k as f64).sin() / 3.0 }),
        channel("T.OP", Role::Op, "%", |k| if k < 20 { 40.0 } else { 45.5 }),
        channel("FEED", Role::Dv, "t/h", |k| 1e-7 * k as f64),
    ];
    Record::new(TimeAxis::uniform(0.5, samples).unwrap(), channels).unwrap()
}

fn written(record: &Record, format: Format) -> NamedTempFile {
    let mut file = NamedTempFile::new().unwrap();
    write(record, 0.0, format, file.as_file_mut()).unwrap();
    file
}

fn import(path: &Path) -> Import {
    read(path, &preview(path, &Reading::default()).unwrap().guess, &mut |_| true).unwrap()
}

fn made(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../reference/data").join(name)
}

#[test]
fn what_is_written_reads_back_to_the_bit() {
    let record = record(300);
    for format in Format::ALL {
        let back = import(written(&record, format).path()).record;
        assert_eq!(back.axis, record.axis, "{format:?}");
        for (own, other) in record.channels.iter().zip(&back.channels) {
            assert_eq!((&own.tag, own.role, &own.unit), (&other.tag, other.role, &other.unit), "{format:?}");
            let bits = |channel: &Channel| {
                channel.values.iter().map(|value| value.to_bits() | u64::from(value.is_nan())).collect::<Vec<_>>()
            };
            assert_eq!(bits(own).len(), bits(other).len());
            assert!(
                own.values.iter().zip(&other.values).all(|(a, b)| a == b || (a.is_nan() && b.is_nan())),
                "{format:?}"
            );
        }
    }
}

#[test]
fn files_made_by_other_libraries_are_read() {
    // Made by `reference/foreign_files.py` with pandas, openpyxl and pyarrow: stamps every 2 s from 2026-03-02 08:00,
    // PV 70 + k/10, OP 40 and
    // then 45, a missing PV at the third row.
    for name in ["foreign.xlsx", "foreign.parquet", "foreign_rows.json"] {
        let import = import(&made(name));
        assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 2.0, len: 40 }, "{name}");
        assert_eq!(import.start.as_deref(), Some("2026-03-02T08:00:00.000"), "{name}");
        let pv = &import.record.channel(Role::Pv).unwrap().values;
        assert!(
            (pv[39] - 73.9).abs() < 1e-12 && pv[2].is_nan() && pv.iter().filter(|value| value.is_nan()).count() == 1,
            "{name}"
        );
        let op = &import.record.channel(Role::Op).unwrap().values;
        assert_eq!((op[0], op[39]), (40.0, 45.0), "{name}");
    }
}

fn file(content: &str) -> NamedTempFile {
    let mut file = NamedTempFile::new().unwrap();
    file.write_all(content.as_bytes()).unwrap();
    file
}

#[test]
fn json_in_columns_and_what_is_no_table() {
    let columns = file("{\"time\": [0, 1, 2, 3], \"PV [m]\": [1.5, null, 2.5, 3], \"OP\": [4, 4, 5, 5]}");
    let import = import(columns.path());
    assert_eq!(import.record.channel(Role::Pv).unwrap().unit, "m");
    assert!(import.record.channel(Role::Pv).unwrap().values[1].is_nan());
    for (content, expected) in [
        ("{\"a\": 1}", "no table"),
        ("[1, 2, 3]", "no table"),
        ("{\"a\": [1, 2], \"b\": [1]}", "no table"),
        ("{\"a\": [1, 2", "must be JSON"),
    ] {
        let error = preview(file(content).path(), &Reading::default()).unwrap_err().to_string();
        assert!(error.contains(expected), "{content}: {error}");
    }
    assert!(
        preview(file("PK\u{3}\u{4}broken").path(), &Reading::default()).unwrap_err().to_string().contains("workbook")
    );
    assert!(preview(file("PAR1broken").path(), &Reading::default()).unwrap_err().to_string().contains("Parquet"));
    assert!(Format::of_ending("docx").unwrap_err().to_string().contains("csv, tsv, xlsx, parquet, json"));
}

#[test]
fn columns_are_guessed_by_behaviour_where_names_do_not_tell() {
    let mut text = "n,x1,x2,x3\n".to_owned();
    for k in 0..60 {
        let (pv, op, sp) =
            (80.0 + (f64::from(k) * 0.7).sin(), if k < 30 { 42 } else { 47 }, if k < 40 { 80 } else { 81 });
        text += &format!("{},{pv},{op},{sp}\n", 5 * k);
    }
    let guess = preview(file(&text).path(), &Reading::default()).unwrap().guess;
    assert!(matches!(&guess.time, TimeSource::Column { column, .. } if column == "n"), "{guess:?}");
    let roles: Vec<Role> = guess.channels.iter().map(|channel| channel.role).collect();
    assert_eq!(roles[0], Role::Pv);
    // Which of two stepped columns is the OP: the one that comes first.
    assert_eq!(roles[1..], [Role::Op, Role::Sp]);
    let named = file("time,TIC.PV,TIC.OP,FIC.FEED,REMARK\n0,1,2,3,4\n1,1,2,3,4\n");
    let roles: Vec<Role> =
        preview(named.path(), &Reading::default()).unwrap().guess.channels.iter().map(|channel| channel.role).collect();
    assert_eq!(roles, [Role::Pv, Role::Op, Role::Dv, Role::Other]);
}

#[test]
fn reading_tells_how_far_it_is_and_can_be_cancelled() {
    let record = record(60_000);
    for format in [Format::Csv, Format::Parquet, Format::Xlsx] {
        let file = written(&record, format);
        let guess = preview(file.path(), &Reading::default()).unwrap().guess;
        let mut shares = Vec::new();
        read(file.path(), &guess, &mut |share| {
            shares.push(share);
            true
        })
        .unwrap();
        assert!(
            shares.len() >= 5 && shares.is_sorted() && shares.iter().all(|share| (0.0..=1.0).contains(share)),
            "{format:?}"
        );
        let mut looks = 0;
        let cancelled = read(file.path(), &guess, &mut |_| {
            looks += 1;
            looks < 2
        });
        assert!(matches!(cancelled, Err(Error::Cancelled)) && looks == 2, "{format:?}");
    }
}
