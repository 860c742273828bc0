//! Tables in which each row is one value of one tag, as historians write them: each tag has times of its own, and of
//! many only the changes are written.

use super::clock::{Clock, Run, Tick};
use super::read::{MOST_VALUES, ROWS_A_LOOK, too_few_rows, too_many_values};
use super::time::RawTime;
use super::{GapMeaning, Import, Layout, Mapping, Rows, TimeSource};
use crate::{Error, Result};
use antistasis_core::series::{Channel, Record, Role};
use csv::ByteRecord;
use std::collections::{BTreeMap, HashMap};

/// Most tags that are told apart.
const MOST_TAGS: usize = 5000;
/// Rows of each tag that are looked at for what it is.
const SAMPLE_ROWS: usize = 200;
/// A stretch between two samples that is this much longer than usual is a gap.
const GAP: f64 = 5.0;

const TAG_NAMES: [&str; 10] =
    ["tag", "tagname", "tag name", "name", "point", "signal", "item", "variable", "channel", "messstelle"];
const VALUE_NAMES: [&str; 4] = ["value", "wert", "val", "reading"];
const QUALITY_NAMES: [&str; 5] = ["quality", "status", "state", "qualität", "good"];
const UNIT_NAMES: [&str; 4] = ["unit", "units", "uom", "einheit"];
/// What a sample that may be used is called; numbers are those of OPC (192 and above is good).
const GOOD: [&str; 6] = ["good", "ok", "valid", "g", "true", "1"];

/// Where tag, time, value and quality stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct LongForm {
    tag: usize,
    value: usize,
    quality: Option<usize>,
    /// Header of the column of times.
    time: String,
    /// The layout of the rows as they stand in the file.
    names: Vec<String>,
    headers: Vec<String>,
    units: Vec<String>,
    sample: Vec<Vec<String>>,
}

/// The table as a column a tag, where its rows are values of tags; None where they are not. `asked` takes it for one even
/// where its header does not say so.
pub(crate) fn find_long(layout: &Layout, rows: &mut dyn Rows, asked: bool) -> Result<Option<Layout>> {
    let Some(columns) = columns_of(layout, asked) else { return Ok(None) };
    let mut tags: Vec<Tag> = Vec::new();
    let mut known: HashMap<Vec<u8>, usize> = HashMap::new();
    let mut row = ByteRecord::new();
    while rows.next(&mut row)? {
        let name = row.get(columns.tag).unwrap_or_default();
        if name.is_empty() || row.get(columns.value).is_none() {
            continue;
        }
        let at = match known.get(name) {
            Some(at) => *at,
            None if tags.len() < MOST_TAGS => {
                known.insert(name.to_vec(), tags.len());
                let unit = columns.unit.and_then(|unit| row.get(unit)).unwrap_or_default();
                let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
                tags.push(Tag { name: text(name), unit: text(unit), rows: 0, sample: Vec::new() });
                tags.len() - 1
            }
            None => continue,
        };
        let tag = &mut tags[at];
        tag.rows += 1;
        if tag.sample.len() < SAMPLE_ROWS {
            let cell = |position: usize| String::from_utf8_lossy(row.get(position).unwrap_or_default()).into_owned();
            tag.sample.push((cell(columns.time), cell(columns.value)));
        }
    }
    // Remarks at the foot are no tags.
    tags.retain(|tag| tag.sample.iter().any(|(time, _)| !time.is_empty()));
    if tags.is_empty() {
        return Ok(None);
    }
    Ok(Some(wide(layout, columns, &tags)))
}

struct Columns {
    tag: usize,
    time: usize,
    value: usize,
    quality: Option<usize>,
    unit: Option<usize>,
}

struct Tag {
    name: String,
    unit: String,
    rows: usize,
    sample: Vec<(String, String)>,
}

fn columns_of(layout: &Layout, asked: bool) -> Option<Columns> {
    let width = layout.names.len();
    let cells = |k: usize| layout.sample.iter().filter_map(move |row| row.get(k)).filter(|cell| !cell.is_empty());
    let most = |k: usize, is: &dyn Fn(&str) -> bool| {
        let (all, fit) = cells(k).fold((0, 0), |(all, fit), cell| (all + 1, fit + usize::from(is(cell))));
        all > 0 && 10 * fit >= 8 * all
    };
    let is_number = |cell: &str| layout.number(cell.as_bytes()).is_some();
    let is_time = |cell: &str| !is_number(cell) && RawTime::scan(cell).is_some();
    let is_text = |cell: &str| !is_number(cell) && RawTime::scan(cell).is_none();
    let called = |names: &[&str]| (0..width).find(|k| names.contains(&layout.names[*k].to_lowercase().trim()));
    let numbers: Vec<usize> = (0..width).filter(|k| most(*k, &is_number)).collect();
    let texts: Vec<usize> = (0..width).filter(|k| most(*k, &is_text)).collect();
    let named_tag = called(&TAG_NAMES).filter(|tag| texts.contains(tag));
    let named_value = called(&VALUE_NAMES);
    // A header that says so, or somebody who does.
    if !asked && (named_tag.is_none() || named_value.is_none()) {
        return None;
    }
    let tag = named_tag.or_else(|| texts.first().copied())?;
    let value = named_value.or_else(|| numbers.last().copied()).filter(|value| *value != tag)?;
    let time = (0..width).find(|k| most(*k, &is_time)).or_else(|| {
        let names = ["time", "timestamp", "date", "t", "zeit"];
        numbers.iter().copied().find(|k| *k != value && names.contains(&layout.names[*k].to_lowercase().as_str()))
    })?;
    let other = |k: &usize| *k != tag && *k != value && *k != time;
    Some(Columns {
        tag,
        time,
        value,
        quality: called(&QUALITY_NAMES).filter(|k| other(k)),
        unit: called(&UNIT_NAMES).filter(|k| other(k)),
    })
}

