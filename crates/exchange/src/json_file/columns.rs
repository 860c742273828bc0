//! JSON read straight into columns of text, in whichever of the three forms it comes.

use super::SAMPLE_ROWS;
use crate::limits::{MOST_CELLS, MOST_COLUMNS};
use crate::table::header;
use antistasis_core::work::go_on;
use serde::Deserialize;
use serde::de::value::{MapAccessDeserializer, SeqAccessDeserializer};
use serde::de::{DeserializeSeed, Deserializer, IgnoredAny, MapAccess, SeqAccess, Visitor};
use serde_json::{Number, Value};
use std::collections::HashMap;
use std::fmt;

/// The cells of a column as text, one after the other.
#[derive(Debug, Default)]
pub(super) struct Cells {
    text: String,
    ends: Vec<u32>,
}

impl Cells {
    /// So many that are empty.
    fn empty(count: usize) -> Self {
        Self { text: String::new(), ends: vec![0; count] }
    }

    pub(super) fn len(&self) -> usize {
        self.ends.len()
    }

    pub(super) fn get(&self, row: usize) -> &str {
        let from = if row == 0 { 0 } else { self.ends[row - 1] as usize };
        &self.text[from..self.ends[row] as usize]
    }

    /// Ends the cell to which text was added. A file of the largest size has fewer bytes than the counter holds.
    fn end_cell(&mut self) {
        self.ends.push(u32::try_from(self.text.len()).unwrap_or(u32::MAX));
    }

    /// Takes the last cell away.
    fn take_back(&mut self) {
        self.ends.pop();
        self.text.truncate(self.ends.last().map_or(0, |end| *end as usize));
    }
}

/// What a file holds.
pub(super) enum Contents {
    /// Headers and columns.
    Table(Vec<String>, Vec<Cells>),
    /// Something else.
    NoTable,
    /// More columns than a table may have.
    TooManyColumns(usize),
    /// More cells than are held in memory, as rows and columns.
    TooManyCells(u64, u64),
}

impl<'de> Deserialize<'de> for Contents {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        deserializer.deserialize_any(ContentsVisitor)
    }
}

/// Reads what is left of a list or an object, so that the rest of the text is still checked; how many it was.
fn drain_list<'de, A: SeqAccess<'de>>(mut list: A) -> Result<u64, A::Error> {
    let mut count = 0;
    while list.next_element::<IgnoredAny>()?.is_some() {
        go_on();
        count += 1;
    }
    Ok(count)
}

fn drain_object<'de, A: MapAccess<'de>>(mut object: A) -> Result<(), A::Error> {
    while object.next_entry::<IgnoredAny, IgnoredAny>()?.is_some() {
        go_on();
    }
    Ok(())
}

/// How many cells may still come, and the longest column so far.
struct Room {
    left: u64,
    longest: u64,
}

/// The visits of values that are neither lists nor objects, all answered with one expression.
macro_rules! scalars_are {
    ($answer:expr) => {
        fn visit_bool<E>(self, _: bool) -> Result<Self::Value, E> {
            Ok($answer)
        }
        fn visit_i64<E>(self, _: i64) -> Result<Self::Value, E> {
            Ok($answer)
        }
        fn visit_u64<E>(self, _: u64) -> Result<Self::Value, E> {
            Ok($answer)
        }
        fn visit_f64<E>(self, _: f64) -> Result<Self::Value, E> {
            Ok($answer)
        }
        fn visit_str<E>(self, _: &str) -> Result<Self::Value, E> {
            Ok($answer)
        }
        fn visit_unit<E>(self) -> Result<Self::Value, E> {
            Ok($answer)
        }
    };
}

struct ContentsVisitor;

