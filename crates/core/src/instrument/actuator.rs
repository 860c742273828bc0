//! Valves and heater power stages: from the controller output to what acts on the process.

use super::characteristic::Characteristic;
use super::motion::{Motion, Piece};
use crate::{Error, Result, check};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// What the controller output drives.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(tag = "kind", rename_all = "snake_case", deny_unknown_fields)]
pub enum ActuatorSpec {
    /// Nothing between: the input follows the output at once.
    // With braces, so that fields it does not have are refused.
    Direct {},
    /// A control valve with its drive.
    Valve(ValveSpec),
    /// The power stage of an electric heater.
    PowerStage(PowerStageSpec),
}

impl Default for ActuatorSpec {
    fn default() -> Self {
        Self::Direct {}
    }
}

/// A control valve with its drive. Everything is off where it is not given.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ValveSpec {
    /// Flow over opening at constant pressure drop.
    #[serde(default)]
    pub characteristic: Characteristic,
    /// Share of the pressure drop that the fully open valve takes of that of the whole line, above 0 to 1: 1 without line
    /// losses, so that the installed characteristic is the inherent one.
    #[serde(default = "one")]
    #[schema(minimum = 0.01, maximum = 1)]
    pub authority: f64,
    /// Time from closed to open in s, 0 or more.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub stroke_time: f64,
    /// Highest speed in %/s, above 0; null for that of the stroke time.
    #[serde(default)]
    #[schema(exclusive_minimum = 0)]
    pub rate_limit: Option<f64>,
    /// Lost motion when the direction turns, in % of the stroke, 0 to 50.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 50)]
    pub dead_band: f64,
    /// How far the drive must pull before the stem breaks loose, in % of the stroke, 0 to 50.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 50)]
    pub stick: f64,
    /// What is still missing after the stem has slipped, in % of the stroke, 0 to `stick`: the less, the larger the slip.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 50)]
    pub friction: f64,
    /// Flow of the closed valve in % of full flow, 0 to 50.
    #[serde(default)]
    #[schema(minimum = 0, maximum = 50)]
    pub leakage: f64,
    /// Where it goes when its supply fails.
    #[serde(default)]
    pub fail_position: FailPosition,
}

fn one() -> f64 {
    1.0
}

impl Default for ValveSpec {
    fn default() -> Self {
        Self {
            characteristic: Characteristic::default(),
            authority: 1.0,
            stroke_time: 0.0,
            rate_limit: None,
            dead_band: 0.0,
            stick: 0.0,
            friction: 0.0,
            leakage: 0.0,
            fail_position: FailPosition::default(),
        }
    }
}

/// Where a valve goes without supply.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum FailPosition {
    /// Closed.
    #[default]
    Closed,
    /// Open.
    Open,
    /// As it was.
    Stays,
}

/// The power stage of an electric heater.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PowerStageSpec {
    /// Length of a cycle in s in which the power is on for a share of the time; 0 for a stage that sets the power itself.
    #[serde(default)]
    #[schema(minimum = 0)]
    pub cycle: f64,
}

impl ActuatorSpec {
    /// Refuses what cannot be; `field` names it.
    pub fn validate(&self, field: &str, scan: f64) -> Result<()> {
        match self {
            Self::Direct {} => Ok(()),
            Self::Valve(valve) => valve.validate(field),
            Self::PowerStage(PowerStageSpec { cycle }) => {
                check::not_negative(&format!("{field}.cycle"), *cycle, "s")?;
                if *cycle > 0.0 && *cycle < scan {
                    let allowed = format!("0, or the scan of {scan} s at least");
                    return Err(Error::invalid(format!("{field}.cycle"), format!("{cycle} s"), allowed));
                }
                Ok(())
            }
        }
    }

    /// What acts on the process at a position, both in % of full.
    #[must_use]
    pub fn effect(&self, position: f64) -> f64 {
        match self {
            Self::Direct {} => position,
            Self::PowerStage(_) => position.clamp(0.0, 100.0),
            Self::Valve(valve) => 100.0 * valve.installed(position / 100.0),
        }
    }

