//! Every documented form of a text file, alone and together: whatever delimiter, decimal mark, encoding, header and form of
//! the time a record is written with, nothing said about it, it is read as the same record.

#![allow(clippy::unwrap_used, clippy::panic)]

use antistasis_core::series::Role;
use antistasis_exchange::{Reading, preview, read};
use proptest::prelude::*;
use std::io::Write;

#[derive(Debug, Clone, Copy, PartialEq)]
enum Time {
    Seconds,
    Minutes,
    Milliseconds,
    Iso,
    IsoWithOffset,
    German,
    American,
    MonthName,
    SpreadsheetDays,
    Unix,
    DayAndHour,
    HourAlone,
}

const TIMES: [Time; 12] = [
    Time::Seconds,
    Time::Minutes,
    Time::Milliseconds,
    Time::Iso,
    Time::IsoWithOffset,
    Time::German,
    Time::American,
    Time::MonthName,
    Time::SpreadsheetDays,
    Time::Unix,
    Time::DayAndHour,
    Time::HourAlone,
];

#[derive(Debug, Clone, Copy, PartialEq)]
enum Encoding {
    Utf8,
    Utf8WithMark,
    Utf16,
    Windows1252,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Units {
    InTheHeader,
    RowOfTheirOwn,
    None,
}

#[derive(Debug, Clone)]
struct Form {
    time: Time,
    delimiter: char,
    decimal_comma: bool,
    encoding: Encoding,
    separator_line: bool,
    title: bool,
    units: Units,
    quoted: bool,
    windows_lines: bool,
    interval: u32,
    pv: Vec<i32>,
    moves: Vec<bool>,
}

fn forms() -> impl Strategy<Value = Form> {
    let text = (
        prop::sample::select(vec![',', ';', '\t', '|']),
        any::<bool>(),
        prop::sample::select(vec![Encoding::Utf8, Encoding::Utf8WithMark, Encoding::Utf16, Encoding::Windows1252]),
        any::<bool>(),
        any::<bool>(),
        prop::sample::select(vec![Units::InTheHeader, Units::RowOfTheirOwn, Units::None]),
        any::<bool>(),
        any::<bool>(),
    );
    let samples = 30usize..60;
    let data = samples.prop_flat_map(|n| {
        (prop::collection::vec(-90..90i32, n), prop::collection::vec(prop::bool::weighted(0.08), n))
    });
    (prop::sample::select(TIMES.to_vec()), text, prop::sample::select(vec![1u32, 2, 10, 30]), data).prop_map(
        |(time, text, interval, (steps, moves))| {
            let (delimiter, comma, encoding, separator_line, title, units, quoted, windows_lines) = text;
            // A PV that wanders, in thousandths.
            let pv = steps
                .iter()
                .scan(75_000, |level, step| {
                    *level += step;
                    Some(*level)
                })
                .collect();
            Form {
                time,
                delimiter,
                // A comma cannot be both.
                decimal_comma: comma && (delimiter != ',' || quoted),
                encoding,
                separator_line,
                title,
                units,
                quoted,
                windows_lines,
                interval,
                pv,
                moves,
            }
        },
    )
}

impl Form {
    fn op(&self) -> Vec<f64> {
        let mut level = 40.0;
        let next = |moved: &bool| {
            if *moved {
                level = if level == 40.0 { 46.5 } else { 40.0 };
            }
            level
        };
        self.moves.iter().map(next).collect()
    }

    fn number(&self, value: f64, digits: usize) -> String {
        let text = format!("{value:.digits$}");
        if self.decimal_comma { text.replace('.', ",") } else { text }
    }

    /// The time of a row, 14 March 2026 from 5:00 on.
    fn time(&self, k: usize) -> Vec<String> {
        let seconds = self.interval * k as u32;
        let (h, m, s) = (5 + seconds / 3600, seconds / 60 % 60, seconds % 60);
        let clock = format!("{h:02}:{m:02}:{s:02}");
        match self.time {
            Time::Seconds => vec![self.number(f64::from(seconds), 1)],
            Time::Minutes => vec![self.number(f64::from(seconds) / 60.0, 9)],
            Time::Milliseconds => vec![format!("{}", 1000 * seconds)],
            Time::Iso => vec![format!("2026-03-14T{clock}")],
            Time::IsoWithOffset => vec![format!("2026-03-14 {clock}+01:00")],
            Time::German => vec![format!("14.03.2026 {clock}")],
            Time::American => vec![format!("3/14/2026 {h}:{m:02}:{s:02} AM")],
            Time::MonthName => vec![format!("14-Mar-26 {clock}")],
            // 46095 days from 30 December 1899 to 14 March 2026.
            Time::SpreadsheetDays => vec![self.number(46_095.0 + (18_000.0 + f64::from(seconds)) / 86_400.0, 10)],
            Time::Unix => vec![format!("{}", 1_773_464_400 + u64::from(seconds))],
            Time::DayAndHour => vec!["14.03.2026".to_owned(), clock],
            Time::HourAlone => vec![clock],
        }
    }

