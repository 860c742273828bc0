//! What the columns of a table probably are, by name, unit and behaviour.

use super::clock::usual_unit;
use super::time::{RawTime, TimeUnit};
use super::{ChannelMapping, ColumnKind, ColumnPreview, Layout, Mapping, Reading, TimeSource};
use antistasis_core::series::Role;

/// Roles by what columns are commonly called, in the order in which they are looked for.
const NAMES: [(Role, &[&str]); 4] = [
    (Role::Sp, &["sp", "setpoint", "set point", "set_point", "target", "r", "wsp", "sollwert"]),
    (
        Role::Pv,
        &[
            "pv",
            "process value",
            "process variable",
            "measurement",
            "measured",
            "y",
            "temperature",
            "level",
            "istwert",
            "regelgröße",
        ],
    ),
    (
        Role::Op,
        &[
            "op",
            "out",
            "output",
            "mv",
            "co",
            "valve",
            "u",
            "heater",
            "power",
            "input",
            "ventil",
            "stellwert",
            "stellgröße",
        ],
    ),
    (Role::Dv, &["dv", "ff", "disturbance", "feed", "feedforward", "load", "ambient", "inlet"]),
];

/// How the first numbers of a column behave.
struct Behaviour {
    values: Vec<f64>,
    /// Share of rows at which the value changes.
    changing: f64,
    low: f64,
    high: f64,
    /// Only its changes are written.
    sparse: bool,
}

impl Behaviour {
    fn of(layout: &Layout, column: usize) -> Self {
        let cells = layout.sample.iter().filter_map(|row| row.get(column));
        let values: Vec<f64> = cells.filter_map(|cell| layout.number(cell.as_bytes())).collect();
        let changes = values.windows(2).filter(|pair| pair[0] != pair[1]).count();
        let changing = changes as f64 / values.len().saturating_sub(1).max(1) as f64;
        let low = values.iter().copied().fold(f64::MAX, f64::min);
        let high = values.iter().copied().fold(f64::MIN, f64::max);
        Self { values, changing, low, high, sparse: layout.sparse[column] }
    }

    /// Rises by about the same from row to row, as a time does.
    fn runs_on(&self) -> bool {
        let steps: Vec<f64> = self.values.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let mean = steps.iter().sum::<f64>() / steps.len().max(1) as f64;
        steps.len() > 3 && mean > 0.0 && steps.iter().all(|step| *step > 0.0 && *step < 3.0 * mean)
    }

    /// Holds its value for most of the time.
    fn is_stepped(&self) -> bool {
        self.sparse || self.values.len() > 3 && self.changing < 0.2
    }

    fn is_a_percentage(&self) -> bool {
        self.low >= -1.0 && self.high <= 101.0
    }
}

