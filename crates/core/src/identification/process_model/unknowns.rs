//! The unknowns of a fit: where each stands, its bounds, and what it becomes in the model.

pub(super) use super::verdicts::LONGEST_DEAD_TIME;
use crate::identification::model::{Constraint, FitOptions};
use crate::identification::structure::{ParameterKind, Structure};
use crate::lti::Dynamics;
use crate::series::TimeAxis;
use crate::{Error, Result};

/// The way from one input to the PV, and where its unknowns stand.
#[derive(Debug, Clone)]
pub(super) struct Path {
    pub(super) structure: Structure,
    /// Place of the gain.
    pub(super) gain: usize,
    /// Place of the lead, where it has one.
    pub(super) lead: Option<usize>,
    /// Places of the logarithms of the shape parameters.
    pub(super) shape: Vec<usize>,
    /// Place of the dead time.
    pub(super) dead_time: usize,
}

/// Where the unknowns stand that are a stretch's own: they tell how the process was found there.
#[derive(Debug, Clone)]
pub(super) struct Own {
    /// Where the level is not known to be 0.
    pub(super) offset: Option<usize>,
    pub(super) drift: Option<usize>,
    /// Coefficients of what the states at the start left behind.
    pub(super) transients: Vec<Transient>,
    /// Sizes of steps of the PV that nothing measured explains.
    pub(super) steps: Vec<StepUnknown>,
}

/// The size of a step of the PV from a sample of its stretch on.
#[derive(Debug, Clone, Copy)]
pub(super) struct StepUnknown {
    pub(super) at: usize,
    pub(super) place: usize,
}

impl Own {
    /// Where they stand.
    fn places(&self) -> impl Iterator<Item = usize> + '_ {
        let transients = self.transients.iter().map(|transient| transient.place);
        let steps = self.steps.iter().map(|step| step.place);
        self.offset.iter().chain(&self.drift).copied().chain(transients).chain(steps)
    }

    /// How many unknowns these are.
    pub(super) fn count(&self) -> usize {
        self.transients.len()
            + self.steps.len()
            + usize::from(self.drift.is_some())
            + usize::from(self.offset.is_some())
    }
}

/// The coefficient of what a state of a path left behind at the start.
#[derive(Debug, Clone, Copy)]
pub(super) struct Transient {
    pub(super) path: usize,
    pub(super) state: usize,
    pub(super) place: usize,
}

/// What is known of where the process rested.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Rest {
    /// Nothing: level and drift are unknowns.
    Unknown,
    /// The data are deviations from rest: level and drift are 0, and nothing was under way.
    AtZero,
}

/// All unknowns: those of each path first, which all stretches have in common, then each stretch's own.
#[derive(Debug, Clone)]
pub(super) struct Layout {
    pub(super) paths: Vec<Path>,
    pub(super) stretches: Vec<Own>,
    pub(super) count: usize,
}

impl Layout {
    /// The unknowns of each path, the OP's first.
    pub(super) fn new(options: &FitOptions, inputs: usize, stretches: usize) -> Self {
        Self::with(options, inputs, &vec![Vec::new(); stretches], Rest::Unknown)
    }

