//! What is tuned for: a process of low order, and what stands between it and the controller.

use super::first_trial::process_of;
use crate::Result;
use crate::instrument::{ActuatorSpec, SensorSpec};
use crate::process::LinearSpec;
use crate::simulation::Plant;

/// A process with its sensor, as rules, searches, maps and simulations take it alike.
#[derive(Debug, Clone, PartialEq)]
pub struct Controlled {
    /// The process.
    pub process: LinearSpec,
    /// Lag, dead time and filter of the sensor; the rest of it does not count.
    pub sensor: SensorSpec,
}

impl Controlled {
    /// A process whose PV comes to the controller as it is.
    #[must_use]
    pub fn plain(process: LinearSpec) -> Self {
        Self { process, sensor: SensorSpec::default() }
    }

    /// That of a plant: a linear process as it is, anything else by the low-order process nearest to what lies between OP
    /// and the filter of the PV.
    pub fn of(plant: &Plant) -> Result<Self> {
        let sensor = quiet(&plant.sensor);
        let driven_plainly = plant.actuator == ActuatorSpec::Direct {} && plant.drive.is_none();
        if let (Some(process), true) = (plant.process.as_linear(), driven_plainly) {
            return Ok(Self { process: process.clone(), sensor });
        }
        // The nearest process has the lag and dead time of the sensor in it.
        let filter = SensorSpec { filter: sensor.filter, ..SensorSpec::default() };
        Ok(Self { process: process_of(plant)?, sensor: filter })
    }

    /// The process as a controller sees it that is scanned every `scan` s: with half a scan of dead time for the hold, the
    /// sensor's own, and its lags by the half rule (Skogestad, J. Process Control 13, 2003): of the largest lag that is left
    /// out one half goes to the last that stays and one half to the dead time, of all others the whole.
    #[must_use]
    pub fn as_seen(&self, scan: f64) -> LinearSpec {
        let SensorSpec { time_constant, damping, dead_time, filter, .. } = self.sensor;
        let lag = damping.map_or(time_constant, |damping| 2.0 * damping * time_constant);
        let mut extra: Vec<f64> = [lag, filter].into_iter().filter(|lag| *lag > 0.0).collect();
        extra.sort_by(|a, b| b.total_cmp(a));
        let later = dead_time + 0.5 * scan;
        // The lags that stay, the largest first, and what the others add to the dead time.
        let reduced = |own: &[f64]| {
            let mut all: Vec<f64> = own.iter().copied().chain(extra.iter().copied()).collect();
            all.sort_by(|a, b| b.total_cmp(a));
            let left_out = all.split_off(own.len());
            let half = 0.5 * left_out.first().copied().unwrap_or(0.0);
            if let Some(last) = all.last_mut() {
                *last += half;
            }
            (all, later + half + left_out.iter().skip(1).sum::<f64>())
        };
        match self.process.clone() {
            LinearSpec::Fopdt { gain, time_constant, dead_time } => {
                let (lags, more) = reduced(&[time_constant]);
                LinearSpec::Fopdt { gain, time_constant: lags[0], dead_time: dead_time + more }
            }
            LinearSpec::TwoLags { gain, time_constant_1, time_constant_2, lead_time_constant, dead_time } => {
                let (lags, more) = reduced(&[time_constant_1, time_constant_2]);
                LinearSpec::TwoLags {
                    gain,
                    time_constant_1: lags[0],
                    time_constant_2: lags[1],
                    lead_time_constant,
                    dead_time: dead_time + more,
                }
            }
            LinearSpec::IntegratingLag { gain, time_constant, dead_time } => {
                let (lags, more) = reduced(&[time_constant]);
                LinearSpec::IntegratingLag { gain, time_constant: lags[0], dead_time: dead_time + more }
            }
            LinearSpec::Integrating { gain, dead_time } => {
                LinearSpec::Integrating { gain, dead_time: dead_time + reduced(&[]).1 }
            }
            LinearSpec::SecondOrder { gain, time_constant, damping, dead_time } => {
                let more = later + extra.iter().sum::<f64>();
                LinearSpec::SecondOrder { gain, time_constant, damping, dead_time: dead_time + more }
            }
        }
    }
}

/// What a sensor does to a small signal without noise.
fn quiet(sensor: &SensorSpec) -> SensorSpec {
    let SensorSpec { time_constant, damping, dead_time, filter, .. } = *sensor;
    SensorSpec { time_constant, damping, dead_time, filter, ..SensorSpec::default() }
}

#[cfg(test)]
mod tests {
    use super::*;

    const FOPDT: LinearSpec = LinearSpec::Fopdt { gain: 1.2, time_constant: 20.0, dead_time: 3.0 };

    #[test]
    fn lags_of_the_sensor_go_by_the_half_rule_and_the_hold_is_half_a_scan() {
        let seen = |process: LinearSpec, lag: f64, filter: f64, scan: f64| {
            let sensor =
                SensorSpec { time_constant: lag, filter, dead_time: 0.25, noise: 3.0, ..SensorSpec::default() };
            Controlled { process, sensor }.as_seen(scan)
        };
        // Skogestad 2003, section 2: τ₁ = 20 + 10/2, θ = 3 + 10/2 + 2, beside half a scan and the sensor's dead time.
        let LinearSpec::Fopdt { time_constant, dead_time, .. } = seen(FOPDT, 2.0, 10.0, 1.0) else { panic!() };
        assert!((time_constant - 25.0).abs() < 1e-12 && (dead_time - 10.75).abs() < 1e-12);
        // A filter slower than the process is the lag that stays.
        let LinearSpec::Fopdt { time_constant, dead_time, .. } = seen(FOPDT, 0.0, 60.0, 0.0) else { panic!() };
        assert!((time_constant - 70.0).abs() < 1e-12 && (dead_time - 13.25).abs() < 1e-12);
        let two = LinearSpec::TwoLags {
            gain: 1.0,
            time_constant_1: 30.0,
            time_constant_2: 5.0,
            lead_time_constant: 0.0,
            dead_time: 1.0,
        };
        let LinearSpec::TwoLags { time_constant_1, time_constant_2, dead_time, .. } = seen(two, 8.0, 2.0, 0.0) else {
            panic!()
        };
        assert_eq!((time_constant_1, time_constant_2, dead_time), (30.0, 10.5, 1.0 + 0.25 + 2.5 + 2.0));
        let level = LinearSpec::Integrating { gain: 0.01, dead_time: 0.0 };
        let LinearSpec::Integrating { dead_time, .. } = seen(level, 4.0, 2.0, 2.0) else { panic!() };
        assert!((dead_time - (0.25 + 1.0 + 2.0 + 2.0)).abs() < 1e-12);
        assert_eq!(Controlled::plain(FOPDT).as_seen(0.0), FOPDT);
    }
}