impl<'de> Visitor<'de> for ContentsVisitor {
    type Value = Contents;

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a table")
    }

    scalars_are!(Contents::NoTable);

    /// A list of rows.
    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Contents, A::Error> {
        let mut rows = RowList::default();
        while let Some(is_row) = list.next_element_seed(RowSeed(&mut rows))? {
            go_on();
            let (count, columns) = (rows.count as u64, rows.columns.len() as u64);
            let refused = if !is_row {
                Contents::NoTable
            } else if rows.columns.len() > MOST_COLUMNS {
                Contents::TooManyColumns(rows.columns.len())
            } else if count * columns > MOST_CELLS {
                Contents::TooManyCells(count, columns)
            } else {
                continue;
            };
            let further = drain_list(list)?;
            return Ok(match refused {
                Contents::TooManyCells(rows, columns) => Contents::TooManyCells(rows + further, columns),
                other => other,
            });
        }
        Ok(Contents::Table(rows.names, rows.columns))
    }

    /// Columns by name, or under `channels`.
    fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<Contents, A::Error> {
        let (mut names, mut columns): (Vec<String>, Vec<Cells>) = (Vec::new(), Vec::new());
        let mut channels: Option<Option<Channels>> = None;
        let mut room = Room { left: MOST_CELLS, longest: 0 };
        while let Some(name) = object.next_key::<String>()? {
            if name == "channels" {
                channels = Some(object.next_value_seed(ChannelsSeed(&mut room))?);
            } else if let Some(column) = object.next_value_seed(ColumnSeed(&mut room))? {
                // Of a name that comes twice the last counts.
                match names.iter().position(|known| *known == name) {
                    Some(known) => columns[known] = column,
                    None => {
                        names.push(name);
                        columns.push(column);
                    }
                }
            }
            let count = names.len() + channels.as_ref().and_then(Option::as_ref).map_or(0, |channels| channels.0.len());
            if count > MOST_COLUMNS {
                return drain_object(object).map(|()| Contents::TooManyColumns(count));
            }
            if room.left == 0 {
                return drain_object(object).map(|()| Contents::TooManyCells(room.longest, count as u64));
            }
        }
        let Some(channels) = channels else { return Ok(Contents::Table(names, columns)) };
        let Some(Channels(mut headers, mut values)) = channels else { return Ok(Contents::NoTable) };
        if let Some(time) = names.iter().position(|name| name == "time") {
            headers.insert(0, "time [s]".to_owned());
            values.insert(0, columns.swap_remove(time));
        }
        Ok(Contents::Table(headers, values))
    }
}

/// Rows that become columns: the names of the first rows are all that there are.
#[derive(Default)]
struct RowList {
    names: Vec<String>,
    places: HashMap<String, usize>,
    columns: Vec<Cells>,
    count: usize,
}

struct RowSeed<'a>(&'a mut RowList);

impl<'de> DeserializeSeed<'de> for RowSeed<'_> {
    type Value = bool;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<bool, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for RowSeed<'_> {
    type Value = bool;

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a row")
    }

    scalars_are!(false);

    fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<bool, A::Error> {
        drain_list(list).map(|_| false)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut row: A) -> Result<bool, A::Error> {
        let rows = self.0;
        while let Some(name) = row.next_key::<String>()? {
            let place = match rows.places.get(&name) {
                Some(place) => *place,
                None if rows.count < SAMPLE_ROWS && rows.columns.len() <= MOST_COLUMNS => {
                    let place = rows.columns.len();
                    rows.columns.push(Cells::empty(rows.count));
                    rows.places.insert(name.clone(), place);
                    rows.names.push(name);
                    place
                }
                None => {
                    row.next_value::<IgnoredAny>()?;
                    continue;
                }
            };
            let cells = &mut rows.columns[place];
            if cells.len() > rows.count {
                cells.take_back();
            }
            row.next_value_seed(CellSeed(cells))?;
        }
        rows.count += 1;
        for cells in &mut rows.columns {
            if cells.len() < rows.count {
                cells.end_cell();
            }
        }
        Ok(true)
    }
}

/// A list of cells; None for anything else.
struct ColumnSeed<'a>(&'a mut Room);

impl<'de> DeserializeSeed<'de> for ColumnSeed<'_> {
    type Value = Option<Cells>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for ColumnSeed<'_> {
    type Value = Option<Cells>;

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a column")
    }

    scalars_are!(None);

    fn visit_map<A: MapAccess<'de>>(self, object: A) -> Result<Self::Value, A::Error> {
        drain_object(object).map(|()| None)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
        let (mut cells, room) = (Cells::default(), self.0);
        while room.left > 0 {
            go_on();
            if list.next_element_seed(CellSeed(&mut cells))?.is_none() {
                room.longest = room.longest.max(cells.len() as u64);
                return Ok(Some(cells));
            }
            room.left -= 1;
        }
        let further = drain_list(list)?;
        room.longest = room.longest.max(cells.len() as u64 + further);
        Ok(Some(cells))
    }
}