    /// The same with steps at these samples of each stretch, and where something is known of the rest.
    pub(super) fn with(options: &FitOptions, inputs: usize, steps: &[Vec<usize>], rest: Rest) -> Self {
        let mut count = 0;
        let mut next = || {
            count += 1;
            count - 1
        };
        let mut paths = Vec::with_capacity(inputs);
        for input in 0..inputs {
            let structure = options.path(input);
            let mut path = Path { structure, gain: 0, lead: None, shape: Vec::new(), dead_time: 0 };
            for (_, kind) in structure.process_parameters() {
                match kind {
                    ParameterKind::Gain => path.gain = next(),
                    ParameterKind::Lead => path.lead = Some(next()),
                    ParameterKind::Shape(_) => path.shape.push(next()),
                    ParameterKind::DeadTime => path.dead_time = next(),
                }
            }
            paths.push(path);
        }
        let own = |steps: &Vec<usize>| {
            let is_unknown = rest == Rest::Unknown;
            let offset = is_unknown.then(&mut next);
            let drift = (is_unknown && (options.drift || options.structure.is_integrating())).then(&mut next);
            let mut transients = Vec::new();
            for (path, structure) in
                paths.iter().map(|path| path.structure).enumerate().filter(|_| is_unknown && options.initial_state)
            {
                let states: &[usize] = match structure {
                    // The integrator's own state at the start is the offset.
                    Structure::Integrating => &[],
                    Structure::IntegratingLag => &[1],
                    Structure::Fopdt => &[0],
                    _ => &[0, 1],
                };
                transients.extend(states.iter().map(|state| Transient { path, state: *state, place: next() }));
            }
            let steps = steps.iter().map(|at| StepUnknown { at: *at, place: next() }).collect();
            Own { offset, drift, transients, steps }
        };
        let stretches = steps.iter().map(own).collect();
        Self { paths, stretches, count }
    }

    /// The samples of each stretch at which there are steps.
    pub(super) fn steps(&self) -> Vec<Vec<usize>> {
        self.stretches.iter().map(|own| own.steps.iter().map(|step| step.at).collect()).collect()
    }

    /// Unknowns of another layout, which differs in its steps, at their places in this one; new steps have the size 0.
    pub(super) fn taken_over(&self, other: &Self, unknowns: &[f64]) -> Vec<f64> {
        let mut taken = vec![0.0; self.count];
        let of_paths = self.stretches.iter().flat_map(Own::places).min().unwrap_or(self.count);
        taken[..of_paths].copy_from_slice(&unknowns[..of_paths]);
        for (own, from) in self.stretches.iter().zip(&other.stretches) {
            let lasting = own.offset.iter().chain(&own.drift).zip(from.offset.iter().chain(&from.drift));
            lasting.for_each(|(to, place)| taken[*to] = unknowns[*place]);
            for (to, place) in own.transients.iter().zip(&from.transients) {
                taken[to.place] = unknowns[place.place];
            }
            for step in &own.steps {
                if let Some(known) = from.steps.iter().find(|known| known.at == step.at) {
                    taken[step.place] = unknowns[known.place];
                }
            }
        }
        taken
    }

    /// What is known of where the process rested.
    pub(super) fn rest(&self) -> Rest {
        if self.stretches.iter().all(|own| own.offset.is_none()) { Rest::AtZero } else { Rest::Unknown }
    }

    /// The place of a parameter of a path.
    pub(super) fn place(path: &Path, kind: ParameterKind) -> usize {
        match kind {
            ParameterKind::Gain => path.gain,
            ParameterKind::Lead => path.lead.unwrap_or(path.gain),
            ParameterKind::Shape(k) => path.shape[k],
            ParameterKind::DeadTime => path.dead_time,
        }
    }
}

impl Path {
    pub(super) fn shape_values(&self, unknowns: &[f64]) -> [f64; 2] {
        let mut values = [1.0; 2];
        for (value, place) in values.iter_mut().zip(&self.shape) {
            *value = unknowns[*place].exp();
        }
        values
    }

    pub(super) fn dynamics(&self, unknowns: &[f64]) -> Dynamics {
        self.structure.dynamics(self.shape_values(unknowns))
    }

    /// About how long the path takes, dead time aside, in s.
    pub(super) fn scale(&self, unknowns: &[f64]) -> f64 {
        self.shape.first().map_or(1.0, |place| unknowns[*place].exp())
    }
}

/// The range of each unknown.
#[derive(Debug, Clone)]
pub(super) struct Bounds {
    pub(super) ranges: Vec<(f64, f64)>,
}

