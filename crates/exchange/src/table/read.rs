//! A whole file into a record.

use super::time::{DateOrder, RawTime, TimeUnit};
use super::{Layout, Mapping, Rows, TimeSource};
use crate::{Error, Result};
use antistasis_core::series::{Channel, Record, TimeAxis};
use chrono::NaiveDate;
use csv::ByteRecord;
use std::collections::BTreeMap;

/// Most values taken from one file: 480 MB of memory.
const MOST_VALUES: usize = 60_000_000;
const SECONDS_A_DAY: f64 = 86_400.0;

/// A record and what was noticed while reading it.
#[derive(Debug, Clone, PartialEq)]
pub struct Import {
    /// The record.
    pub record: Record,
    /// Time of the first sample where the file tells it: ISO 8601, in UTC with `Z`, else as the file's local time.
    pub start: Option<String>,
    /// What was left out or decided, a sentence each.
    pub notes: Vec<String>,
}

/// Rows between two looks at the progress.
const ROWS_A_LOOK: u64 = 8192;

/// Reads the columns that `mapping` names. `go_on` is told the share that was read and answers whether to go on.
///
/// Cells that hold no number are missing samples; rows without a time are left out; of rows with the same time the
/// last one is kept. Each of these is noted. Errors when a column is not in the file, holds no numbers, when a time
/// cannot be read or runs backwards, when fewer than two rows remain, and when it was not to go on.
pub(crate) fn read_rows(
    layout: &Layout,
    rows: &mut dyn Rows,
    mapping: &Mapping,
    go_on: &mut dyn FnMut(f64) -> bool,
) -> Result<Import> {
    if mapping.channels.is_empty() {
        return Err(Error::content("mapping", "no column is chosen", "choose at least one"));
    }
    let positions: Vec<usize> =
        mapping.channels.iter().map(|channel| layout.position(&channel.column)).collect::<Result<_>>()?;
    let mut clock = Clock::new(layout, &mapping.time)?;
    let mut columns: Vec<Column> = mapping.channels.iter().map(|channel| Column::new(&channel.column)).collect();
    let mut row = ByteRecord::new();
    let (mut repeated, mut without_time, mut count) = (0_usize, 0_usize, 0_u64);
    while rows.next(&mut row)? {
        count += 1;
        if count.is_multiple_of(ROWS_A_LOOK) && !go_on(rows.progress()) {
            return Err(Error::Cancelled);
        }
        if row.iter().all(<[u8]>::is_empty) {
            continue;
        }
        let line = row.position().map_or(count + 1, csv::Position::line);
        match clock.take(&row, line)? {
            Tick::Later => {
                for (column, position) in columns.iter_mut().zip(&positions) {
                    column.push(row.get(*position).unwrap_or_default(), layout);
                }
            }
            Tick::Same => {
                repeated += 1;
                for (column, position) in columns.iter_mut().zip(&positions) {
                    column.replace_last(row.get(*position).unwrap_or_default(), layout);
                }
            }
            Tick::Missing => without_time += 1,
        }
        if columns[0].values.len().saturating_mul(columns.len() + 1) > MOST_VALUES {
            return Err(Error::content(
                format!("line {line}"),
                format!("more than {MOST_VALUES} values"),
                "choose fewer columns, or split the file",
            ));
        }
    }
    let rows = columns[0].values.len();
    if rows < 2 {
        let found = if rows == 1 { "only one row of data" } else { "no row of data" };
        return Err(Error::content("the file", found, "a record needs at least two"));
    }
    let mut notes = clock.notes();
    if without_time > 0 {
        notes.push(format!("{without_time} rows without a time are left out."));
    }
    if repeated > 0 {
        notes.push(format!("{repeated} rows repeat the time of the row before; the last of each is kept."));
    }
    for column in &columns {
        notes.extend(column.check(rows)?);
    }
    let (axis, start) = clock.finish(rows)?;
    let channels = mapping
        .channels
        .iter()
        .zip(columns)
        .map(|(channel, column)| Channel {
            tag: channel.tag.clone(),
            role: channel.role,
            unit: channel.unit.clone(),
            values: column.values,
        })
        .collect();
    Ok(Import { record: Record::new(axis, channels)?, start, notes })
}