/// One cell, added to a column.
struct CellSeed<'a>(&'a mut Cells);

impl CellSeed<'_> {
    fn take(self, text: &str) {
        self.0.text.push_str(text.trim());
        self.0.end_cell();
    }
}

impl<'de> DeserializeSeed<'de> for CellSeed<'_> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for CellSeed<'_> {
    type Value = ();

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a cell")
    }

    fn visit_bool<E>(self, value: bool) -> Result<(), E> {
        self.take(if value { "1" } else { "0" });
        Ok(())
    }

    fn visit_i64<E>(self, value: i64) -> Result<(), E> {
        self.take(&value.to_string());
        Ok(())
    }

    fn visit_u64<E>(self, value: u64) -> Result<(), E> {
        self.take(&value.to_string());
        Ok(())
    }

    fn visit_f64<E>(self, value: f64) -> Result<(), E> {
        self.take(&Number::from_f64(value).map(|number| number.to_string()).unwrap_or_default());
        Ok(())
    }

    fn visit_str<E>(self, text: &str) -> Result<(), E> {
        self.take(text);
        Ok(())
    }

    fn visit_unit<E>(self) -> Result<(), E> {
        self.take("");
        Ok(())
    }

    // What is nested is no sample: it is shown as it stands.
    fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<(), A::Error> {
        self.take(&Value::deserialize(SeqAccessDeserializer::new(list))?.to_string());
        Ok(())
    }

    fn visit_map<A: MapAccess<'de>>(self, object: A) -> Result<(), A::Error> {
        self.take(&Value::deserialize(MapAccessDeserializer::new(object))?.to_string());
        Ok(())
    }
}

/// Headers and values of the list under `channels`.
struct Channels(Vec<String>, Vec<Cells>);

/// The list under `channels`; None where it is none.
struct ChannelsSeed<'a>(&'a mut Room);

impl<'de> DeserializeSeed<'de> for ChannelsSeed<'_> {
    type Value = Option<Channels>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for ChannelsSeed<'_> {
    type Value = Option<Channels>;

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a list of channels")
    }

    scalars_are!(None);

    fn visit_map<A: MapAccess<'de>>(self, object: A) -> Result<Self::Value, A::Error> {
        drain_object(object).map(|()| None)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Self::Value, A::Error> {
        let mut channels = Channels(Vec::new(), Vec::new());
        while let Some(channel) = list.next_element_seed(ChannelSeed(self.0))? {
            let Some((header, values)) = channel else { return drain_list(list).map(|_| None) };
            channels.0.push(header);
            channels.1.push(values);
            if channels.0.len() > MOST_COLUMNS || self.0.left == 0 {
                return drain_list(list).map(|_| Some(channels));
            }
        }
        Ok(Some(channels))
    }
}

/// One channel with tag, unit and values; None where it has no values.
struct ChannelSeed<'a>(&'a mut Room);

