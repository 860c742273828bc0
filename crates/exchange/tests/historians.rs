//! Files as historians and loggers write them: each is read with nothing said about it, and what was guessed can be overruled.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::identification::{DataSet, FitOptions, Structure, Windows, identify};
use antistasis_core::series::{Role, TimeAxis};
use antistasis_exchange::{
    DateOrder, Error, GapMeaning, Import, Mapping, Preview, Reading, TableForm, TimeSource, TimeUnit, preview, read,
};
use std::io::Write;
use std::path::Path;
use tempfile::NamedTempFile;

fn file(content: impl AsRef<[u8]>) -> NamedTempFile {
    let mut file = NamedTempFile::new().unwrap();
    file.write_all(content.as_ref()).unwrap();
    file
}

fn looked_at(path: &Path) -> Preview {
    preview(path, &Reading::default()).unwrap()
}

fn taken(path: &Path, mapping: &Mapping) -> Result<Import, Error> {
    read(path, mapping, &mut |_| true)
}

fn import(content: impl AsRef<[u8]>) -> Import {
    let file = file(content);
    taken(file.path(), &looked_at(file.path()).guess).unwrap()
}

fn refusal(content: impl AsRef<[u8]>) -> String {
    let file = file(content);
    taken(file.path(), &looked_at(file.path()).guess).unwrap_err().to_string()
}

fn values(import: &Import, role: Role) -> &[f64] {
    &import.record.channel(role).unwrap().values
}

/// Four exports of one made-up step test: gain 1.6 °C/%, time constant 140 s, dead time 60 s.
#[test]
fn four_forms_of_one_test_give_its_model() {
    for name in ["titles-and-units-row", "date-and-time-apart", "sep-line-utf16", "long-form"] {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join(format!("tests/records/{name}.csv"));
        let import = taken(&path, &looked_at(&path).guess).unwrap();
        assert!(import.start.as_deref().unwrap().starts_with("2026-03-14T05:00:00"), "{name}: {:?}", import.start);
        let data = DataSet::of_record(&import.record, "°C", &[], &[]).unwrap();
        let found = identify(&data, 0.0, &Windows::default(), &FitOptions::new(Structure::Fopdt)).unwrap();
        let parameter = |wanted: &str| {
            let all = &found.model.parameters;
            all.iter().find(|parameter| parameter.name == wanted).unwrap().value
        };
        let (gain, lag, delay) = (parameter("gain"), parameter("time_constant"), parameter("dead_time"));
        assert!((gain - 1.6).abs() < 0.03, "{name}: gain {gain}");
        assert!((lag - 140.0).abs() < 8.0, "{name}: time constant {lag}");
        assert!((delay - 60.0).abs() < 5.0, "{name}: dead time {delay}");
    }
}

#[test]
fn titles_names_and_units_in_rows_of_their_own() {
    let text = "Export of 2026-03-14 08:00\nWorks;Saltmarch Magnesia\n\nTime;TIC-207.PV;TIC-207.OP\n;°C;%\n\
                14.03.2026 05:00:00;88,10;42,0\n14.03.2026 05:00:10;88,04;42,0\n14.03.2026 05:00:20;88,17;43,0\n";
    let made = file(text);
    let found = looked_at(made.path());
    assert_eq!(found.reading.header_row, Some(4));
    let import = taken(made.path(), &found.guess).unwrap();
    assert_eq!(import.record.channel(Role::Pv).unwrap().unit, "°C");
    assert_eq!(values(&import, Role::Op), [42.0, 42.0, 43.0]);
    // The header that stands in the file names a column as well as the name out of it.
    let as_it_stands = file("Zeit;Istwert (°C);Ventil (%)\n0;1;2\n1;2;3\n2;3;4\n");
    let mut mapping = looked_at(as_it_stands.path()).guess;
    mapping.channels.iter_mut().for_each(|channel| channel.column = format!("{} ({})", channel.column, channel.unit));
    assert_eq!(values(&taken(as_it_stands.path(), &mapping).unwrap(), Role::Op), [2.0, 3.0, 4.0]);
}

#[test]
fn another_row_of_names_can_be_chosen() {
    let made = file("a;b;c\nTime;PV;OP\n0;1;2\n1;2;3\n2;3;4\n");
    let found = preview(made.path(), &Reading { header_row: Some(1), ..Reading::default() }).unwrap();
    let names: Vec<&str> = found.columns.iter().map(|column| column.name.as_str()).collect();
    assert_eq!(names, ["a", "b", "c"]);
    let none = preview(made.path(), &Reading { header_row: Some(0), ..Reading::default() }).unwrap();
    assert_eq!(none.columns[1].name, "column 2");
    let refused = preview(made.path(), &Reading { header_row: Some(99), ..Reading::default() }).unwrap_err();
    assert!(refused.to_string().contains("no filled row 99"), "{refused}");
}