/// A column being read.
struct Column {
    name: String,
    values: Vec<f64>,
    empty: usize,
    /// How often each text that is no number occurs; the first few different ones.
    texts: BTreeMap<String, usize>,
    text_cells: usize,
}

impl Column {
    fn new(name: &str) -> Self {
        Self { name: name.to_owned(), values: Vec::new(), empty: 0, texts: BTreeMap::new(), text_cells: 0 }
    }

    fn push(&mut self, cell: &[u8], layout: &Layout) {
        let value = self.value(cell, layout);
        self.values.push(value);
    }

    fn replace_last(&mut self, cell: &[u8], layout: &Layout) {
        let value = self.value(cell, layout);
        if let Some(last) = self.values.last_mut() {
            *last = value;
        }
    }

    fn value(&mut self, cell: &[u8], layout: &Layout) -> f64 {
        if let Some(value) = layout.number(cell) {
            return value;
        }
        if cell.is_empty() {
            self.empty += 1;
        } else {
            self.text_cells += 1;
            let text: String = String::from_utf8_lossy(cell).chars().take(24).collect();
            if self.texts.len() < 4 || self.texts.contains_key(&text) {
                *self.texts.entry(text).or_default() += 1;
            }
        }
        f64::NAN
    }

    /// Refuses a column without numbers; else what is to be noted of it.
    fn check(&self, rows: usize) -> Result<Option<String>> {
        let texts = || {
            let each = self.texts.iter().map(|(text, count)| format!("“{text}” {count} times"));
            each.collect::<Vec<_>>().join(", ")
        };
        if self.empty + self.text_cells >= rows {
            let found = if self.text_cells > 0 { format!("no numbers, but {}", texts()) } else { "no numbers".into() };
            return Err(Error::content(format!("column “{}”", self.name), found, "choose a column of numbers"));
        }
        let mut parts = Vec::new();
        if self.empty > 0 {
            parts.push(format!("{} empty cells", self.empty));
        }
        if self.text_cells > 0 {
            parts.push(format!("{} cells with text ({})", self.text_cells, texts()));
        }
        let joined = parts.join(" and ");
        Ok((!parts.is_empty()).then(|| format!("Column “{}”: {joined} are taken as missing.", self.name)))
    }
}

enum Tick {
    Later,
    Same,
    Missing,
}

/// Reads the times.
enum Clock<'a> {
    Interval(f64),
    Numbers { layout: &'a Layout, position: usize, unit: TimeUnit, times: Vec<f64> },
    Stamps(Stamps),
}

/// Time stamps, in seconds since midnight of the first day.
struct Stamps {
    position: usize,
    order: DateOrder,
    guessed: Option<String>,
    first_day: Option<i32>,
    /// Whole days added because a time of day started again from 0.
    midnights: f64,
    utc: bool,
    times: Vec<f64>,
}

impl<'a> Clock<'a> {
    fn new(layout: &'a Layout, source: &TimeSource) -> Result<Self> {
        let TimeSource::Column { column, date_order, unit } = source else {
            let TimeSource::Interval { seconds } = source else { unreachable!() };
            antistasis_core::check::positive("sample time", *seconds, "s")?;
            return Ok(Self::Interval(*seconds));
        };
        let position = layout.position(column)?;
        let cells: Vec<&str> = layout
            .sample
            .iter()
            .filter_map(|row| row.get(position))
            .map(String::as_str)
            .filter(|cell| !cell.is_empty())
            .collect();
        let numbers = cells.iter().filter(|cell| layout.number(cell.as_bytes()).is_some()).count();
        if 2 * numbers > cells.len() {
            let unit = unit.or_else(|| TimeUnit::parse(&layout.units[position])).unwrap_or(TimeUnit::Seconds);
            return Ok(Self::Numbers { layout, position, unit, times: Vec::new() });
        }
        let (order, guessed) = match date_order {
            Some(order) => (*order, None),
            None => order_of(&cells),
        };
        Ok(Self::Stamps(Stamps {
            position,
            order,
            guessed,
            first_day: None,
            midnights: 0.0,
            utc: false,
            times: Vec::new(),
        }))
    }