/// The mapping that is probably meant. All columns of numbers are taken; those that nothing tells about as other ones.
#[must_use]
pub fn guess(columns: &[ColumnPreview], layout: &Layout) -> Mapping {
    let words = |column: &ColumnPreview| -> Vec<String> {
        let lower = column.name.to_lowercase();
        let mut words: Vec<String> = lower.split(|c: char| !c.is_alphanumeric()).map(str::to_owned).collect();
        words.push(lower);
        words
    };
    let is_called =
        |column: &ColumnPreview, names: &[&str]| words(column).iter().any(|word| names.contains(&word.as_str()));
    let behaviours: Vec<Behaviour> = (0..columns.len()).map(|k| Behaviour::of(layout, k)).collect();
    let time_names =
        ["time", "timestamp", "date", "datetime", "t", "zeit", "datum", "uhrzeit", "sec", "seconds", "elapsed"];
    let is_number = |k: &usize| columns[*k].kind == ColumnKind::Number;
    let time = columns
        .iter()
        .position(|column| column.kind == ColumnKind::Time)
        .or_else(|| columns.iter().position(|c| c.kind == ColumnKind::Number && is_called(c, &time_names)))
        // A first column that runs on evenly, where no other name tells.
        .or_else(|| (0..1).find(|k| columns.len() > 2 && is_number(k) && behaviours[*k].runs_on()));
    let clock = time.and_then(|date| time_of_day(columns, layout, date));
    let mut free: Vec<usize> = (0..columns.len()).filter(|k| Some(*k) != time && is_number(k)).collect();
    let mut channels: Vec<(usize, Role)> = Vec::new();
    for (role, names) in NAMES {
        while let Some(at) = free.iter().position(|k| is_called(&columns[*k], names)) {
            channels.push((free.remove(at), role));
            // Several disturbances, but one of each other kind.
            if role != Role::Dv {
                break;
            }
        }
    }
    let has = |channels: &[(usize, Role)], role| channels.iter().any(|channel| channel.1 == role);
    // Behaviour: an OP is in %, or stays within 0 to 100 and holds its values; a PV changes all the time.
    if !has(&channels, Role::Op) {
        let percent = |k: &usize| columns[*k].unit == "%";
        let stepped = |k: &usize| behaviours[*k].is_stepped() && behaviours[*k].is_a_percentage();
        let at =
            free.iter().position(percent).or_else(|| if free.len() > 1 { free.iter().position(stepped) } else { None });
        channels.extend(at.map(|at| (free.remove(at), Role::Op)));
    }
    if !has(&channels, Role::Pv) && !free.is_empty() {
        let at = free.iter().position(|k| !behaviours[*k].is_stepped()).unwrap_or(0);
        channels.push((free.remove(at), Role::Pv));
    }
    if !has(&channels, Role::Op) && !free.is_empty() {
        channels.push((free.remove(0), Role::Op));
    }
    // A set point holds its values near those of the PV, in its unit.
    if let Some(&(pv, _)) = channels.iter().find(|channel| channel.1 == Role::Pv)
        && !has(&channels, Role::Sp)
    {
        let (measured, width) = (&behaviours[pv], behaviours[pv].high - behaviours[pv].low);
        let near = |k: &usize| {
            let own = &behaviours[*k];
            own.is_stepped()
                && columns[*k].unit == columns[pv].unit
                && own.low >= measured.low - width
                && own.high <= measured.high + width
        };
        if let Some(at) = free.iter().position(near) {
            channels.push((free.remove(at), Role::Sp));
        }
    }
    channels.extend(free.into_iter().map(|k| (k, Role::Other)));
    channels.sort_unstable_by_key(|channel| channel.0);
    let unit_of = |k: usize| TimeUnit::parse(&columns[k].unit).or_else(|| usual_unit(&behaviours[k].values));
    let time = match (time, clock) {
        (None, _) => TimeSource::Interval { seconds: 1.0 },
        (Some(date), Some(clock)) => TimeSource::DateAndTime {
            date: columns[date].name.clone(),
            time: columns[clock].name.clone(),
            date_order: None,
        },
        (Some(k), None) => TimeSource::Column {
            column: columns[k].name.clone(),
            date_order: None,
            unit: (columns[k].kind == ColumnKind::Number).then(|| unit_of(k)).flatten(),
        },
    };
    Mapping {
        reading: Reading::default(),
        time,
        gaps: None,
        channels: channels
            .into_iter()
            .map(|(k, role)| ChannelMapping {
                column: columns[k].name.clone(),
                role,
                tag: columns[k].name.clone(),
                unit: if columns[k].unit.is_empty() && role == Role::Op { "%".into() } else { columns[k].unit.clone() },
            })
            .collect(),
    }
}

/// The column of times of day that belongs to a column of dates.
fn time_of_day(columns: &[ColumnPreview], layout: &Layout, date: usize) -> Option<usize> {
    let all = |k: usize, fits: &dyn Fn(&str) -> bool| {
        let mut cells = layout.sample.iter().filter_map(|row| row.get(k)).filter(|cell| !cell.is_empty()).peekable();
        cells.peek().is_some() && cells.take(50).all(|cell| fits(cell))
    };
    let is_date = |cell: &str| !cell.contains(':') && RawTime::scan(cell).is_some_and(|raw| raw.date.is_some());
    let is_clock = |cell: &str| RawTime::scan(cell).is_some_and(|raw| raw.date.is_none());
    if columns[date].kind != ColumnKind::Time || !all(date, &is_date) {
        return None;
    }
    (0..columns.len()).find(|k| *k != date && columns[*k].kind == ColumnKind::Time && all(*k, &is_clock))
}
