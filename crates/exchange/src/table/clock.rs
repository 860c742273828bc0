//! The times of rows: numbers, stamps, date and time apart, one row every so often.

use super::time::{DateOrder, RawTime, TimeUnit};
use super::{Layout, TimeSource};
use crate::{Error, Result};
use antistasis_core::series::TimeAxis;
use chrono::{Duration, NaiveDate, NaiveTime};
use csv::ByteRecord;
use std::ops::RangeInclusive;

const SECONDS_A_DAY: f64 = 86_400.0;
/// By how much clocks are set back for winter.
const SUMMER_TIME: f64 = 3600.0;
/// Rows without a time that may stand at the end of a file: statistics, remarks.
const MOST_FOOTER_ROWS: usize = 60;
/// What days since 1899 look like: 1954 to 2119.
const SERIAL_DAYS: RangeInclusive<f64> = 20_000.0..=80_000.0;
/// What seconds and milliseconds since 1970 look like: 1990 to 2100.
const UNIX_SECONDS: RangeInclusive<f64> = 6.3e8..=4.1e9;
const UNIX_MILLISECONDS: RangeInclusive<f64> = 6.3e11..=4.1e12;

/// What a row's time is to the row before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Tick {
    Later,
    Same,
    /// The row has no time.
    Missing,
}

/// Reads the times of rows.
pub(super) struct Clock<'a> {
    layout: &'a Layout,
    source: Source,
    /// The first row of those at the end that hold no time, and how many there are.
    footer: Option<(Error, usize, String)>,
}

enum Source {
    Interval(f64),
    Numbers { position: usize, unit: TimeUnit },
    Stamps(Stamps),
}

/// Time stamps, in seconds since midnight of the first day.
struct Stamps {
    position: usize,
    /// The column of the time of day, where the date stands in one of its own.
    time_of_day: Option<usize>,
    order: DateOrder,
    is_chosen: bool,
    guessed: Option<String>,
    first_day: Option<i32>,
    utc: bool,
}

/// The times of one series as they come.
#[derive(Debug, Default)]
pub(super) struct Run {
    /// Seconds; rising.
    pub times: Vec<f64>,
    /// Whole days added because a time of day started again from 0.
    midnights: f64,
    /// Seconds added because the clock was set back.
    set_back: f64,
    /// Where that was, to be told.
    noticed: Option<String>,
}

/// The unit that a column of plain numbers probably has, by how large they are.
pub(super) fn usual_unit(numbers: &[f64]) -> Option<TimeUnit> {
    let all_in = |range: &RangeInclusive<f64>| !numbers.is_empty() && numbers.iter().all(|value| range.contains(value));
    if all_in(&UNIX_MILLISECONDS) {
        Some(TimeUnit::UnixMilliseconds)
    } else if all_in(&UNIX_SECONDS) {
        Some(TimeUnit::Unix)
    } else if all_in(&SERIAL_DAYS) && numbers.iter().any(|value| value.fract() != 0.0) {
        Some(TimeUnit::SerialDays)
    } else {
        None
    }
}