/// The layout as it is shown and mapped: the time, then a column a tag.
fn wide(layout: &Layout, columns: Columns, tags: &[Tag]) -> Layout {
    let time = layout.names[columns.time].clone();
    let header: Vec<String> =
        std::iter::once(time.clone()).chain(tags.iter().map(|tag| super::header(&tag.name, &tag.unit))).collect();
    // The first rows in the order of their times as they stand in the file.
    let mut at: HashMap<&str, usize> = HashMap::new();
    let mut sample: Vec<Vec<String>> = Vec::new();
    for (k, tag) in tags.iter().enumerate() {
        for (time, value) in &tag.sample {
            let row = *at.entry(time).or_insert_with(|| {
                let mut row = vec![String::new(); tags.len() + 1];
                row[0].clone_from(time);
                sample.push(row);
                sample.len() - 1
            });
            sample[row][k + 1].clone_from(value);
        }
    }
    if sample.iter().all(|row| row[0].starts_with(|c: char| c.is_ascii_digit()) && row[0].len() == sample[0][0].len()) {
        sample.sort_by(|a, b| a[0].cmp(&b[0]));
    }
    let most = tags.iter().map(|tag| tag.rows).max().unwrap_or(0);
    let mut own = Layout::with_header(&header, sample, layout.decimal_comma);
    own.sparse = std::iter::once(false).chain(tags.iter().map(|tag| 4 * tag.rows < most)).collect();
    own.header_row = layout.header_row;
    own.long = Some(LongForm {
        tag: columns.tag,
        value: columns.value,
        quality: columns.quality,
        time,
        names: layout.names.clone(),
        headers: layout.headers.clone(),
        units: layout.units.clone(),
        sample: layout.sample.clone(),
    });
    own
}

/// One tag being read.
struct Series {
    run: Run,
    values: Vec<f64>,
    bad: BTreeMap<String, usize>,
}

/// Reads the tags that `mapping` names onto the times of the PV and those at which sparse ones change.
///
/// Samples whose quality is not good are missing. Errors as when rows are read, and when a tag is not in the file.
pub(crate) fn read_long(
    layout: &Layout,
    form: &LongForm,
    rows: &mut dyn Rows,
    mapping: &Mapping,
    go_on: &mut dyn FnMut(f64) -> bool,
) -> Result<Import> {
    mapping.check()?;
    let TimeSource::Column { .. } = mapping.time else {
        return Err(Error::content(
            "mapping",
            "rows of single values need times of their own",
            "choose the column of times",
        ));
    };
    let own = Layout {
        names: form.names.clone(),
        headers: form.headers.clone(),
        units: form.units.clone(),
        sample: form.sample.clone(),
        long: None,
        ..layout.clone()
    };
    let mut clock = Clock::new(&own, &mapping.time)?;
    let tags: Vec<&str> = mapping
        .channels
        .iter()
        .map(|channel| layout.position(&channel.column).map(|at| layout.names[at].as_str()))
        .collect::<Result<_>>()?;
    let of_tag: HashMap<&[u8], usize> = tags.iter().enumerate().map(|(k, tag)| (tag.as_bytes(), k)).collect();
    let mut all: Vec<Series> =
        tags.iter().map(|_| Series { run: Run::default(), values: Vec::new(), bad: BTreeMap::new() }).collect();
    let mut row = ByteRecord::new();
    let (mut count, mut taken) = (0_u64, 0_usize);
    while rows.next(&mut row)? {
        count += 1;
        if count.is_multiple_of(ROWS_A_LOOK) && !go_on(rows.progress()) {
            return Err(Error::Cancelled);
        }
        let Some(at) = of_tag.get(row.get(form.tag).unwrap_or_default()) else { continue };
        let line = row.position().map_or(count + 1, csv::Position::line);
        let series = &mut all[*at];
        let tick = clock.take(&row, line, &mut series.run)?;
        if tick == Tick::Missing {
            continue;
        }
        let quality = form.quality.and_then(|quality| row.get(quality)).unwrap_or_default();
        let mut value = own.number(row.get(form.value).unwrap_or_default()).unwrap_or(f64::NAN);
        if !is_good(quality) {
            value = f64::NAN;
            let text: String = String::from_utf8_lossy(quality).chars().take(24).collect();
            *series.bad.entry(text).or_default() += 1;
        }
        match (tick, series.values.last_mut()) {
            (Tick::Same, Some(last)) => *last = value,
            _ => series.values.push(value),
        }
        taken += 1;
        if taken > MOST_VALUES / 2 {
            return Err(too_many_values(line));
        }
    }
    assemble(&clock, &all, mapping)
}

