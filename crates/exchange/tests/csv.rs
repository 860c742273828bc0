//! Files as exports write them, and files that cannot be taken.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

use antistasis_core::controller::{ControllerSpec, PidSettings};
use antistasis_core::process::LinearSpec;
use antistasis_core::series::{Role, TimeAxis};
use antistasis_core::simulation::{Candidate, OperatingPoint, Plant, Scenario, Signal, TRIAL_VERSION, Trial};
use antistasis_core::units::Span;
use antistasis_exchange::csv_file::write_record;
use antistasis_exchange::{ChannelMapping, DateOrder, Error, Import, Mapping, Reading, TimeSource, TimeUnit, preview};
use std::io::Write;
use tempfile::NamedTempFile;

fn read(path: &std::path::Path, mapping: &Mapping) -> Result<Import, Error> {
    antistasis_exchange::read(path, mapping, &mut |_| true)
}

fn file(content: impl AsRef<[u8]>) -> NamedTempFile {
    let mut file = NamedTempFile::new().unwrap();
    file.write_all(content.as_ref()).unwrap();
    file
}

/// Imports with the guessed mapping.
fn import(content: impl AsRef<[u8]>) -> Import {
    let file = file(content);
    let guess = preview(file.path(), &Reading::default()).unwrap().guess;
    read(file.path(), &guess).unwrap()
}

fn refusal(content: impl AsRef<[u8]>) -> String {
    let file = file(content);
    let mapping = match preview(file.path(), &Reading::default()) {
        Ok(preview) => preview.guess,
        Err(error) => return error.to_string(),
    };
    read(file.path(), &mapping).unwrap_err().to_string()
}

fn values(import: &Import, role: Role) -> &[f64] {
    &import.record.channel(role).unwrap().values
}

#[test]
fn byte_order_mark_semicolons_decimal_commas_quoted_headers() {
    let text = "\u{feff}\"Zeit\";\"TIC-204.PV [°C]\";\"TIC-204.OP [%]\"\r\n\
                01.02.2026 10:00:00;76,25;42,0\r\n01.02.2026 10:00:01;76,5;42,0\r\n01.02.2026 10:00:02;1.077,75;43\r\n";
    let import = import(text);
    assert_eq!(values(&import, Role::Pv), [76.25, 76.5, 1077.75]);
    assert_eq!(values(&import, Role::Op), [42.0, 42.0, 43.0]);
    assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 1.0, len: 3 });
    assert_eq!(import.record.channel(Role::Pv).unwrap().unit, "°C");
    assert_eq!(import.start.as_deref(), Some("2026-02-01T10:00:00.000"));
}

#[test]
fn encodings() {
    let text = "t;PV [°C];OP [%]\n0;20,5;1\n1;21,5;2\n";
    let latin: Vec<u8> = text.chars().map(|c| u8::try_from(u32::from(c)).unwrap()).collect();
    let wide: Vec<u8> = std::iter::once(0xfeff).chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect();
    let unmarked: Vec<u8> = text.encode_utf16().flat_map(u16::to_be_bytes).collect();
    for bytes in [text.as_bytes().to_vec(), latin, wide, unmarked] {
        let import = import(bytes);
        assert_eq!(import.record.channel(Role::Pv).unwrap().unit, "°C");
        assert_eq!(values(&import, Role::Pv), [20.5, 21.5]);
    }
}

#[test]
fn time_stamps_of_many_forms() {
    for (first, second) in [
        ("2026-03-04T05:06:07Z", "2026-03-04T05:06:09Z"),
        ("2026-03-04T05:06:07.000+02:00", "2026-03-04T05:06:09.000+02:00"),
        ("2026/03/04 05:06:07", "2026/03/04 05:06:09"),
        ("04.03.2026 05:06:07", "04.03.2026 05:06:09"),
        ("3/4/2026 11:59:59 AM", "3/4/2026 12:00:01 PM"),
        ("04-Mar-26 05:06:07", "04-Mar-26 05:06:09"),
        ("05:06:07", "05:06:09"),
        ("23:59:59", "00:00:01"),
        ("31/12/2026 23:59:59", "01/01/2027 00:00:01"),
        ("100", "102"),
    ] {
        let import = import(format!("time,PV,OP\n{first},1,2\n{second},2,3\n"));
        assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 2.0, len: 2 }, "{first}");
    }
}