impl<'a> Clock<'a> {
    pub fn new(layout: &'a Layout, source: &TimeSource) -> Result<Self> {
        let cells = |position: usize| -> Vec<&'a str> {
            let cells = layout.sample.iter().filter_map(|row| row.get(position)).map(String::as_str);
            cells.filter(|cell| !cell.is_empty()).collect()
        };
        let stamps = |position: usize, time_of_day: Option<usize>, chosen: &Option<DateOrder>| {
            let (order, guessed) = match chosen {
                Some(order) => (*order, None),
                None => order_of(&cells(position)),
            };
            let is_chosen = chosen.is_some();
            Source::Stamps(Stamps { position, time_of_day, order, is_chosen, guessed, first_day: None, utc: false })
        };
        let source = match source {
            TimeSource::Interval { seconds } => {
                antistasis_core::check::positive("sample time", *seconds, "s")?;
                Source::Interval(*seconds)
            }
            TimeSource::DateAndTime { date, time, date_order } => {
                stamps(layout.position(date)?, Some(layout.position(time)?), date_order)
            }
            TimeSource::Column { column, date_order, unit } => {
                let position = layout.position(column)?;
                let texts = cells(position);
                let numbers: Vec<f64> = texts.iter().filter_map(|cell| layout.number(cell.as_bytes())).collect();
                if 2 * numbers.len() > texts.len() {
                    let unit = unit.or_else(|| TimeUnit::parse(&layout.units[position]));
                    let unit = unit.or_else(|| usual_unit(&numbers)).unwrap_or(TimeUnit::Seconds);
                    Source::Numbers { position, unit }
                } else {
                    stamps(position, None, date_order)
                }
            }
        };
        Ok(Self { layout, source, footer: None })
    }

    /// Takes the time of the next row of a series.
    ///
    /// Rows without a time at the end of a file are passed over; where times go on after them, the first of them is an
    /// error. So is a time that runs backwards, but where the clock was set back for winter.
    pub fn take(&mut self, row: &ByteRecord, line: u64, run: &mut Run) -> Result<Tick> {
        let position = match &self.source {
            Source::Interval(_) => return Ok(Tick::Later),
            Source::Numbers { position, .. } => *position,
            Source::Stamps(stamps) => stamps.position,
        };
        let cell = row.get(position).unwrap_or_default();
        if cell.is_empty() {
            return Ok(Tick::Missing);
        }
        let shown = || String::from_utf8_lossy(cell).into_owned();
        let last = run.times.last().copied();
        let time = match &mut self.source {
            Source::Interval(_) => None,
            Source::Numbers { unit, .. } => self.layout.number(cell).map(|value| seconds_of(value, *unit)),
            Source::Stamps(stamps) => stamps.seconds(cell, row, run),
        };
        let Some(time) = time else {
            let error = || {
                let allowed = "seconds, ISO 8601 (2026-12-31T23:59:59), 31.12.2026 23:59:59, 12/31/2026 11:59:59 PM, \
                               31-Dec-26 23:59:59";
                let order = match &self.source {
                    Source::Stamps(stamps) if stamps.is_chosen => {
                        format!("; dates are to be {}", stamps.order.in_words())
                    }
                    _ => String::new(),
                };
                let problem = format!("“{}” is not a time", shown());
                Error::content(format!("line {line}"), problem, format!("times are written as {allowed}{order}"))
            };
            if last.is_none() {
                return Err(error());
            }
            let text: String = shown().chars().take(24).collect();
            let (first, rows, _) = self.footer.get_or_insert_with(|| (error(), 0, text));
            *rows += 1;
            return if *rows > MOST_FOOTER_ROWS { Err(first.copy()) } else { Ok(Tick::Missing) };
        };
        if let Some((error, ..)) = &self.footer {
            return Err(error.copy());
        }
        let mut time = time + run.set_back;
        let is_local = matches!(&self.source, Source::Stamps(stamps) if !stamps.utc && stamps.first_day.is_some());
        if let Some(last) = last.filter(|last| time < *last && is_local)
            && (0.0..=run.longest_gap()).contains(&(time + SUMMER_TIME - last))
        {
            time += SUMMER_TIME;
            run.set_back += SUMMER_TIME;
            run.noticed = Some(format!(
                "At line {line}, “{}”, the clock is set back by an hour, as for winter: times go on without a break.",
                shown()
            ));
        }
        match last {
            Some(last) if time < last => Err(Error::content(
                format!("line {line}"),
                format!("time runs backwards, to “{}” by {} s", shown(), last - time),
                "sort the rows by time, or choose another time column",
            )),
            Some(last) if time == last => Ok(Tick::Same),
            _ => {
                run.times.push(time);
                Ok(Tick::Later)
            }
        }
    }

    /// Rows at the foot of the file that were passed over.
    pub fn footer_rows(&self) -> usize {
        self.footer.as_ref().map_or(0, |(_, rows, _)| *rows)
    }

    /// What was decided or left out, a sentence each.
    pub fn notes(&self, runs: &[&Run]) -> Vec<String> {
        let mut notes = Vec::new();
        match &self.source {
            Source::Stamps(stamps) => notes.extend(stamps.guessed.clone()),
            Source::Numbers { unit: TimeUnit::SerialDays, .. } => {
                notes.push("Times are read as days since the end of 1899, as spreadsheets count them.".into());
            }
            Source::Numbers { unit: TimeUnit::Unix | TimeUnit::UnixMilliseconds, .. } => {
                notes.push("Times are read as counted since 1970 in UTC.".into());
            }
            _ => {}
        }
        notes.extend(runs.iter().find_map(|run| run.noticed.clone()));
        if let Some((_, rows, text)) = &self.footer {
            let (are, lines) = if *rows == 1 { ("is", "line") } else { ("are", "lines") };
            notes.push(format!("{rows} {lines} at the foot of the file (“{text}” …) {are} left out."));
        }
        notes
    }

    /// The axis of rows at these times, and the time of the first one.
    pub fn finish(&self, times: &[f64], rows: usize) -> Result<(TimeAxis, Option<String>)> {
        let (day, utc) = match &self.source {
            Source::Interval(seconds) => return Ok((TimeAxis::uniform(*seconds, rows)?, None)),
            Source::Numbers { unit, .. } => unit.epoch().unzip(),
            Source::Stamps(stamps) => {
                (stamps.first_day.and_then(NaiveDate::from_num_days_from_ce_opt), Some(stamps.utc))
            }
        };
        let start = day.zip(times.first()).and_then(|(day, first)| {
            let milliseconds = (first * 1000.0).round() as i64;
            let at = day.and_time(NaiveTime::MIN).checked_add_signed(Duration::milliseconds(milliseconds))?;
            Some(format!("{}{}", at.format("%Y-%m-%dT%H:%M:%S%.3f"), if utc == Some(true) { "Z" } else { "" }))
        });
        Ok((TimeAxis::from_times(times)?, start))
    }
}