impl Bounds {
    /// What stretches of these lengths can tell, narrowed by what is known beforehand.
    pub(super) fn new(
        layout: &Layout,
        axes: &[&TimeAxis],
        tags: &[String],
        constraints: &[Constraint],
    ) -> Result<Self> {
        let interval = axes.iter().map(|axis| axis.mean_interval()).fold(f64::INFINITY, f64::min);
        let duration = axes.iter().map(|axis| axis.duration()).fold(0.0, f64::max);
        let mut ranges = vec![(f64::MIN, f64::MAX); layout.count];
        for path in &layout.paths {
            for (name, kind) in path.structure.process_parameters() {
                ranges[Layout::place(path, *kind)] = match kind {
                    ParameterKind::DeadTime => (0.0, LONGEST_DEAD_TIME * duration),
                    ParameterKind::Shape(_) if *name == "damping" => (0.01f64.ln(), 20f64.ln()),
                    ParameterKind::Shape(_) => ((0.05 * interval).ln(), (20.0 * duration).ln()),
                    ParameterKind::Lead => (-20.0 * duration, 20.0 * duration),
                    ParameterKind::Gain => (f64::MIN, f64::MAX),
                };
            }
        }
        for constraint in constraints {
            let input = match &constraint.input {
                None => 0,
                Some(tag) => tags
                    .iter()
                    .position(|known| known == tag)
                    .ok_or_else(|| Error::invalid("constraints.input", tag, format!("one of {}", tags.join(", "))))?,
            };
            let path = &layout.paths[input];
            let known = path.structure.process_parameters();
            let Some((name, kind)) = known.iter().find(|(name, _)| *name == constraint.parameter) else {
                let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
                return Err(Error::invalid(
                    "constraints.parameter",
                    &constraint.parameter,
                    format!("one of {}", names.join(", ")),
                ));
            };
            let (low, high) = match constraint.fixed {
                Some(value) => (Some(value), Some(value)),
                None => (constraint.low, constraint.high),
            };
            let place = Layout::place(path, *kind);
            let inward = |value: f64| -> Result<f64> {
                match kind {
                    ParameterKind::Shape(_) if value.is_finite() && value > 0.0 => Ok(value.ln()),
                    ParameterKind::Shape(_) => Err(Error::invalid(format!("constraints.{name}"), value, "above 0")),
                    ParameterKind::DeadTime if !(0.0..=LONGEST_DEAD_TIME * duration).contains(&value) => {
                        Err(Error::invalid(
                            format!("constraints.{name}"),
                            value,
                            format!("0 to {} s, nine tenths of the data", LONGEST_DEAD_TIME * duration),
                        ))
                    }
                    _ if value.is_finite() => Ok(value),
                    _ => Err(Error::invalid(format!("constraints.{name}"), value, "a number")),
                }
            };
            let range = &mut ranges[place];
            if let Some(low) = low {
                range.0 = inward(low)?;
            }
            if let Some(high) = high {
                range.1 = inward(high)?;
            }
            if range.0 > range.1 {
                let words = name.replace('_', " ");
                return Err(Error::said(
                    format!("constraints.{name}"),
                    format!(
                        "The lowest {words} ({}) is above the highest ({}).",
                        low.unwrap_or_default(),
                        high.unwrap_or_default()
                    ),
                ));
            }
        }
        Ok(Self { ranges })
    }

    pub(super) fn clamped(&self, unknowns: &[f64]) -> Vec<f64> {
        unknowns.iter().zip(&self.ranges).map(|(value, (low, high))| value.clamp(*low, *high)).collect()
    }

    /// The unknowns whose value is given.
    pub(super) fn is_fixed(&self, place: usize) -> bool {
        self.ranges[place].0 == self.ranges[place].1
    }

    /// The unknowns that stand at a bound.
    pub(super) fn active(&self, unknowns: &[f64]) -> Vec<usize> {
        let at_bound = |place: &usize| {
            let (low, high) = self.ranges[*place];
            unknowns[*place] <= low || unknowns[*place] >= high
        };
        (0..unknowns.len()).filter(at_bound).collect()
    }
}
