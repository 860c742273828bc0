//! Time stamps in the forms that exports use.

use chrono::{Datelike, NaiveDate};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// The order of the parts of a date.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum DateOrder {
    /// 31/12/2026
    DayMonthYear,
    /// 12/31/2026
    MonthDayYear,
    /// 2026/12/31
    YearMonthDay,
}

impl DateOrder {
    /// The order in words.
    #[must_use]
    pub fn in_words(self) -> &'static str {
        match self {
            Self::DayMonthYear => "day, month, year",
            Self::MonthDayYear => "month, day, year",
            Self::YearMonthDay => "year, month, day",
        }
    }
}

/// The unit of a column of plain numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[allow(missing_docs)]
pub enum TimeUnit {
    #[serde(rename = "ms")]
    Milliseconds,
    #[serde(rename = "s")]
    Seconds,
    #[serde(rename = "min")]
    Minutes,
    #[serde(rename = "h")]
    Hours,
    #[serde(rename = "d")]
    Days,
    /// Days since the end of 1899 as spreadsheets count them (ISO/IEC 29500-1, 18.17.4.1).
    #[serde(rename = "serial_day")]
    SerialDays,
    /// Seconds since 1970-01-01 in UTC (POSIX.1).
    #[serde(rename = "unix")]
    Unix,
    /// Milliseconds since 1970-01-01 in UTC.
    #[serde(rename = "unix_ms")]
    UnixMilliseconds,
}

impl TimeUnit {
    /// Seconds in one.
    #[must_use]
    pub fn seconds(self) -> f64 {
        match self {
            Self::Milliseconds | Self::UnixMilliseconds => 1e-3,
            Self::Seconds | Self::Unix => 1.0,
            Self::Minutes => 60.0,
            Self::Hours => 3600.0,
            Self::Days | Self::SerialDays => 86_400.0,
        }
    }

    /// The day that the numbers count from, and whether they are in UTC; None for a time that begins anywhere.
    #[must_use]
    pub fn epoch(self) -> Option<(NaiveDate, bool)> {
        match self {
            Self::SerialDays => NaiveDate::from_ymd_opt(1899, 12, 30).map(|day| (day, false)),
            Self::Unix | Self::UnixMilliseconds => NaiveDate::from_ymd_opt(1970, 1, 1).map(|day| (day, true)),
            _ => None,
        }
    }

    /// The unit as written in a header.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        match text.trim().to_ascii_lowercase().as_str() {
            "ms" | "msec" => Some(Self::Milliseconds),
            "s" | "sec" | "seconds" => Some(Self::Seconds),
            "min" | "minutes" => Some(Self::Minutes),
            "h" | "hr" | "hours" => Some(Self::Hours),
            "d" | "days" => Some(Self::Days),
            _ => None,
        }
    }
}

/// A time stamp taken apart, before it is known which part is the day.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct RawTime {
    /// The three parts of the date; None for a time of day alone.
    pub date: Option<RawDate>,
    /// Seconds since midnight.
    pub second_of_day: f64,
    /// Seconds east of UTC, where the stamp says so.
    pub offset: Option<i32>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct RawDate {
    parts: [i32; 3],
    /// Known from the form itself: the year has four digits and comes first, a dot separates, the month is a name.
    order: Option<DateOrder>,
    month_is_named: bool,
}

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];

impl RawTime {
    /// Takes a stamp apart; None where the text is none.
    pub fn scan(text: &str) -> Option<Self> {
        let text = text.trim();
        let first = text.bytes().next()?;
        if !first.is_ascii_digit() {
            return None;
        }
        let date_end = text.find(['T', 't', ' ']).unwrap_or(text.len());
        let head = &text[..date_end];
        let (date, rest) = if head.contains(':') {
            (None, text)
        } else {
            (Some(RawDate::scan(head)?), text[date_end..].trim_start_matches(['T', 't', ' ']))
        };
        let (second_of_day, offset) = if rest.is_empty() { (0.0, None) } else { time_of_day(rest)? };
        Some(Self { date, second_of_day, offset })
    }
}

impl RawDate {
    fn scan(text: &str) -> Option<Self> {
        let separator = text.chars().find(|c| matches!(c, '-' | '/' | '.'))?;
        let mut parts = text.split(separator);
        let (a, b, c) = (parts.next()?, parts.next()?, parts.next()?);
        if parts.next().is_some() {
            return None;
        }
        let number = |part: &str| part.parse::<i32>().ok().filter(|_| part.len() <= 4);
        if let Some(month) =
            MONTHS.iter().position(|name| b.len() >= 3 && b.is_char_boundary(3) && b[..3].eq_ignore_ascii_case(name))
        {
            return Some(Self {
                parts: [number(a)?, month as i32 + 1, number(c)?],
                order: Some(DateOrder::DayMonthYear),
                month_is_named: true,
            });
        }
        if a.len() == 4 {
            let order = Some(DateOrder::YearMonthDay);
            return Some(Self { parts: [number(a)?, number(b)?, number(c)?], order, month_is_named: false });
        }
        let order = (separator == '.').then_some(DateOrder::DayMonthYear);
        Some(Self { parts: [number(a)?, number(b)?, number(c)?], order, month_is_named: false })
    }

    /// Days since the year 1, the parts being in `order` unless the form itself says otherwise.
    pub fn day_number(&self, order: DateOrder) -> Option<i32> {
        self.day_number_in(self.order.unwrap_or(order))
    }