/// Numbers since an epoch are large: they are kept to the millisecond that they can carry.
fn seconds_of(value: f64, unit: TimeUnit) -> f64 {
    let seconds = value * unit.seconds();
    if unit.epoch().is_some() { (seconds * 1000.0).round() / 1000.0 } else { seconds }
}

impl Run {
    /// The longest step that still counts as going on.
    fn longest_gap(&self) -> f64 {
        let steps = self.times.len().saturating_sub(1).max(1) as f64;
        let usual = (self.times.last().unwrap_or(&0.0) - self.times.first().unwrap_or(&0.0)) / steps;
        (10.0 * usual).min(0.5 * SUMMER_TIME)
    }
}

impl Stamps {
    fn seconds(&mut self, cell: &[u8], row: &ByteRecord, run: &mut Run) -> Option<f64> {
        let mut raw = RawTime::scan(std::str::from_utf8(cell).ok()?)?;
        if let Some(position) = self.time_of_day {
            let clock = RawTime::scan(std::str::from_utf8(row.get(position)?).ok()?)?;
            if clock.date.is_some() {
                return None;
            }
            raw.second_of_day = clock.second_of_day;
            raw.offset = clock.offset.or(raw.offset);
        }
        let of_day = raw.second_of_day - f64::from(raw.offset.unwrap_or(0));
        self.utc |= raw.offset.is_some();
        let Some(date) = raw.date else {
            // A time of day alone: past midnight it starts again from 0.
            let mut time = of_day + run.midnights;
            if run.times.last().is_some_and(|last| time < last - 0.5 * SECONDS_A_DAY) {
                run.midnights += SECONDS_A_DAY;
                time += SECONDS_A_DAY;
            }
            return Some(time);
        };
        let day = if self.is_chosen { date.day_number_as_chosen(self.order) } else { date.day_number(self.order) }?;
        let first = *self.first_day.get_or_insert(day);
        Some(f64::from(day - first) * SECONDS_A_DAY + of_day)
    }
}

/// The order of day and month: that in which every stamp of the sample is a date; where both are, the one in which the
/// sample spans less time, and a note that says so.
fn order_of(cells: &[&str]) -> (DateOrder, Option<String>) {
    let dates: Vec<_> = cells.iter().filter_map(|cell| RawTime::scan(cell)?.date).collect();
    let span = |order: DateOrder| -> Option<i32> {
        let days: Option<Vec<i32>> = dates.iter().map(|date| date.day_number(order)).collect();
        let days = days?;
        Some(days.iter().max()? - days.iter().min()?)
    };
    let (day_first, month_first) = (span(DateOrder::DayMonthYear), span(DateOrder::MonthDayYear));
    match (day_first, month_first) {
        (Some(day), Some(month)) => {
            let same = dates
                .iter()
                .all(|date| date.day_number(DateOrder::DayMonthYear) == date.day_number(DateOrder::MonthDayYear));
            let order = if month < day { DateOrder::MonthDayYear } else { DateOrder::DayMonthYear };
            let words = if month < day { "month/day" } else { "day/month" };
            let example = cells.first().copied().unwrap_or_default();
            let note =
                format!("Dates such as “{example}” are read as {words}; choose the other order if that is wrong.");
            (order, (!same).then_some(note))
        }
        (None, Some(_)) => (DateOrder::MonthDayYear, None),
        _ => (DateOrder::DayMonthYear, None),
    }
}