    /// The position at which the effect is this many % of full; None where no position has it.
    #[must_use]
    pub fn position_for(&self, effect: f64) -> Option<f64> {
        if matches!(self, Self::Direct {}) {
            return Some(effect);
        }
        let (low, high) = (self.effect(0.0), self.effect(100.0));
        let slack = 1e-9 * (high - low).abs().max(1.0);
        if effect < low - slack || effect > high + slack {
            return None;
        }
        Some(crate::numerics::bisect(0.0, 100.0, |position| self.effect(position) - effect).clamp(0.0, 100.0))
    }

    /// Whether the effect is the position, so that it moves straight where the position does.
    #[must_use]
    pub fn is_straight(&self) -> bool {
        match self {
            Self::Direct {} | Self::PowerStage(_) => true,
            Self::Valve(valve) => {
                valve.characteristic == Characteristic::Linear && valve.authority == 1.0 && valve.leakage == 0.0
            }
        }
    }
}

impl ValveSpec {
    fn validate(&self, field: &str) -> Result<()> {
        let name = |part: &str| format!("{field}.{part}");
        self.characteristic.validate(&name("characteristic"))?;
        check::within(&name("authority"), self.authority, 0.01, 1.0, "")?;
        check::not_negative(&name("stroke_time"), self.stroke_time, "s")?;
        if let Some(rate_limit) = self.rate_limit {
            check::positive(&name("rate_limit"), rate_limit, "%/s")?;
        }
        check::within(&name("dead_band"), self.dead_band, 0.0, 50.0, "%")?;
        check::within(&name("stick"), self.stick, 0.0, 50.0, "%")?;
        check::within(&name("friction"), self.friction, 0.0, self.stick, "%")?;
        check::within(&name("leakage"), self.leakage, 0.0, 50.0, "%").map(drop)
    }

    /// The share of full flow at an opening from 0 to 1, in a line that takes its part of the pressure drop.
    ///
    /// `f/√(N + (1 − N) f²)` with the inherent characteristic f and the authority N (any valve handbook: turbulent flow,
    /// constant pressure over valve and line together).
    #[must_use]
    pub fn installed(&self, opening: f64) -> f64 {
        let inherent = self.characteristic.flow(opening);
        let f = if self.authority < 1.0 {
            inherent / (self.authority + (1.0 - self.authority) * inherent * inherent).sqrt()
        } else {
            inherent
        };
        let leakage = self.leakage / 100.0;
        leakage + (1.0 - leakage) * f
    }

    /// Speed of the drive in %/s.
    fn speed(&self) -> f64 {
        let stroke = if self.stroke_time > 0.0 { 100.0 / self.stroke_time } else { f64::INFINITY };
        self.rate_limit.map_or(stroke, |limit| limit.min(stroke))
    }
}

/// What of a valve decides its stroke.
#[derive(Clone, Copy)]
struct Stroke {
    dead_band: f64,
    stick: f64,
    friction: f64,
    fail_position: FailPosition,
    speed: f64,
}

/// An actuator at work: once a scan it takes a command and says how it moves until the next.
#[derive(Debug, Clone)]
pub struct Actuator {
    spec: ActuatorSpec,
    scan: f64,
    /// What the stem follows, behind the dead band.
    pulled: f64,
    /// What the stem moves to, behind the friction.
    aim: f64,
    position: f64,
    /// Of a power stage: seconds into its cycle, and for how long it is on in this one.
    into_cycle: f64,
    on_for: f64,
}

impl Actuator {
    /// At rest at `position` %.
    #[must_use]
    pub fn new(spec: &ActuatorSpec, scan: f64, position: f64) -> Self {
        Self { spec: spec.clone(), scan, pulled: position, aim: position, position, into_cycle: 0.0, on_for: 0.0 }
    }

    /// The position at the next scan, %.
    #[must_use]
    #[inline]
    pub fn position(&self) -> f64 {
        self.position
    }

