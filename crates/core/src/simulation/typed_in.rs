//! The controllers of a trial as they are typed into the controllers on the plant.

use super::plant::Plant;
use super::trial::Trial;
use super::wiring::{Select, Wire};
use crate::Result;
use crate::controller::{
    ControllerSpec, InNotation, Notation, PidSettings, SmithSettings, Told, check_digits, exactly,
};
use crate::numerics::rounded;
use crate::units::Span;
use crate::verdict::{Tone, Verdict, readable};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Relative difference of two settings beneath which they are the same: what is left of a conversion there and back.
const SAME: f64 = 1e-9;

/// A number as it is typed.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TypedSetting {
    /// What it is called.
    pub name: String,
    /// The number as text, never as a power of ten.
    pub text: String,
    /// Its unit.
    pub unit: String,
}

/// The settings of a controller as they are typed in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Sheet {
    /// The controller.
    pub name: String,
    /// What it is.
    pub title: String,
    /// Gain and times; none where there is nothing to type.
    pub rows: Vec<TypedSetting>,
    /// What else is to be set, unrounded; what stands at its usual value, too.
    pub others: Vec<Told>,
    /// Why its settings cannot be written so; empty where they can.
    pub refusal: String,
}

/// A trial as it is typed in.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct TypedIn {
    /// A sheet a controller, in the order of the candidate.
    pub sheets: Vec<Sheet>,
    /// How the controllers work together; empty for one alone on its OP.
    pub wiring: Vec<String>,
    /// The trial with its settings as they are typed: rounded.
    pub trial: Trial,
    /// By how much the settings that are typed differ from those that were tried; null where they do not.
    pub rounding: Option<Verdict>,
}

impl Plant {
    /// The unit of a signal that a controller can read: a measured signal or an OP by tag, an output or input of the process by name,
    /// or `load`.
    pub fn unit_of(&self, signal: &str) -> Result<Option<String>> {
        if signal == "load" || self.op_tags().contains(&signal) {
            return Ok(Some("%".to_owned()));
        }
        if let Some(place) = self.measured_tags().iter().position(|tag| *tag == signal) {
            return Ok(Some(self.measured_spans()[place].unit.clone()));
        }
        let description = self.describe()?;
        let mut quantities = description.outputs.iter().chain(&description.inputs);
        Ok(quantities.find(|quantity| quantity.name == signal).map(|quantity| quantity.unit.clone()))
    }
}

impl Trial {
    /// The trial as it is typed in, in this notation and with so many significant digits.
    pub fn typed_in(&self, notation: Notation, digits: u8) -> Result<TypedIn> {
        check_digits(digits)?;
        let mut typing = Typing { plant: &self.plant, notation, digits, sheets: Vec::new(), departs: None };
        let mut trial = self.clone();
        typing.controller(self.plant.loop_tag(), &self.plant.pv.tag, &mut trial.candidate.controller)?;
        for own in &mut trial.candidate.further {
            typing.controller(&own.name, &own.measures, &mut own.controller)?;
        }
        let rounding = typing.departs.filter(|(by, _)| *by > SAME).map(|(by, what)| {
            let text = format!(
                "Typed with {digits} digits, the settings differ from those that were tried by up to {} % ({what}).",
                readable(100.0 * by)
            );
            Verdict::new(Tone::Caution, text, "what is typed in is what is to be proven: keep it as a trial of its own")
        });
        Ok(TypedIn { sheets: typing.sheets, wiring: self.wiring_in_words(), trial, rounding })
    }
}

