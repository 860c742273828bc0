//! An OP at work: its actuator and where that stood in the last scans.

use super::schedule::Scans;
use crate::instrument::{Actuator, ActuatorSpec, Motion};

/// An OP at work.
pub(super) struct Driving {
    /// What is set, %, held until the next scan.
    pub output: f64,
    actuator: Actuator,
    /// Movements of the actuator in the last scans; scan k stands at k modulo the length, a power of two.
    motions: Vec<Motion>,
    resting: Motion,
    sticking: Vec<Scans>,
    failing: Vec<Scans>,
    has_faults: bool,
    /// Position of the actuator at the last scan from which it travelled, %.
    pub position: f64,
    /// % of the drive per unit of the driven input.
    pub per_unit: f64,
}

impl Driving {
    /// At rest at `output` %; movements are kept for `longest` scans.
    pub fn new(
        spec: &ActuatorSpec,
        scan: f64,
        output: f64,
        longest: usize,
        faults: [&[Scans]; 2],
        per_unit: f64,
    ) -> Self {
        let resting = Motion::resting(output);
        Self {
            output,
            actuator: Actuator::new(spec, scan, output),
            motions: vec![resting; (longest + 2).next_power_of_two()],
            resting,
            sticking: faults[0].to_vec(),
            failing: faults[1].to_vec(),
            has_faults: faults.iter().any(|scans| !scans.is_empty()),
            position: output,
            per_unit,
        }
    }

    /// Where the actuator stands now, %.
    pub fn stands_at(&self) -> f64 {
        self.actuator.position()
    }

    /// Notes where the actuator stands, and lets it travel to what is set, over the coming scan.
    #[inline]
    pub fn travel(&mut self, scan_number: usize) {
        self.position = self.actuator.position();
        let at = |scans: &Vec<Scans>| scans.iter().any(|scans| scans.contains(&scan_number));
        let (stuck, failed) = if self.has_faults { (at(&self.sticking), at(&self.failing)) } else { (false, false) };
        let slot = self.slot(scan_number);
        self.actuator.travel(self.output, stuck, failed, &mut self.motions[slot]);
    }

    /// Where the movement of a scan stands; a power of two as the length makes it cheap.
    #[inline]
    fn slot(&self, scan_number: usize) -> usize {
        scan_number & (self.motions.len() - 1)
    }

    /// The movement `back` scans before this one.
    #[inline]
    pub fn motion(&self, scan_number: usize, back: usize) -> &Motion {
        scan_number.checked_sub(back).map_or(&self.resting, |of| &self.motions[self.slot(of)])
    }
}