    /// Days since the year 1, the parts being in just this order; the name of a month is never taken for anything else.
    pub fn day_number_as_chosen(&self, order: DateOrder) -> Option<i32> {
        self.day_number_in(if self.month_is_named { DateOrder::DayMonthYear } else { order })
    }

    fn day_number_in(&self, order: DateOrder) -> Option<i32> {
        let [a, b, c] = self.parts;
        let (year, month, day) = match order {
            DateOrder::DayMonthYear => (c, b, a),
            DateOrder::MonthDayYear => (c, a, b),
            DateOrder::YearMonthDay => (a, b, c),
        };
        let year = if year < 100 { 2000 + year } else { year };
        let date = NaiveDate::from_ymd_opt(year, u32::try_from(month).ok()?, u32::try_from(day).ok()?)?;
        Some(date.num_days_from_ce())
    }
}

/// `14:05:06.25 PM +02:00` and shorter: seconds since midnight and the offset from UTC.
fn time_of_day(text: &str) -> Option<(f64, Option<i32>)> {
    let clock_end = text.find(|c: char| !(c.is_ascii_digit() || matches!(c, ':' | '.' | ','))).unwrap_or(text.len());
    let (clock, mut rest) = (&text[..clock_end], text[clock_end..].trim());
    let mut parts = clock.split(':');
    let hour: u32 = parts.next()?.parse().ok()?;
    let minute: u32 = parts.next()?.parse().ok()?;
    let second: f64 = parts.next().map_or(Some(0.0), |part| part.replace(',', ".").parse().ok())?;
    if parts.next().is_some() {
        return None;
    }
    let mut hour = hour;
    for (mark, afternoon) in [("am", false), ("pm", true)] {
        if rest.len() >= 2 && rest.is_char_boundary(2) && rest[..2].eq_ignore_ascii_case(mark) {
            if !(1..=12).contains(&hour) {
                return None;
            }
            hour = hour % 12 + if afternoon { 12 } else { 0 };
            rest = rest[2..].trim();
        }
    }
    if hour > 24 || minute > 59 || !(0.0..61.0).contains(&second) {
        return None;
    }
    let offset = match rest {
        "" => None,
        "Z" | "z" | "UTC" | "GMT" => Some(0),
        signed => {
            let sign = match signed.as_bytes()[0] {
                b'+' => 1,
                b'-' => -1,
                _ => return None,
            };
            let digits: String = signed[1..].chars().filter(char::is_ascii_digit).collect();
            if !(digits.len() == 4 || digits.len() == 2) || signed.len() > 6 {
                return None;
            }
            let hours: i32 = digits[..2].parse().ok()?;
            let minutes: i32 = digits.get(2..4).map_or(Some(0), |part| part.parse().ok())?;
            Some(sign * (hours * 3600 + minutes * 60))
        }
    };
    Some((f64::from(hour * 3600 + minute * 60) + second, offset))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The orders of day and month in which the parts make a date.
    fn orders(date: RawDate) -> Vec<DateOrder> {
        let possible = [DateOrder::DayMonthYear, DateOrder::MonthDayYear];
        possible.into_iter().filter(|order| date.day_number(*order).is_some()).collect()
    }

    fn at(text: &str, order: DateOrder) -> Option<(i32, f64, Option<i32>)> {
        let raw = RawTime::scan(text)?;
        Some((raw.date?.day_number(order)?, raw.second_of_day, raw.offset))
    }

    #[test]
    fn forms_of_one_instant() {
        let day = NaiveDate::from_ymd_opt(2026, 3, 4).unwrap().num_days_from_ce();
        let noon = 13.0 * 3600.0 + 5.0 * 60.0 + 6.5;
        for text in [
            "2026-03-04T13:05:06.5",
            "2026-03-04 13:05:06.500",
            "2026/03/04 13:05:06,5",
            "04.03.2026 13:05:06,5",
            "4.3.26 13:05:06.5",
            "04/03/2026 01:05:06.5 PM",
            "04-Mar-2026 13:05:06.5",
            "4-MAR-26 13:05:06.5",
        ] {
            assert_eq!(at(text, DateOrder::DayMonthYear), Some((day, noon, None)), "{text}");
        }
        assert_eq!(at("03/04/2026 1:05:06.5 pm", DateOrder::MonthDayYear), Some((day, noon, None)));
        assert_eq!(at("2026-03-04T13:05:06.5Z", DateOrder::DayMonthYear), Some((day, noon, Some(0))));
        assert_eq!(at("2026-03-04T13:05:06.5-03:30", DateOrder::DayMonthYear), Some((day, noon, Some(-12_600))));
        assert_eq!(at("2026-03-04", DateOrder::DayMonthYear), Some((day, 0.0, None)));
        assert_eq!(RawTime::scan("12:00:01 AM").unwrap().second_of_day, 1.0);
    }

    #[test]
    fn what_is_no_time() {
        for text in
            ["", "Bad", "12", "12.5", "2026-13-01 00:00", "31.02.2026", "25:61", "1-2", "13:00 PM", "1.2.3.4", "é"]
        {
            let found = RawTime::scan(text).is_some_and(|raw| raw.date.is_none_or(|date| !orders(date).is_empty()));
            assert!(!found, "{text}");
        }
    }

    #[test]
    fn day_and_month_are_told_apart_where_they_can_be() {
        let orders = |text: &str| orders(RawTime::scan(text).unwrap().date.unwrap());
        assert_eq!(orders("31/12/2026"), [DateOrder::DayMonthYear]);
        assert_eq!(orders("12/31/2026"), [DateOrder::MonthDayYear]);
        assert_eq!(orders("03/04/2026").len(), 2);
    }
}