impl Trial {
    /// How its controllers work together, in sentences; none for one alone on its OP.
    #[must_use]
    pub fn wiring_in_words(&self) -> Vec<String> {
        let (plant, candidate) = (&self.plant, &self.candidate);
        let to_op = [Wire::to(plant.op.tag.clone())];
        let own = if candidate.sets.is_empty() { &to_op[..] } else { &candidate.sets[..] };
        let is_alone = candidate.further.is_empty();
        let further = candidate.further.iter().map(|own| (own.name.as_str(), &own.sets[..]));
        let all = std::iter::once((plant.loop_tag(), own)).chain(further);
        let mut sentences: Vec<String> =
            all.flat_map(|(name, sets)| sets.iter().filter_map(move |wire| wired(name, wire, is_alone))).collect();
        if let Some(ratio) = &candidate.ratio {
            let own = plant.loop_tag();
            sentences.push(format!("The set point of {own} is {} times {}.", exactly(ratio.ratio), ratio.signal));
        }
        sentences
    }
}

struct Typing<'a> {
    plant: &'a Plant,
    notation: Notation,
    digits: u8,
    sheets: Vec<Sheet>,
    /// By how much, relatively, the setting that differs most does, and which that is.
    departs: Option<(f64, String)>,
}

impl Typing<'_> {
    /// Writes the sheets of a controller, and puts in its place what it is when it is typed.
    fn controller(&mut self, name: &str, measures: &str, controller: &mut ControllerSpec) -> Result<()> {
        let title = controller.title();
        let place = self.plant.measured_tags().iter().position(|tag| *tag == measures).unwrap_or(0);
        let span = self.plant.measured_spans()[place].clone();
        match controller {
            ControllerSpec::Pid(settings) => self.pid((name, title), &span, settings, Vec::new()),
            ControllerSpec::Smith(smith) => {
                self.pid((name, title), &span, &mut smith.pid, Vec::new())?;
                self.predictor(&span.unit, smith);
                Ok(())
            }
            ControllerSpec::Cascade(cascade) => {
                let Span { low, high, unit } = &cascade.span;
                let below = vec![Told::new(
                    "Set point",
                    format!("the OP of {name}, 0 to 100 % for {} to {} {unit}", exactly(*low), exactly(*high)),
                )];
                let inner = format!("{name}, inner loop of {}", cascade.signal);
                self.pid((name, "outer controller of a cascade"), &span, &mut cascade.outer, Vec::new())?;
                self.pid((&inner, "inner controller of a cascade"), &cascade.span, &mut cascade.inner, below)
            }
            _ => {
                let refusal =
                    format!("There are no settings to type in ({title}): the trial holds them as a document.");
                self.sheets.push(Sheet { name: name.to_owned(), title: title.to_owned(), refusal, ..Sheet::empty() });
                Ok(())
            }
        }
    }

    fn pid(
        &mut self,
        (name, title): (&str, &str),
        span: &Span,
        settings: &mut PidSettings,
        more: Vec<Told>,
    ) -> Result<()> {
        let mut sheet = Sheet { name: name.to_owned(), title: title.to_owned(), ..Sheet::empty() };
        match self
            .notation
            .write(settings, span)
            .and_then(|own| Ok((own, self.notation.as_typed(settings, span, self.digits)?)))
        {
            Err(error) => sheet.refusal = error.to_string(),
            Ok((InNotation { proportional, integral, derivative }, rounded_off)) => {
                let derivative = Some(derivative).filter(|derivative| derivative.value != 0.0);
                for own in [Some(proportional), integral, derivative].into_iter().flatten() {
                    self.row(&mut sheet, own.name, own.value, own.unit);
                }
                *settings = rounded_off;
            }
        }
        sheet.others = settings.others_in_words(|signal| self.plant.unit_of(signal).ok().flatten());
        sheet.others.extend(more);
        self.sheets.push(sheet);
        Ok(())
    }

    /// A number that is typed into a sheet: what it is then.
    fn row(&mut self, sheet: &mut Sheet, name: String, value: f64, unit: String) -> f64 {
        let typed = rounded(value, self.digits.into());
        let by = if value == 0.0 { 0.0 } else { (typed / value - 1.0).abs() };
        if self.departs.as_ref().is_none_or(|(most, _)| by > *most) {
            self.departs = Some((by, format!("{name} of {}", sheet.name)));
        }
        sheet.rows.push(TypedSetting { name, text: exactly(typed), unit });
        typed
    }

    /// The model of a Smith predictor, on the sheet of its controller.
    fn predictor(&mut self, unit_of_pv: &str, smith: &mut SmithSettings) {
        let Some(mut sheet) = self.sheets.pop() else { return };
        let unit_of = |unit: &str| unit.replace("PV unit", unit_of_pv);
        let parameters = smith.model.parameters().into_iter();
        let typed: Vec<f64> = parameters
            .map(|(own, unit, value)| {
                self.row(&mut sheet, format!("{} of the model", own.replace('_', " ")), value, unit_of(unit))
            })
            .collect();
        smith.model = smith.model.with_parameters(&typed);
        if smith.filter_time > 0.0 {
            smith.filter_time = self.row(&mut sheet, "filter of the prediction".into(), smith.filter_time, "s".into());
        }
        sheet.others.push(Told::new("Model of the predictor", smith.model.title()));
        self.sheets.push(sheet);
    }
}