    fn take(&mut self, row: &ByteRecord, line: u64) -> Result<Tick> {
        let (position, times) = match self {
            Self::Interval(_) => return Ok(Tick::Later),
            Self::Numbers { position, times, .. } => (*position, &*times),
            Self::Stamps(stamps) => (stamps.position, &stamps.times),
        };
        let cell = row.get(position).unwrap_or_default();
        if cell.is_empty() {
            return Ok(Tick::Missing);
        }
        let last = times.last().copied();
        let time = match self {
            Self::Interval(_) => None,
            Self::Numbers { layout, unit, .. } => layout.number(cell).map(|value| value * unit.seconds()),
            Self::Stamps(stamps) => stamps.seconds(cell, last),
        };
        let shown = || String::from_utf8_lossy(cell).into_owned();
        let Some(time) = time else {
            return Err(Error::content(
                format!("line {line}"),
                format!("“{}” is not a time", shown()),
                "allowed: seconds, ISO 8601 (2026-12-31T23:59:59), 31.12.2026 23:59:59, 12/31/2026 11:59:59 PM, \
                 31-Dec-26 23:59:59",
            ));
        };
        let times = match self {
            Self::Interval(_) => return Ok(Tick::Later),
            Self::Numbers { times, .. } => times,
            Self::Stamps(stamps) => &mut stamps.times,
        };
        match last {
            Some(last) if time < last => Err(Error::content(
                format!("line {line}"),
                format!("time runs backwards, to “{}” by {} s", shown(), last - time),
                "sort the rows by time, or choose another time column",
            )),
            Some(last) if time == last => Ok(Tick::Same),
            _ => {
                times.push(time);
                Ok(Tick::Later)
            }
        }
    }

    fn notes(&self) -> Vec<String> {
        match self {
            Self::Stamps(stamps) => stamps.guessed.iter().cloned().collect(),
            _ => Vec::new(),
        }
    }

    /// The axis, and the time of the first sample.
    fn finish(self, rows: usize) -> Result<(TimeAxis, Option<String>)> {
        match self {
            Self::Interval(seconds) => Ok((TimeAxis::uniform(seconds, rows)?, None)),
            Self::Numbers { times, .. } => Ok((TimeAxis::from_times(&times)?, None)),
            Self::Stamps(stamps) => {
                let start = stamps.first_day.and_then(NaiveDate::from_num_days_from_ce_opt).map(|day| {
                    let milliseconds = (stamps.times[0] * 1000.0).round() as i64;
                    let midnight = day.and_time(chrono::NaiveTime::MIN);
                    let at = midnight + chrono::Duration::milliseconds(milliseconds);
                    format!("{}{}", at.format("%Y-%m-%dT%H:%M:%S%.3f"), if stamps.utc { "Z" } else { "" })
                });
                Ok((TimeAxis::from_times(&stamps.times)?, start))
            }
        }
    }
}

impl Stamps {
    fn seconds(&mut self, cell: &[u8], last: Option<f64>) -> Option<f64> {
        let raw = RawTime::scan(std::str::from_utf8(cell).ok()?)?;
        let of_day = raw.second_of_day - f64::from(raw.offset.unwrap_or(0));
        self.utc |= raw.offset.is_some();
        let Some(date) = raw.date else {
            // A time of day alone: past midnight it starts again from 0.
            let mut time = of_day + self.midnights;
            if last.is_some_and(|last| time < last - 0.5 * SECONDS_A_DAY) {
                self.midnights += SECONDS_A_DAY;
                time += SECONDS_A_DAY;
            }
            return Some(time);
        };
        let day = date.day_number(self.order)?;
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