#[test]
fn a_line_tells_the_delimiter() {
    // Without the line a comma would be taken: it cuts every row in two.
    let import = import("sep=;\nt;PV;OP\n0;1,5;2\n1;2,5;3\n2;3,5;4\n");
    assert_eq!(values(&import, Role::Pv), [1.5, 2.5, 3.5]);
}

#[test]
fn date_and_time_in_two_columns() {
    let text = "Date,Time,PV,OP\n12/31/2026,11:59:50 PM,1,2\n12/31/2026,11:59:55 PM,2,2\n01/01/2027,12:00:00 AM,3,3\n";
    let made = file(text);
    let guess = looked_at(made.path()).guess;
    let expected = TimeSource::DateAndTime { date: "Date".into(), time: "Time".into(), date_order: None };
    assert_eq!(guess.time, expected);
    let import = taken(made.path(), &guess).unwrap();
    assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 5.0, len: 3 });
    assert_eq!(import.start.as_deref(), Some("2026-12-31T23:59:50.000"));
}

#[test]
fn spreadsheet_days_and_unix_times() {
    // 46095.5 days since the end of 1899 are noon of 2026-03-14: 1970-01-01 is day 25569 (ISO/IEC 29500-1).
    let days = |k: u32| 46_095.5 + f64::from(k) * 10.0 / 86_400.0;
    let text: String = (0..5).map(|k| format!("{},{k},40\n", days(k))).collect();
    let serial = import(format!("Time,PV,OP\n{text}"));
    assert_eq!(serial.start.as_deref(), Some("2026-03-14T12:00:00.000"));
    assert!(matches!(serial.record.axis, TimeAxis::Uniform { interval, len: 5 } if (interval - 10.0).abs() < 1e-3));
    // 1773489600 s after 1970 are noon of 2026-03-14 in UTC (POSIX.1): 20526 days and a half.
    let text: String = (0..5).map(|k| format!("{},{k},40\n", 1_773_489_600_000_u64 + 500 * k)).collect();
    let unix = import(format!("timestamp,PV,OP\n{text}"));
    assert_eq!(unix.start.as_deref(), Some("2026-03-14T12:00:00.000Z"));
    assert_eq!(unix.record.axis, TimeAxis::Uniform { interval: 0.5, len: 5 });
}

#[test]
fn statistics_at_the_foot_are_left_out_and_told() {
    let found = import("Time,PV,OP\n0,1,2\n1,2,3\n2,3,4\nMean,2,3\nMaximum,3,4\n");
    assert_eq!(found.record.axis.len(), 3);
    assert!(found.notes.iter().any(|note| note.contains("2 lines at the foot") && note.contains("Mean")), "{found:?}");
    // A row that is no time in the middle is an error, not a foot.
    let refused = refusal("Time,PV,OP\n0,1,2\n1,2,3\noops,3,4\n3,4,5\n");
    assert!(refused.starts_with("line 4: “oops” is not a time"), "{refused}");
}

#[test]
fn a_clock_set_back_for_winter_goes_on() {
    let minutes = |hour: u32| (0..60).step_by(10).map(move |minute| format!("25.10.2026 {hour:02}:{minute:02}:00"));
    let stamps: Vec<String> = minutes(1).chain(minutes(2)).chain(minutes(2)).chain(minutes(3)).collect();
    let rows: String = stamps.iter().enumerate().map(|(k, stamp)| format!("{stamp};{k};40\n")).collect();
    let found = import(format!("Zeit;PV;OP\n{rows}"));
    assert_eq!(found.record.axis, TimeAxis::Uniform { interval: 600.0, len: 24 });
    assert!(found.notes.iter().any(|note| note.contains("set back by an hour")), "{:?}", found.notes);
    // Anything else that runs backwards is still refused.
    let refused = refusal("Zeit;PV;OP\n25.10.2026 02:00:00;1;2\n25.10.2026 02:00:10;1;2\n25.10.2026 01:30:00;1;2\n");
    assert!(refused.contains("runs backwards"), "{refused}");
}