fn is_good(quality: &[u8]) -> bool {
    let text = String::from_utf8_lossy(quality).trim().to_lowercase();
    if text.is_empty() || GOOD.iter().any(|good| text == *good || text.starts_with("good")) {
        return true;
    }
    text.parse::<f64>().is_ok_and(|code| code >= 192.0)
}

/// Lays the tags onto one axis of times.
fn assemble(clock: &Clock, all: &[Series], mapping: &Mapping) -> Result<Import> {
    let role = |k: usize| mapping.channels[k].role;
    let longest = (0..all.len()).max_by_key(|k| all[*k].values.len()).unwrap_or(0);
    let lead = (0..all.len()).find(|k| role(*k) == Role::Pv).unwrap_or(longest);
    let times = &all[lead].run.times;
    let (Some(first), Some(last)) = (times.first().copied(), times.last().copied()) else {
        return Err(too_few_rows(0));
    };
    let is_sparse = |k: usize| 2 * all[k].values.len() < times.len();
    let mut axis: Vec<f64> = times.clone();
    for (k, series) in all.iter().enumerate() {
        if k != lead && is_sparse(k) {
            axis.extend(series.run.times.iter().filter(|time| (first..=last).contains(time)));
        }
    }
    axis.sort_by(f64::total_cmp);
    axis.dedup();
    if axis.len() < 2 {
        return Err(too_few_rows(axis.len()));
    }
    let runs: Vec<&Run> = all.iter().map(|series| &series.run).collect();
    let mut notes = clock.notes(&runs);
    let mut channels = Vec::with_capacity(all.len());
    for (k, series) in all.iter().enumerate() {
        let mapped = &mapping.channels[k];
        if !series.values.iter().any(|value| value.is_finite()) {
            let place = format!("column “{}”", mapped.column);
            return Err(Error::content(place, "no numbers", "choose a column of numbers"));
        }
        let usual = if k == lead {
            GapMeaning::Missing
        } else if is_sparse(k) || matches!(mapped.role, Role::Op | Role::Sp) {
            GapMeaning::Hold
        } else {
            GapMeaning::Between
        };
        let meaning = mapping.gaps.unwrap_or(usual);
        if k != lead && series.run.times != axis {
            notes.push(format!(
                "{} has {} values at times of its own: {}.",
                mapped.tag,
                series.values.len(),
                match meaning {
                    GapMeaning::Hold => "each holds until the next",
                    GapMeaning::Between => "at other times it lies straight between them",
                    GapMeaning::Missing => "at other times it is missing",
                }
            ));
        }
        for (quality, count) in &series.bad {
            notes.push(format!("{count} values of {} have the quality “{quality}” and are missing.", mapped.tag));
        }
        channels.push(Channel {
            tag: mapped.tag.clone(),
            role: mapped.role,
            unit: mapped.unit.clone(),
            values: laid_on(&series.run.times, &series.values, &axis, meaning),
        });
    }
    let (axis, start) = clock.finish(&axis, axis.len())?;
    Ok(Import { record: Record::new(axis, channels)?, start, notes })
}

/// The values of a series at other times.
fn laid_on(times: &[f64], values: &[f64], at: &[f64], meaning: GapMeaning) -> Vec<f64> {
    let steps = times.len().saturating_sub(1).max(1) as f64;
    let usual = (times.last().unwrap_or(&0.0) - times.first().unwrap_or(&0.0)) / steps;
    let mut next = 0;
    at.iter()
        .map(|time| {
            while next < times.len() && times[next] <= *time {
                next += 1;
            }
            // `next` is the first sample after the time.
            let Some(before) = next.checked_sub(1) else { return f64::NAN };
            if times[before] == *time || meaning == GapMeaning::Hold {
                return values[before];
            }
            if meaning == GapMeaning::Missing || next >= times.len() || times[next] - times[before] > GAP * usual {
                return f64::NAN;
            }
            let share = (time - times[before]) / (times[next] - times[before]);
            values[before] + share * (values[next] - values[before])
        })
        .collect()
}