    /// The movement over the coming scan under `command` %, into `motion`; `stuck` holds the stem, `failed` lets it go to
    /// where it goes without supply.
    #[inline]
    pub fn travel(&mut self, command: f64, stuck: bool, failed: bool, motion: &mut Motion) {
        match &self.spec {
            ActuatorSpec::Direct {} => {
                if !stuck {
                    self.position = command;
                }
                motion.rest(self.position);
            }
            ActuatorSpec::PowerStage(stage) => {
                let wanted = if failed { 0.0 } else { command.clamp(0.0, 100.0) };
                let cycle = stage.cycle;
                if stuck || cycle == 0.0 {
                    self.position = if stuck { self.position } else { wanted };
                    motion.rest(self.position);
                } else {
                    self.switch(cycle, wanted, motion);
                }
            }
            ActuatorSpec::Valve(valve) => {
                let ValveSpec { dead_band, stick, friction, fail_position, .. } = *valve;
                let speed = valve.speed();
                self.stroke(
                    Stroke { dead_band, stick, friction, fail_position, speed },
                    command,
                    stuck,
                    failed,
                    motion,
                );
            }
        }
    }

    fn stroke(&mut self, valve: Stroke, command: f64, stuck: bool, failed: bool, motion: &mut Motion) {
        let command = match (failed, valve.fail_position) {
            (false, _) => command.clamp(0.0, 100.0),
            (true, FailPosition::Closed) => 0.0,
            (true, FailPosition::Open) => 100.0,
            (true, FailPosition::Stays) => self.position,
        };
        let half = 0.5 * valve.dead_band;
        self.pulled = if failed { command } else { self.pulled.clamp(command - half, command + half) };
        // Static and sliding friction after He, Wang, Pottmann & Qin, Ind. Eng. Chem. Res. 46, 2007: the stem stands
        // until the pull exceeds the static one, then slips until the sliding one holds it.
        let pull = self.pulled - self.aim;
        if failed {
            self.aim = command;
        } else if pull.abs() > valve.stick || valve.stick == 0.0 {
            self.aim = self.pulled - pull.signum() * valve.friction.min(pull.abs());
        }
        if stuck {
            self.aim = self.position;
            return motion.rest(self.position);
        }
        let (from, distance) = (self.position, self.aim - self.position);
        if distance == 0.0 || valve.speed.is_infinite() {
            self.position = self.aim;
            return motion.rest(self.position);
        }
        let (time, slope) = (distance.abs() / valve.speed, valve.speed.copysign(distance));
        if time >= self.scan {
            self.position = from + slope * self.scan;
            return motion.set(&[Piece { end: f64::INFINITY, from, slope }]);
        }
        self.position = self.aim;
        motion.set(&[Piece { end: time, from, slope }, Piece { end: f64::INFINITY, from: self.aim, slope: 0.0 }]);
    }