impl Sheet {
    fn empty() -> Self {
        Self { name: String::new(), title: String::new(), rows: Vec::new(), others: Vec::new(), refusal: String::new() }
    }
}

/// Where the output of a controller goes; nothing where it goes to its OP as it is and no other is there.
fn wired(name: &str, wire: &Wire, is_alone: bool) -> Option<String> {
    let part = wire.range.map_or(String::new(), |[low, high]| {
        format!(", 0 to 100 % of that over {} to {} % of its own (a split range)", exactly(low), exactly(high))
    });
    if let Some(inner) = wire.to.strip_suffix(".SP") {
        return Some(format!(
            "The OP of {name} is the set point of {inner}, 0 to 100 % over the span of its PV{part}. While {inner} is in manual or at a limit, {name} tracks the PV of {inner}."
        ));
    }
    let select = match wire.select {
        Some(Select::Lowest) => " where it is the lowest of those that go there; the others track it meanwhile",
        Some(Select::Highest) => " where it is the highest of those that go there; the others track it meanwhile",
        None if part.is_empty() && is_alone => return None,
        None => "",
    };
    Some(format!("The OP of {name} goes to {}{part}{select}.", wire.to))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::controller::{CascadeSettings, GainOver, ProportionalAs};
    use crate::process::LinearSpec;
    use crate::simulation::trial::heater;
    use crate::simulation::{Manipulated, Wired};
    use proptest::prelude::*;

    fn with(controller: ControllerSpec) -> Trial {
        let mut trial = heater();
        trial.candidate.controller = controller;
        trial
    }

    fn texts(sheet: &Sheet) -> Vec<(&str, &str, &str)> {
        sheet.rows.iter().map(|row| (row.name.as_str(), row.text.as_str(), row.unit.as_str())).collect()
    }

    #[test]
    fn numbers_are_typed_in_full() {
        for (value, digits, text) in [
            (1.23456, 3, "1.23"),
            (0.000_123_4, 2, "0.00012"),
            (98_765.0, 3, "98800"),
            (2.0, 4, "2"),
            (-0.5, 3, "−0.5"),
            (0.0, 3, "0"),
        ] {
            let plant = heater().plant;
            let mut typing =
                Typing { plant: &plant, notation: Notation::default(), digits, sheets: Vec::new(), departs: None };
            let mut sheet = Sheet::empty();
            typing.row(&mut sheet, "value".to_owned(), value, String::new());
            assert_eq!(sheet.rows[0].text, text);
        }
    }

    #[test]
    fn rounding_is_told_by_the_setting_that_differs_most() {
        let trial = with(ControllerSpec::Pid(PidSettings::pi(3.0, 61.04)));
        let band = Notation { proportional: ProportionalAs::Band, ..Notation::default() };
        let typed = trial.typed_in(band, 2).unwrap();
        assert_eq!(texts(&typed.sheets[0]), [("proportional band", "33", "%"), ("integral time", "61", "s")]);
        // 33 for 33.333… is 1 % less.
        let rounding = typed.rounding.unwrap();
        assert!(rounding.text.contains("up to 1 % (proportional band of"), "{}", rounding.text);
        let ControllerSpec::Pid(settings) = &typed.trial.candidate.controller else { panic!() };
        assert!((settings.gain - 100.0 / 33.0).abs() < 1e-12 && settings.integral_time == Some(61.0));
        // What is typed already is typed as it is.
        assert_eq!(typed.trial.typed_in(band, 2).unwrap().rounding, None);
        assert!(typed.trial.typed_in(band, 4).unwrap().rounding.is_none());
    }

    #[test]
    fn engineering_units_are_those_of_what_a_controller_measures() {
        let mut trial = with(ControllerSpec::Pid(PidSettings::pi(1.5, 60.0)));
        trial.plant.pv.span = Span::new(0.0, 50.0, "°C");
        let span = Span::new(0.0, 20.0, "kg/s");
        let inner = PidSettings::pi(0.6, 5.0);
        let cascade = CascadeSettings { outer: PidSettings::pi(1.5, 60.0), inner, signal: "flow".to_owned(), span };
        let notation = Notation { gain_over: GainOver::EngineeringUnit, ..Notation::default() };
        assert_eq!(texts(&trial.typed_in(notation, 3).unwrap().sheets[0])[0], ("gain", "3", "%/°C"));
        trial.candidate.controller = ControllerSpec::Cascade(Box::new(cascade));
        let typed = trial.typed_in(notation, 3).unwrap();
        assert_eq!(texts(&typed.sheets[0])[0], ("gain", "3", "%/°C"));
        assert_eq!(texts(&typed.sheets[1])[0], ("gain", "3", "%/(kg/s)"));
        assert_eq!((typed.rounding, &typed.trial), (None, &trial));
    }

    #[test]
    fn what_cannot_be_written_so_says_why_and_stays() {
        let pid = PidSettings { derivative_time: 30.0, ..PidSettings::pi(1.234_56, 60.0) };
        let series = Notation { form: crate::controller::Form::Series, ..Notation::default() };
        let trial = with(ControllerSpec::Pid(pid));
        let typed = trial.typed_in(series, 3).unwrap();
        assert!(typed.sheets[0].refusal.contains("at most 15 s"), "{}", typed.sheets[0].refusal);
        assert!(typed.sheets[0].rows.is_empty() && typed.trial == trial && typed.rounding.is_none());
        let error = trial.typed_in(series, 9).unwrap_err().to_string();
        assert!(error.contains('9') && error.contains("2 to 6"), "{error}");
        let manual = with(ControllerSpec::Manual).typed_in(series, 3).unwrap();
        assert!(manual.sheets[0].refusal.starts_with("There are no settings to type in (manual)"));
    }

    #[test]
    fn a_smith_predictor_and_a_cascade_are_typed_in_whole() {
        let model = LinearSpec::Fopdt { gain: 0.87651, time_constant: 25.0, dead_time: 6.4 };
        let smith = SmithSettings { pid: PidSettings::pi(2.0, 25.0), model, filter_time: 3.5 };
        let typed = with(ControllerSpec::Smith(smith)).typed_in(Notation::default(), 3).unwrap();
        let sheet = &typed.sheets[0];
        let gain_unit = format!("{}/%", heater().plant.pv.span.unit);
        assert_eq!(
            texts(sheet),
            [
                ("gain", "2", "%/%"),
                ("integral time", "25", "s"),
                ("gain of the model", "0.877", gain_unit.as_str()),
                ("time constant of the model", "25", "s"),
                ("dead time of the model", "6.4", "s"),
                ("filter of the prediction", "3.5", "s"),
            ]
        );
        // What is typed of the model is what the trial predicts by; 0.877 for 0.87651 is 0.0559 % more.
        let ControllerSpec::Smith(rounded) = &typed.trial.candidate.controller else { panic!() };
        assert_eq!(rounded.model.gain(), 0.877);
        assert!(typed.rounding.unwrap().text.contains("0.0559 % (gain of the model of"));

        let [outer, inner] = [PidSettings::pi(1.234_5, 60.0), PidSettings::pi(4.0, 9.87)];
        let span = Span::new(0.0, 120.0, "°C");
        let cascade = CascadeSettings { outer, inner, signal: "jacket temperature".to_owned(), span };
        let typed = with(ControllerSpec::Cascade(Box::new(cascade))).typed_in(Notation::default(), 2).unwrap();
        assert_eq!(texts(&typed.sheets[0])[0].1, "1.2");
        assert_eq!(texts(&typed.sheets[1])[1].1, "9.9");
        assert!(typed.sheets[1].others.last().unwrap().value.ends_with("0 to 100 % for 0 to 120 °C"));
        let ControllerSpec::Cascade(rounded) = &typed.trial.candidate.controller else { panic!() };
        assert_eq!((rounded.outer.gain, rounded.inner.integral_time), (1.2, Some(9.9)));
    }

    #[test]
    fn how_controllers_work_together_is_told() {
        assert!(heater().wiring_in_words().is_empty());
        let mut trial = heater();
        let name = trial.plant.loop_tag().to_owned();
        let op = trial.plant.op.tag.clone();
        let pid = || ControllerSpec::Pid(PidSettings::pi(1.0, 10.0));
        let measures = trial.plant.pv.tag.clone();
        let wired = |name: &str, sets| Wired {
            name: name.into(),
            measures: measures.clone(),
            sets,
            controller: pid(),
            set_point_tracking: false,
        };
        trial.candidate.sets = vec![Wire::to("FIC-9.SP")];
        let split = |to: &str, range| Wire { range: Some(range), ..Wire::to(to) };
        let over = Wire { select: Some(Select::Lowest), ..Wire::to(op.clone()) };
        trial.candidate.further = vec![
            wired("FIC-9", vec![split(&op, [0.0, 50.0]), split("X.OP", [50.0, 100.0])]),
            wired("PIC-8", vec![over]),
        ];
        trial.plant.further_driven.push(Manipulated {
            tag: "X.OP".into(),
            input: "x".into(),
            at_0: 0.0,
            at_100: 1.0,
            at_start: 0.0,
            actuator: Default::default(),
        });
        let told = trial.wiring_in_words();
        assert_eq!(told.len(), 4);
        assert!(told[0].starts_with(&format!("The OP of {name} is the set point of FIC-9")));
        assert!(told[2].contains("goes to X.OP, 0 to 100 % of that over 50 to 100 % of its own"), "{}", told[2]);
        assert!(told[3].contains("where it is the lowest"), "{}", told[3]);
    }

    #[test]
    fn signals_have_the_unit_of_the_plant() {
        let plant = heater().plant;
        assert_eq!(plant.unit_of("load").unwrap().as_deref(), Some("%"));
        assert_eq!(plant.unit_of(&plant.pv.tag).unwrap(), Some(plant.pv.span.unit.clone()));
        for quantity in plant.describe().unwrap().inputs {
            assert_eq!(plant.unit_of(&quantity.name).unwrap(), Some(quantity.unit));
        }
        assert_eq!(plant.unit_of("no such signal").unwrap(), None);
    }

    proptest! {
        /// What is typed is within half of its last digit, and typed again it is the same.
        #[test]
        fn what_is_typed_is_near_and_stays(gain in 1e-3..1e3f64, time in 1e-2..1e5f64, digits in 2u8..=6) {
            let trial = with(ControllerSpec::Pid(PidSettings::pi(gain, time)));
            let once = trial.typed_in(Notation::default(), digits).unwrap();
            for (row, value) in once.sheets[0].rows.iter().zip([gain, time]) {
                let read: f64 = row.text.parse().unwrap();
                let last = 10f64.powf(value.log10().floor() + 1.0 - f64::from(digits));
                prop_assert!((read - value).abs() <= 0.5001 * last);
            }
            prop_assert_eq!(&once.trial.typed_in(Notation::default(), digits).unwrap().trial, &once.trial);
        }
    }
}