#[test]
fn a_chosen_order_of_day_and_month_is_kept() {
    let made = file("Time;PV;OP\n03.04.2026 00:00:00;1;2\n03.04.2026 00:00:10;2;3\n");
    let with = |date_order| {
        let time = TimeSource::Column { column: "Time".into(), date_order, unit: None };
        taken(made.path(), &Mapping { time, ..looked_at(made.path()).guess })
    };
    let start = |order| with(order).unwrap().start.unwrap();
    assert!(start(None).starts_with("2026-04-03"));
    assert!(start(Some(DateOrder::MonthDayYear)).starts_with("2026-03-04"));
    let refused = with(Some(DateOrder::YearMonthDay)).unwrap_err().to_string();
    assert!(refused.contains("dates are to be year, month, day"), "{refused}");
}

const LONG: &str = "Tag,Timestamp,Value,Quality\n\
    V.OP,2026-03-14T05:00:00Z,40,Good\nT.PV,2026-03-14T05:00:00Z,10,Good\nT.PV,2026-03-14T05:00:10Z,11,Good\n\
    T.PV,2026-03-14T05:00:20Z,999,Bad\nV.OP,2026-03-14T05:00:25Z,50,Good\nT.PV,2026-03-14T05:00:30Z,13,Good\n\
    F.FLOW,2026-03-14T05:00:05Z,1,Good\nF.FLOW,2026-03-14T05:00:15Z,2,Good\nF.FLOW,2026-03-14T05:00:25Z,3,Good\n\
    T.PV,2026-03-14T05:00:40Z,14,Good\n";

#[test]
fn a_row_a_value_with_times_of_its_own() {
    let made = file(LONG);
    let found = looked_at(made.path());
    assert_eq!(found.reading.form, Some(TableForm::Long));
    let names: Vec<&str> = found.columns.iter().map(|column| column.name.as_str()).collect();
    assert_eq!(names, ["Timestamp", "V.OP", "T.PV", "F.FLOW"]);
    let import = taken(made.path(), &found.guess).unwrap();
    // The times of the PV, and that at which the OP moved between them.
    let times: Vec<f64> = (0..import.record.axis.len()).map(|k| import.record.axis.at(k)).collect();
    assert_eq!(times, [0.0, 10.0, 20.0, 25.0, 30.0, 40.0]);
    let pv = values(&import, Role::Pv);
    assert!(pv[2].is_nan() && pv[3].is_nan() && pv[4] == 13.0, "{pv:?}");
    assert_eq!(values(&import, Role::Op), [40.0, 40.0, 40.0, 50.0, 50.0, 50.0]);
    // A flow with times of its own lies straight between them.
    let flow = &import.record.channels[2].values;
    assert!((flow[1] - 1.5).abs() < 1e-12 && (flow[2] - 2.5).abs() < 1e-12 && flow[0].is_nan(), "{flow:?}");
    assert!(import.notes.iter().any(|note| note.contains("quality “Bad”")), "{:?}", import.notes);
}

#[test]
fn what_a_gap_means_is_chosen() {
    let made = file(LONG);
    let with = |gaps| taken(made.path(), &Mapping { gaps, ..looked_at(made.path()).guess }).unwrap();
    let missing = with(Some(GapMeaning::Missing));
    assert!(values(&missing, Role::Op)[1].is_nan() && values(&missing, Role::Op)[3] == 50.0);
    let held = with(Some(GapMeaning::Hold));
    assert_eq!(held.record.channels[2].values[1], 1.0);
    // The same for empty cells of a wide table: an OP that is written at its changes only holds its value by itself.
    let wide = "t,PV,OP\n0,1,40\n1,2,\n2,3,\n3,4,\n4,5,50\n5,6,\n";
    assert_eq!(values(&import(wide), Role::Op), [40.0, 40.0, 40.0, 40.0, 50.0, 50.0]);
    let made = file(wide);
    let mapping = Mapping { gaps: Some(GapMeaning::Between), ..looked_at(made.path()).guess };
    let between = taken(made.path(), &mapping).unwrap();
    assert_eq!(values(&between, Role::Op)[..5], [40.0, 42.5, 45.0, 47.5, 50.0]);
}