    /// On and off over the coming scan, in which at most one new cycle begins.
    fn switch(&mut self, cycle: f64, wanted: f64, motion: &mut Motion) {
        let mut pieces = [Piece::default(); 4];
        let (mut used, mut now) = (0, 0.0);
        if self.into_cycle == 0.0 {
            self.on_for = wanted / 100.0 * cycle;
        }
        while now < self.scan && used < 4 {
            let on = self.into_cycle < self.on_for;
            let lasts = if on { self.on_for } else { cycle } - self.into_cycle;
            let end = (now + lasts).min(self.scan);
            pieces[used] = Piece { end, from: if on { 100.0 } else { 0.0 }, slope: 0.0 };
            used += 1;
            self.into_cycle += end - now;
            now = end;
            if self.into_cycle >= cycle * (1.0 - 1e-12) {
                self.into_cycle = 0.0;
                self.on_for = wanted / 100.0 * cycle;
            }
        }
        self.position = wanted;
        motion.set(&pieces[..used]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The movement over one scan.
    fn moved(actuator: &mut Actuator, command: f64, stuck: bool, failed: bool) -> Motion {
        let mut motion = Motion::resting(0.0);
        actuator.travel(command, stuck, failed, &mut motion);
        motion
    }

    fn valve(edit: impl Fn(&mut ValveSpec)) -> ActuatorSpec {
        let mut spec = ValveSpec::default();
        edit(&mut spec);
        ActuatorSpec::Valve(spec)
    }

    #[test]
    fn installed_characteristic_of_a_line_with_losses() {
        // A linear valve that takes a tenth of the drop passes at 20 % opening 0.2/√(0.1 + 0.9·0.04) = 54.2 %.
        let installed = valve(|v| v.authority = 0.1).effect(20.0);
        assert!((installed - 100.0 * 0.2 / (0.1f64 + 0.9 * 0.04).sqrt()).abs() < 1e-12);
        let equal = valve(|v| {
            v.characteristic = Characteristic::EqualPercentage { rangeability: 50.0 };
            v.leakage = 1.0;
        });
        assert!((equal.effect(0.0) - (1.0 + 0.99 * 2.0)).abs() < 1e-12 && (equal.effect(100.0) - 100.0).abs() < 1e-12);
        let position = equal.position_for(30.0).unwrap();
        assert!((equal.effect(position) - 30.0).abs() < 1e-9 && equal.position_for(2.0).is_none());
    }

    #[test]
    fn a_stroke_takes_its_time() {
        let mut actuator = Actuator::new(&valve(|v| v.stroke_time = 20.0), 2.0, 0.0);
        let motion = moved(&mut actuator, 16.0, false, false);
        assert_eq!(motion.at(1.0), (5.0, 5.0, f64::INFINITY));
        assert_eq!(actuator.position(), 10.0);
        let motion = moved(&mut actuator, 16.0, false, false);
        assert_eq!((motion.at(1.0).0, motion.at(1.5).0, actuator.position()), (15.0, 16.0, 16.0));
        assert!((motion.at(0.0).2 - 1.2).abs() < 1e-12);
    }

    #[test]
    fn dead_band_and_friction_hold_the_stem() {
        let follow = |spec: &ActuatorSpec, commands: &[f64]| -> Vec<f64> {
            let mut actuator = Actuator::new(spec, 1.0, 50.0);
            commands
                .iter()
                .map(|command| {
                    moved(&mut actuator, *command, false, false);
                    actuator.position()
                })
                .collect()
        };
        let loose = valve(|v| v.dead_band = 2.0);
        assert_eq!(follow(&loose, &[50.5, 53.0, 52.0, 50.0]), [50.0, 52.0, 52.0, 51.0]);
        let sticky = valve(|v| (v.stick, v.friction) = (3.0, 1.0));
        assert_eq!(follow(&sticky, &[51.0, 53.0, 53.5, 54.0, 56.0, 49.0]), [50.0, 50.0, 52.5, 52.5, 55.0, 50.0]);
    }

    #[test]
    fn faults_hold_the_stem_or_let_it_go() {
        let spec = valve(|v| (v.stroke_time, v.fail_position) = (10.0, FailPosition::Open));
        let mut actuator = Actuator::new(&spec, 1.0, 50.0);
        moved(&mut actuator, 70.0, true, false);
        assert_eq!(actuator.position(), 50.0);
        moved(&mut actuator, 70.0, false, true);
        assert_eq!(actuator.position(), 60.0);
    }

    #[test]
    fn a_power_stage_is_on_for_its_share_of_the_cycle() {
        let spec = ActuatorSpec::PowerStage(PowerStageSpec { cycle: 5.0 });
        let mut actuator = Actuator::new(&spec, 2.0, 0.0);
        let step = 0.01;
        let mut on = 0.0;
        for _ in 0..50 {
            let motion = moved(&mut actuator, 30.0, false, false);
            on += (0..200).map(|k| motion.at((f64::from(k) + 0.5) * step).0 / 100.0 * step).sum::<f64>();
        }
        assert!((on - 30.0).abs() < 0.05, "{on}");
        assert!(spec.validate("plant.actuator", 8.0).unwrap_err().to_string().contains("the scan of 8 s at least"));
    }
}