#[test]
fn day_and_month_may_be_chosen_and_the_guess_is_said() {
    let content = "time,PV,OP\n03/04/2026 00:00,1,2\n03/05/2026 00:00,2,3\n03/06/2026 00:00,2,4\n";
    let guessed = import(content);
    assert_eq!(guessed.record.axis.duration(), 2.0 * 86_400.0, "month first makes the shorter record");
    assert!(guessed.notes[0].contains("month/day"), "{:?}", guessed.notes);
    let file = file(content);
    let mut mapping = preview(file.path(), &Reading::default()).unwrap().guess;
    mapping.time = TimeSource::Column { column: "time".into(), date_order: Some(DateOrder::DayMonthYear), unit: None };
    assert_eq!(read(file.path(), &mapping).unwrap().record.axis.duration(), 61.0 * 86_400.0);
}

#[test]
fn numbers_as_time_carry_their_unit() {
    let import = import("t [min],PV,OP\n0,1,2\n0.5,2,3\n1,2,3\n");
    assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 30.0, len: 3 });
    let file = file("t,PV,OP\n0,1,2\n500,2,3\n");
    let mut mapping = preview(file.path(), &Reading::default()).unwrap().guess;
    mapping.time = TimeSource::Column { column: "t".into(), date_order: None, unit: Some(TimeUnit::Milliseconds) };
    assert_eq!(read(file.path(), &mapping).unwrap().record.axis.duration(), 0.5);
}

#[test]
fn fixed_sample_time_without_header() {
    let file = file("1.5\t20\n1.6\t20\n1.7\t25\n");
    let found = preview(file.path(), &Reading::default()).unwrap();
    assert_eq!(found.columns[1].name, "column 2");
    assert_eq!(found.guess.time, TimeSource::Interval { seconds: 1.0 });
    let mapping = Mapping { time: TimeSource::Interval { seconds: 0.5 }, ..found.guess };
    let import = read(file.path(), &mapping).unwrap();
    assert_eq!(import.record.axis, TimeAxis::Uniform { interval: 0.5, len: 3 });
    assert_eq!(values(&import, Role::Pv), [1.5, 1.6, 1.7]);
}

#[test]
fn empty_cells_and_text_are_missing_and_counted() {
    let import = import("t,PV,OP\n0,1,2\n1,Bad,2\n2,,3\n3,Bad,3\n4,5,3\n,9,9\n4,6,3\n");
    assert_eq!(values(&import, Role::Pv)[0], 1.0);
    assert!(values(&import, Role::Pv)[1..4].iter().all(|value| value.is_nan()));
    assert_eq!(values(&import, Role::Pv)[4], 6.0, "the last of two rows with one time");
    let notes = import.notes.join("\n");
    assert!(notes.contains("1 empty cells and 2 cells with text (“Bad” 2 times)"), "{notes}");
    assert!(notes.contains("1 rows without a time") && notes.contains("1 rows repeat the time"), "{notes}");
}

#[test]
fn what_cannot_be_taken_says_where_and_why() {
    assert!(refusal("").contains("it is empty"));
    assert!(refusal("t,PV,OP\n").contains("no row of data"));
    assert!(refusal("t,PV,OP\n0,1,2\n").contains("only one row of data"));
    assert_eq!(
        refusal("t,PV,OP\n0,1,2\n2,1,2\n1.5,1,2\n"),
        "line 4: time runs backwards, to “1.5” by 0.5 s; sort the rows by time, or choose another time column"
    );
    assert!(
        refusal("t,PV,OP\n0,1,2\nlater,1,2\n5,1,2\n")
            .starts_with("line 3: “later” is not a time; times are written as seconds")
    );
    assert!(refusal([0x51, 0x4b, 3, 4, 0, 0, 0, 1, 0, 7]).contains("not text"));
    let file = file("t,PV,OP\n0,1,Bad\n1,2,Bad\n");
    let channel =
        |column: &str| ChannelMapping { column: column.into(), role: Role::Op, tag: column.into(), unit: "%".into() };
    let time = TimeSource::Interval { seconds: 1.0 };
    let attempt = |channels, time: &TimeSource| {
        read(file.path(), &Mapping { reading: Reading::default(), gaps: None, time: time.clone(), channels })
            .unwrap_err()
            .to_string()
    };
    assert!(attempt(vec![channel("OP")], &time).starts_with("column “OP”: no numbers, but “Bad” 2 times"));
    assert_eq!(attempt(vec![channel("XV")], &time), "mapping: the file has no column “XV”; its columns are t, PV, OP");
    assert!(attempt(vec![], &time).contains("no column is chosen"));
    assert!(attempt(vec![channel("PV")], &TimeSource::Interval { seconds: 0.0 }).contains("sample time is 0 s"));
}

