//! The settings of a PID controller beside gain and times, in words: what is to be set on the plant as well.

use super::{Action, Algorithm, AntiWindup, PidSettings};

/// A setting and its value in words, with its unit.
pub type Told = (&'static str, String);

/// A number as it is, with a true minus sign: what is typed in is not rounded on the way.
fn exactly(value: f64) -> String {
    value.to_string().replace('-', "−")
}

impl PidSettings {
    /// What else is to be set beside gain and times; what stands at its usual value as well, so that nothing is left open.
    #[must_use]
    pub fn others_in_words(&self) -> Vec<Told> {
        let share = |share: f64| format!("{} %", exactly(crate::numerics::rounded(100.0 * share, 9)));
        let action = match self.action {
            Action::Direct => "direct: OP rises with the PV",
            Action::Reverse => "reverse: OP falls when the PV rises",
        };
        let limits = self.output_limits;
        let mut all: Vec<Told> = vec![
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
        if let Some(schedule) = &self.schedule {
            all.push(("Schedule", format!("{} points", schedule.points.len())));
        }
        if let Some(forward) = &self.feed_forward {
            all.push(("Feed-forward", format!("{} % per unit of {}", exactly(forward.gain), forward.signal)));
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::OutputLimits;

    fn said(settings: &PidSettings, name: &str) -> Option<String> {
        settings.others_in_words().into_iter().find(|(own, _)| *own == name).map(|(_, value)| value)
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
}
