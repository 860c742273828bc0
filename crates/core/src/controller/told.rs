//! The settings of a PID controller beside gain and times, in words: what is to be set on the plant as well.

use super::{Action, Algorithm, AntiWindup, FeedForward, GainSchedule, PidSettings, ScheduledOver};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A setting and its value in words, with its unit.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Told {
    /// What it is called.
    pub name: String,
    /// Its value in words, with its unit.
    pub value: String,
}

impl Told {
    pub(crate) fn new(name: impl Into<String>, value: impl Into<String>) -> Self {
        Self { name: name.into(), value: value.into() }
    }
}

/// A number as it is, with a true minus sign: what is typed in is not rounded on the way.
pub(crate) fn exactly(value: f64) -> String {
    value.to_string().replace('-', "−")
}

impl PidSettings {
    /// What else is to be set beside gain and times; what stands at its usual value as well, so that nothing is left open.
    /// `unit_of` knows the unit of a signal that a schedule or a feed-forward reads.
    #[must_use]
    pub fn others_in_words(&self, unit_of: impl Fn(&str) -> Option<String>) -> Vec<Told> {
        let share = |share: f64| format!("{} %", exactly(crate::numerics::rounded(100.0 * share, 9)));
        let action = match self.action {
            Action::Direct => "direct: OP rises with the PV",
            Action::Reverse => "reverse: OP falls when the PV rises",
        };
        let limits = self.output_limits;
        let mut all: Vec<(&str, String)> = vec![
            ("Action", action.to_owned()),
            ("OP limits", format!("{} to {} %", exactly(limits.low), exactly(limits.high))),
            (
                "Rate of the OP",
                self.rate_limit.map_or("no limit".to_owned(), |rate| format!("at most {} %/s", exactly(rate))),
            ),
            (
                "Set point in the proportional term",
                if self.set_point_weight == 1.0 { "whole".to_owned() } else { share(self.set_point_weight) },
            ),
        ];
        if self.derivative_time > 0.0 {
            let of_set_point = self.derivative_set_point_weight;
            all.push(("Filter of the derivative", format!("Td/{}", exactly(self.derivative_filter))));
            let on = if of_set_point == 0.0 {
                "PV".to_owned()
            } else {
                format!("{} of the set point, and PV", share(of_set_point))
            };
            all.push(("Derivative on", on));
        }
        let filter =
            if self.filter_time > 0.0 { format!("{} s", exactly(self.filter_time)) } else { "none".to_owned() };
        all.push(("Filter of the PV", filter));
        if self.gap > 0.0 {
            all.push(("Gap", format!("±{} % of span, inside it {}", exactly(self.gap), share(self.gap_gain))));
        }
        let algorithm = if self.algorithm == Algorithm::Velocity { "velocity" } else { "positional" };
        all.push(("Algorithm", algorithm.to_owned()));
        let windup = match self.anti_windup {
            AntiWindup::None => "none",
            AntiWindup::Conditional => "no integration at a limit",
            AntiWindup::Clamping => "integral held within the limits",
            AntiWindup::BackCalculation => "back-calculation",
        };
        let tracking = self.tracking_time.map_or(String::new(), |time| format!(", tracking time {} s", exactly(time)));
        all.push(("At a limit", windup.to_owned() + &tracking));
        let mut all: Vec<Told> = all.into_iter().map(|(name, value)| Told::new(name, value)).collect();
        if let Some(schedule) = &self.schedule {
            all.extend(scheduled(schedule, unit_of(schedule.signal().unwrap_or_default())));
        }
        if let Some(forward) = &self.feed_forward {
            all.extend(fed_forward(forward, unit_of(&forward.signal)));
        }
        all
    }
}

/// A schedule, point by point.
fn scheduled(schedule: &GainSchedule, unit: Option<String>) -> Vec<Told> {
    let over = match &schedule.over {
        ScheduledOver::Measurement => "the PV in % of span",
        ScheduledOver::SetPoint => "the set point in % of span",
        ScheduledOver::Error => "the size of the error in % of span",
        ScheduledOver::Output => "the last OP in %",
        ScheduledOver::Signal(name) => name,
    };
    let unit = if schedule.signal().is_some() { unit.unwrap_or_default() } else { "%".to_owned() };
    let points = schedule.points.iter().map(|point| {
        let factor =
            |factor: f64| if factor == 1.0 { "as above".to_owned() } else { format!("× {}", exactly(factor)) };
        let value = format!("gain {}, times {}", factor(point.gain_factor), factor(point.time_factor));
        Told::new(format!("Schedule at {} {unit}", exactly(point.at)).trim_end(), value)
    });
    let how = format!("{over}, straight between the points, constant beyond them");
    std::iter::once(Told::new("Schedule over", how)).chain(points).collect()
}