#[test]
fn a_table_can_be_called_wide_or_long() {
    let made = file(LONG);
    let wide = preview(made.path(), &Reading { form: Some(TableForm::Wide), ..Reading::default() }).unwrap();
    assert_eq!(wide.columns.len(), 4);
    // A wide table with a column of words is none of tags.
    let mode = file("Time,PV,OP,Mode\n0,1,2,AUTO\n1,2,3,AUTO\n2,3,4,MAN\n");
    assert_eq!(looked_at(mode.path()).reading.form, Some(TableForm::Wide));
    let refused =
        preview(file("t,PV,OP\n0,1,2\n1,2,3\n").path(), &Reading { form: Some(TableForm::Long), ..Reading::default() });
    assert!(refused.unwrap_err().to_string().contains("no column of tags"));
}

#[test]
fn the_sheet_with_numbers_is_taken_and_another_can_be() {
    let mut book = rust_xlsxwriter::Workbook::new();
    let cover = book.add_worksheet();
    cover.set_name("Cover").unwrap();
    for (row, text) in (0..).zip(["Report", "Works", "Date", "Remarks"]) {
        cover.write(row, 0, text).unwrap();
        cover.write(row, 1, "text").unwrap();
    }
    for (name, from) in [("Trend", 0.0), ("Short", 100.0)] {
        let sheet = book.add_worksheet();
        sheet.set_name(name).unwrap();
        for (column, header) in (0..).zip(["t", "PV", "OP"]) {
            sheet.write(3, column, header).unwrap();
        }
        let rows = if name == "Trend" { 20 } else { 5 };
        for k in 0..rows {
            for column in 0..3 {
                sheet.write(4 + k, column, from + f64::from(k)).unwrap();
            }
        }
    }
    let made = file(book.save_to_buffer().unwrap());
    let found = looked_at(made.path());
    assert_eq!(found.reading.sheet.as_deref(), Some("Trend"));
    assert_eq!(found.reading.sheets, ["Cover", "Trend", "Short"]);
    assert_eq!(found.reading.header_row, Some(4));
    assert_eq!(taken(made.path(), &found.guess).unwrap().record.axis.len(), 20);
    let short = Reading { sheet: Some("Short".into()), ..Reading::default() };
    let import = taken(made.path(), &preview(made.path(), &short).unwrap().guess).unwrap();
    assert_eq!(values(&import, Role::Pv)[0], 100.0);
    let refused = preview(made.path(), &Reading { sheet: Some("None".into()), ..Reading::default() }).unwrap_err();
    assert!(refused.to_string().contains("Cover, Trend, Short"), "{refused}");
}

#[test]
fn a_mapping_that_cannot_be_meant_is_refused() {
    let made = file("t,PV,OP\n0,1,2\n1,2,3\n");
    let guess = looked_at(made.path()).guess;
    let refused = |change: &dyn Fn(&mut Mapping)| {
        let mut mapping = guess.clone();
        change(&mut mapping);
        taken(made.path(), &mapping).unwrap_err().to_string()
    };
    assert!(refused(&|mapping| mapping.channels.clear()).contains("no column is chosen"));
    assert!(refused(&|mapping| mapping.channels[1].column = "PV".into()).contains("taken twice"));
    assert!(refused(&|mapping| mapping.channels[1].tag = "PV".into()).contains("two channels are called PV"));
    assert!(refused(&|mapping| mapping.channels[0].column = "t".into()).contains("both a time and a channel"));
    let ms = Mapping {
        time: TimeSource::Column { column: "t".into(), date_order: None, unit: Some(TimeUnit::Milliseconds) },
        ..guess.clone()
    };
    assert_eq!(taken(made.path(), &ms).unwrap().record.axis, TimeAxis::Uniform { interval: 1e-3, len: 2 });
}

#[test]
fn an_archive_is_the_same_to_the_bit() {
    use antistasis_exchange::archive::{Entries, columns, pack, samples, unpack};
    let made = import("t,PV,OP\n0,1.1,2\n1,,3\n2.5,-0,4\n");
    let bytes = samples(&made.record).unwrap();
    let back = columns(bytes.clone()).unwrap();
    assert_eq!(back.len(), 3, "uneven times stand in a column of their own");
    assert_eq!(back[0], [0.0, 1.0, 2.5]);
    assert!(back[1][1].is_nan() && back[1][2].to_bits() == (-0.0_f64).to_bits());
    let mut entries = Entries::new();
    entries.insert("a/b.parquet".into(), bytes);
    entries.insert("a.json".into(), b"{}".to_vec());
    let packed = pack(&entries).unwrap();
    assert_eq!(packed, pack(&entries).unwrap());
    assert_eq!(unpack(file(&packed).path()).unwrap(), entries);
    assert!(unpack(file("no archive").path()).unwrap_err().to_string().contains("ZIP"));
}