    fn written(&self) -> Vec<u8> {
        let (names, units): (Vec<&str>, Vec<&str>) = match self.time {
            Time::Seconds => (vec!["t"], vec!["s"]),
            Time::Minutes => (vec!["t"], vec!["min"]),
            Time::Milliseconds => (vec!["t"], vec!["ms"]),
            Time::DayAndHour => (vec!["Date", "Time"], vec!["", ""]),
            _ => (vec!["Time"], vec![""]),
        };
        let names: Vec<&str> = names.into_iter().chain(["TIC-7.PV", "TIC-7.OP"]).collect();
        let units: Vec<&str> = units.into_iter().chain(["°C", "%"]).collect();
        // Without units a time in minutes would be one in seconds.
        let needed = matches!(self.time, Time::Minutes | Time::Milliseconds);
        let in_header = self.units == Units::InTheHeader || (needed && self.units == Units::None);
        let header = names.iter().zip(&units).map(|(name, unit)| {
            if in_header && !unit.is_empty() { format!("{name} [{unit}]") } else { (*name).to_owned() }
        });
        let mut rows: Vec<Vec<String>> = vec![header.collect()];
        if self.units == Units::RowOfTheirOwn {
            rows.push(units.iter().map(|unit| (*unit).to_owned()).collect());
        }
        let op = self.op();
        for (k, pv) in self.pv.iter().enumerate() {
            let mut row = self.time(k);
            row.push(self.number(f64::from(*pv) / 1000.0, 3));
            row.push(self.number(op[k], 1));
            rows.push(row);
        }
        let cell = |cell: &String| if self.quoted { format!("\"{cell}\"") } else { cell.clone() };
        let line = |row: &Vec<String>| row.iter().map(cell).collect::<Vec<_>>().join(&self.delimiter.to_string());
        let mut lines: Vec<String> = rows.iter().map(line).collect();
        if self.title {
            lines.insert(0, "Export of the night shift".to_owned());
        }
        if self.separator_line {
            lines.insert(0, format!("sep={}", self.delimiter));
        }
        let text = lines.join(if self.windows_lines { "\r\n" } else { "\n" }) + "\n";
        match self.encoding {
            Encoding::Utf8 => text.into_bytes(),
            Encoding::Utf8WithMark => [b"\xEF\xBB\xBF", text.as_bytes()].concat(),
            Encoding::Utf16 => {
                let units = std::iter::once(0xFEFF).chain(text.encode_utf16());
                units.flat_map(u16::to_le_bytes).collect()
            }
            Encoding::Windows1252 => text.chars().map(|c| c as u32 as u8).collect(),
        }
    }
}

fn check(form: &Form) -> Result<(), TestCaseError> {
    let mut file = tempfile::NamedTempFile::new().unwrap();
    file.write_all(&form.written()).unwrap();
    let seen = preview(file.path(), &Reading::default());
    prop_assert!(seen.is_ok(), "{:?}", seen.err());
    let taken = read(file.path(), &seen.unwrap().guess, &mut |_| true);
    prop_assert!(taken.is_ok(), "{:?}", taken.err());
    let import = taken.unwrap();
    let record = &import.record;
    let (pv, op) = (record.channel(Role::Pv), record.channel(Role::Op));
    prop_assert!(pv.is_some() && op.is_some(), "{:?}", record.channels.iter().map(|c| &c.tag).collect::<Vec<_>>());
    let (pv, op) = (pv.unwrap(), op.unwrap());
    prop_assert_eq!(pv.values.len(), form.pv.len());
    for (value, thousandths) in pv.values.iter().zip(&form.pv) {
        prop_assert!((value - f64::from(*thousandths) / 1000.0).abs() < 1e-9, "{value} {thousandths}");
    }
    prop_assert_eq!(&op.values, &form.op());
    for k in 0..record.axis.len() {
        let time = f64::from(form.interval) * k as f64;
        prop_assert!((record.axis.at(k) - record.axis.at(0) - time).abs() < 2e-3, "{}: {}", k, record.axis.at(k));
    }
    if form.units != Units::None {
        prop_assert_eq!((pv.unit.as_str(), op.unit.as_str()), ("°C", "%"));
    }
    // What has a date keeps it, whatever the clock of the place.
    let dated = !matches!(form.time, Time::Seconds | Time::Minutes | Time::Milliseconds | Time::HourAlone);
    prop_assert_eq!(import.start.as_deref().is_some_and(|start| start.contains("2026-03-14")), dated);
    Ok(())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn whatever_the_form_it_is_the_same_record(form in forms()) {
        check(&form)?;
    }
}

#[test]
fn every_form_of_the_time_is_read_with_every_delimiter() {
    // The property finds combinations; here each pair stands for sure.
    for time in TIMES {
        for delimiter in [',', ';', '\t', '|'] {
            let form = Form {
                time,
                delimiter,
                decimal_comma: delimiter == ';',
                encoding: Encoding::Utf8,
                separator_line: false,
                title: false,
                units: Units::InTheHeader,
                quoted: false,
                windows_lines: true,
                interval: 10,
                pv: (0..40).map(|k| 75_000 + 37 * (k % 11)).collect(),
                moves: (0..40).map(|k| k % 13 == 5).collect(),
            };
            if let Err(error) = check(&form) {
                panic!("{time:?} with {delimiter:?}: {error}");
            }
        }
    }
}