#[test]
fn a_written_trace_reads_back_to_the_bit() {
    let signal = |tag: &str, high, unit: &str| Signal { tag: tag.into(), span: Span::new(0.0, high, unit) };
    let trial = Trial {
        version: TRIAL_VERSION,
        plant: Plant {
            sensor: antistasis_core::instrument::SensorSpec::with_noise(0.1),
            ..Plant::plain(
                LinearSpec::Fopdt { gain: 1.2, time_constant: 33.3, dead_time: 7.7 },
                signal("TIC-1.PV", 150.0, "°C"),
                signal("TIC-1.OP", 100.0, "%"),
                OperatingPoint::new(61.7, 40.3),
            )
        },
        candidate: Candidate::new(ControllerSpec::Pid(PidSettings::pi(1.1, 30.0))),
        scenario: Scenario { duration: 100.0, scan: 0.5, seed: 7, events: vec![], further: Default::default() },
    };
    let trace = trial.run().unwrap();
    let mut text = Vec::new();
    write_record(&trace.as_table().unwrap(), 0.0, b',', &mut text).unwrap();
    assert!(text.starts_with(
        b"time [s],TIC-1.SP [\xc2\xb0C],TIC-1.PV [\xc2\xb0C],TIC-1.OP [%],load [%],true value [\xc2\xb0C]\n"
    ));
    let back = import(text);
    for (role, column) in [(Role::Sp, 0), (Role::Pv, 1), (Role::Op, 2)] {
        assert_eq!(values(&back, role), trace.columns[column].values);
    }
    assert_eq!(back.record.axis, TimeAxis::Uniform { interval: 0.5, len: 201 });
}

/// A generator of its own, so that the same bytes come every time.
fn noise(seed: u64) -> impl FnMut() -> u64 {
    let mut state = seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    }
}

#[test]
fn no_file_makes_it_panic() {
    let good = "time;TIC-1.PV [°C];OP\n01.02.2026 10:00:00;76,25;42\n01.02.2026 10:00:01;Bad;42\n;;\n\"x\";\"1\n";
    let pieces: [&[u8]; 12] = [
        b";",
        b",",
        b"\n",
        b"\"",
        b"1",
        b"-",
        b"e9",
        b"2026-01-01T",
        b"\xff\xfe",
        b"\xef\xbb\xbf",
        b"\0",
        "−°é".as_bytes(),
    ];
    let (mut taken, mut refused) = (0, 0);
    for seed in 0..400 {
        let mut random = noise(seed);
        let mut bytes = good.as_bytes().to_vec();
        for _ in 0..random() % 12 {
            let at = (random() % (bytes.len() as u64 + 1)) as usize;
            match random() % 3 {
                0 => bytes.truncate(at),
                1 => drop(bytes.splice(at..at, pieces[(random() % 12) as usize].iter().copied())),
                _ => bytes.extend_from_within(at..),
            }
        }
        let file = file(&bytes);
        match preview(file.path(), &Reading::default()).and_then(|preview| read(file.path(), &preview.guess)) {
            Ok(import) => {
                taken += 1;
                assert!(import.record.axis.len() >= 2);
            }
            Err(error) => {
                refused += 1;
                assert!(error.to_string().len() > 10);
            }
        }
    }
    assert!(taken > 10 && refused > 10, "{taken} taken, {refused} refused");
}