/// A feed-forward, with what shapes it in time.
fn fed_forward(forward: &FeedForward, unit: Option<String>) -> Vec<Told> {
    let per = unit.filter(|unit| !unit.is_empty()).map_or("% per unit".to_owned(), |unit| format!("%/({unit})"));
    let seconds = |value: f64| if value > 0.0 { format!("{} s", exactly(value)) } else { "none".to_owned() };
    vec![
        Told::new("Feed-forward of", forward.signal.clone()),
        Told::new("Gain of the feed-forward", format!("{} {per}", exactly(forward.gain))),
        Told::new("Lead of the feed-forward", seconds(forward.lead)),
        Told::new("Lag of the feed-forward", seconds(forward.lag)),
        Told::new("Delay of the feed-forward", seconds(forward.delay)),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::{OutputLimits, SchedulePoint};

    fn said(settings: &PidSettings, name: &str) -> Option<String> {
        let unit_of = |name: &str| (name == "feed flow").then(|| "kg/s".to_owned());
        settings.others_in_words(unit_of).into_iter().find(|own| own.name == name).map(|own| own.value)
    }

    #[test]
    fn nothing_is_left_open_and_nothing_is_rounded() {
        let pi = PidSettings::pi(1.5, 60.0);
        assert_eq!(said(&pi, "OP limits").as_deref(), Some("0 to 100 %"));
        assert_eq!(said(&pi, "Rate of the OP").as_deref(), Some("no limit"));
        assert_eq!(said(&pi, "Filter of the derivative"), None, "without a derivative there is no filter of it");
        let pid = PidSettings {
            derivative_time: 12.0,
            derivative_set_point_weight: 0.25,
            output_limits: OutputLimits { low: -5.0, high: 87.125 },
            rate_limit: Some(0.3333),
            gap: 0.5,
            gap_gain: 0.2,
            tracking_time: Some(30.0),
            ..pi
        };
        assert_eq!(said(&pid, "OP limits").as_deref(), Some("−5 to 87.125 %"));
        assert_eq!(said(&pid, "Rate of the OP").as_deref(), Some("at most 0.3333 %/s"));
        assert_eq!(said(&pid, "Derivative on").as_deref(), Some("25 % of the set point, and PV"));
        assert_eq!(said(&pid, "Gap").as_deref(), Some("±0.5 % of span, inside it 20 %"));
        assert_eq!(said(&pid, "At a limit").as_deref(), Some("back-calculation, tracking time 30 s"));
    }

    #[test]
    fn what_is_not_usual_is_said_as_it_is() {
        let settings = PidSettings {
            action: Action::Direct,
            set_point_weight: 0.07,
            derivative_time: 5.0,
            anti_windup: AntiWindup::Clamping,
            algorithm: Algorithm::Velocity,
            ..PidSettings::pi(1.0, 10.0)
        };
        assert!(said(&settings, "Action").unwrap().starts_with("direct"));
        assert_eq!(said(&settings, "Set point in the proportional term").as_deref(), Some("7 %"));
        assert_eq!(said(&settings, "Filter of the derivative").as_deref(), Some("Td/10"));
        assert_eq!(said(&settings, "Derivative on").as_deref(), Some("PV"));
        assert_eq!(said(&settings, "At a limit").as_deref(), Some("integral held within the limits"));
        assert_eq!(said(&settings, "Algorithm").as_deref(), Some("velocity"));
        assert_eq!(said(&settings, "Filter of the PV").as_deref(), Some("none"));
        assert_eq!(said(&settings, "Gap"), None);
    }
    #[test]
    fn every_point_of_a_schedule_and_all_of_a_feed_forward_are_told() {
        let point = |at, gain_factor, time_factor| SchedulePoint { at, gain_factor, time_factor };
        let points = vec![point(0.25, 1.0, 1.0), point(2.0, 0.45, 1.0), point(4.5, 0.3, 1.25)];
        let over = ScheduledOver::Signal("feed flow".to_owned());
        let signal = "feed flow".to_owned();
        let settings = PidSettings {
            schedule: Some(GainSchedule { over, points }),
            feed_forward: Some(FeedForward { signal, gain: -12.5, lead: 30.0, lag: 45.0, delay: 0.0 }),
            ..PidSettings::pi(1.0, 10.0)
        };
        let told = |name: &str| said(&settings, name).unwrap_or_else(|| panic!("{name} is not told"));
        assert_eq!(told("Schedule over"), "feed flow, straight between the points, constant beyond them");
        assert_eq!(told("Schedule at 0.25 kg/s"), "gain as above, times as above");
        assert_eq!(told("Schedule at 2 kg/s"), "gain × 0.45, times as above");
        assert_eq!(told("Schedule at 4.5 kg/s"), "gain × 0.3, times × 1.25");
        assert_eq!(told("Feed-forward of"), "feed flow");
        assert_eq!(told("Gain of the feed-forward"), "−12.5 %/(kg/s)");
        assert_eq!(told("Lead of the feed-forward"), "30 s");
        assert_eq!(told("Lag of the feed-forward"), "45 s");
        assert_eq!(told("Delay of the feed-forward"), "none");

        let of_pv = GainSchedule { over: ScheduledOver::Measurement, ..settings.schedule.clone().unwrap() };
        let settings = PidSettings { schedule: Some(of_pv), ..settings };
        assert!(said(&settings, "Schedule over").unwrap().starts_with("the PV in % of span"));
        assert_eq!(said(&settings, "Schedule at 2 %").as_deref(), Some("gain × 0.45, times as above"));
    }
}
