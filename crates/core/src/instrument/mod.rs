//! Between controller and process: valves and power stages on one side, sensors on the other.

mod actuator;
mod characteristic;
mod motion;
mod noise;
mod sensor;

pub use actuator::{Actuator, ActuatorSpec, FailPosition, PowerStageSpec, ValveSpec};
pub use characteristic::Characteristic;
pub use motion::{Motion, Piece};
pub use noise::Noise;
pub use sensor::{Failure, Sensor, SensorSpec};