impl<'de> DeserializeSeed<'de> for ChannelSeed<'_> {
    type Value = Option<(String, Cells)>;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for ChannelSeed<'_> {
    type Value = Option<(String, Cells)>;

    fn expecting(&self, formatter: &mut fmt::Formatter) -> fmt::Result {
        formatter.write_str("a channel")
    }

    scalars_are!(None);

    fn visit_seq<A: SeqAccess<'de>>(self, list: A) -> Result<Self::Value, A::Error> {
        drain_list(list).map(|_| None)
    }

    fn visit_map<A: MapAccess<'de>>(self, mut object: A) -> Result<Self::Value, A::Error> {
        let (mut tag, mut unit, mut values) = (Value::Null, Value::Null, None);
        while let Some(name) = object.next_key::<String>()? {
            match name.as_str() {
                "tag" => tag = object.next_value()?,
                "unit" => unit = object.next_value()?,
                "values" => values = object.next_value_seed(ColumnSeed(self.0))?,
                _ => drop(object.next_value::<IgnoredAny>()?),
            }
        }
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        Ok(values.map(|values| (header(&text(&tag), &text(&unit)), values)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn table(text: &str) -> Option<(Vec<String>, Vec<Vec<String>>)> {
        let Contents::Table(names, columns) = serde_json::from_str(text).unwrap() else { return None };
        let cells = |column: &Cells| (0..column.len()).map(|row| column.get(row).to_owned()).collect();
        Some((names, columns.iter().map(cells).collect()))
    }

    #[test]
    fn rows_that_lack_a_name_or_have_it_twice_keep_their_places() {
        let (names, columns) = table(r#"[{"t":0,"a":1.5},{"t":1,"b":"x "},{"t":2,"t":3,"a":null},{}]"#).unwrap();
        assert_eq!(names, ["t", "a", "b"]);
        assert_eq!(columns[0], ["0", "1", "3", ""]);
        assert_eq!(columns[1], ["1.5", "", "", ""]);
        assert_eq!(columns[2], ["", "x", "", ""]);
    }

    #[test]
    fn time_may_stand_behind_the_channels_and_what_is_nested_is_no_table() {
        let text = r#"{"channels":[{"values":[1,true],"unit":"°C","tag":"T","note":{}}],"time":[0,60],"by":"hand"}"#;
        let (names, columns) = table(text).unwrap();
        assert_eq!((names.len(), columns[0].join(" "), columns[1].join(" ")), (2, "0 60".into(), "1 1".into()));
        assert!(names[1].starts_with('T'));
        for other in ["3", "null", "[1,2]", "[[1]]", r#"{"channels":3}"#, r#"{"channels":[{"tag":"T"}]}"#] {
            assert!(table(other).is_none(), "{other}");
        }
        // Shown as it stands, so that a person sees what it is.
        assert_eq!(table(r#"{"a":[{"b":[1]}]}"#).unwrap().1[0], [r#"{"b":[1]}"#]);
    }

    #[test]
    fn more_cells_than_are_held_in_memory_are_refused_while_they_are_read() {
        let one = "0,".repeat(MOST_CELLS as usize);
        let Contents::TooManyCells(rows, columns) = serde_json::from_str(&format!("{{\"a\":[{one}0]}}")).unwrap()
        else {
            panic!("taken");
        };
        assert_eq!((rows, columns), (MOST_CELLS + 1, 1));
        let names: Vec<String> = (0..=MOST_COLUMNS).map(|k| format!("\"{k}\":[]")).collect();
        let many = serde_json::from_str(&format!("{{{}}}", names.join(","))).unwrap();
        assert!(matches!(many, Contents::TooManyColumns(_)));
    }

    proptest! {
        /// The same numbers by rows, by columns and as channels give one table, each cell as `serde_json` writes it.
        #[test]
        fn all_forms_give_one_table(values in prop::collection::vec((-1e6f64..1e6, prop::option::of(any::<i32>())), 1..30)) {
            let time: Vec<usize> = (0..values.len()).collect();
            let (a, b): (Vec<f64>, Vec<Option<i32>>) = values.iter().copied().unzip();
            let rows: Vec<Value> =
                values.iter().zip(&time).map(|((a, b), t)| serde_json::json!({ "time": t, "a": a, "b": b })).collect();
            let by_rows = table(&Value::Array(rows).to_string()).unwrap();
            let by_columns = table(&serde_json::json!({ "time": time, "a": a, "b": b }).to_string()).unwrap();
            let channel = |tag: &str, values: Value| serde_json::json!({ "tag": tag, "unit": "", "values": values });
            let channels = serde_json::json!([channel("a", a.clone().into()), channel("b", serde_json::json!(b))]);
            let as_channels = table(&serde_json::json!({ "time": time, "channels": channels }).to_string()).unwrap();
            let sorted = |(names, columns): (Vec<String>, Vec<Vec<String>>)| {
                let mut all: Vec<(String, Vec<String>)> = names.into_iter().zip(columns).collect();
                all.iter_mut().for_each(|(name, _)| name.truncate(1));
                all.sort();
                all
            };
            let expected = sorted(by_rows);
            prop_assert_eq!(&sorted(by_columns), &expected);
            prop_assert_eq!(&sorted(as_channels), &expected);
            for (row, value) in a.iter().enumerate() {
                prop_assert_eq!(expected[0].1[row].parse::<f64>().unwrap(), *value);
            }
        }
    }
}
