//! What a predictive controller believes: the state of its model, and the disturbances that explain what the model does not.

use super::settings::{DisturbanceAt, PredictiveSettings};
use crate::estimation::SteadyKalman;
use crate::lti::Discrete;
use crate::numerics::{MOST_SWEEPS, eigenvalues};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;

/// What settles no slower than this a scan settles.
const SETTLES: f64 = 1.0 - 1e-9;
/// Share of its largest that a matrix's least singular value must have, for a state to be told.
const TOLD: f64 = 1e-10;
/// What states gain in a scan by what nobody knows, in % of the inputs: as good as nothing beside the disturbances.
const UNREST: f64 = 1e-4;

/// The model as it is believed to stand, followed by a steady Kalman filter.
#[derive(Debug, Clone)]
pub(super) struct Observer {
    pub model: Discrete,
    /// What disturbances do to the states of the process in a scan, and to the outputs.
    pub to_states: DMatrix<f64>,
    pub to_outputs: DMatrix<f64>,
    /// Of which CV each disturbance is, and where it acts.
    pub places: Vec<(usize, DisturbanceAt)>,
    gain: DMatrix<f64>,
    /// States of the model, in deviations from where the loop rested at first, and the disturbances.
    pub x: DVector<f64>,
    pub d: DVector<f64>,
    /// Room for the step.
    next: DVector<f64>,
    new: DVector<f64>,
}

impl Observer {
    /// For a model whose outputs are in % of span. Errors where the disturbances cannot be told from the measurements.
    pub fn new(settings: &PredictiveSettings, model: Discrete) -> Result<Self> {
        let own = model.own();
        let phi = model.matrices().0.view((0, 0), (own, own)).into_owned();
        let c = model.matrices().2.columns(0, own).into_owned();
        let places = places(settings, &model, &phi, &c)?;
        let (standing, direct) = (model.of_standing_inputs(), model.felt_directly());
        let (mut to_states, mut to_outputs) =
            (DMatrix::zeros(own, places.len()), DMatrix::zeros(model.outputs(), places.len()));
        let mut unrest = DMatrix::zeros(own + places.len(), own + places.len());
        if eigenvalues(phi.clone()).iter().any(|root| root.norm() > SETTLES) {
            let moved = standing.columns(0, settings.mvs.len());
            unrest.view_mut((0, 0), (own, own)).copy_from(&(moved * moved.transpose() * (UNREST * UNREST)));
        }
        for (at, (cv, place)) in places.iter().enumerate() {
            let after = settings.cvs[*cv].believes_after(model.scan());
            // A random walk that a filter follows with the gain 1 − e^(−h/T), in terms of the noise of the sensor.
            let share = (1.0 - (-model.scan() / after).exp()).min(1.0 - 1e-6);
            let mut step = share * share / (1.0 - share);
            match place {
                DisturbanceAt::Input(_) | DisturbanceAt::Parameter(_) => {
                    let named = |name: &String| settings.used_inputs().position(|input| input == name).unwrap_or(0);
                    let input =
                        if let DisturbanceAt::Input(name) = place { named(name) } else { at % settings.mvs.len() };
                    to_states.set_column(at, &standing.column(input));
                    to_outputs.set_column(at, &direct.column(input));
                    // It shows by and by: by so much after that time.
                    let shown = shown_after(&phi, &c, *cv, &to_states.column(at).into_owned(), after / model.scan());
                    step /= (shown + direct[(*cv, input)]).powi(2).max(1e-12);
                }
                _ => to_outputs[(*cv, at)] = 1.0,
            }
            unrest[(own + at, own + at)] = step;
        }
        // What nothing measures corrects nothing.
        let measured: Vec<usize> = (0..settings.cvs.len()).filter(|k| settings.cvs[*k].is_measured()).collect();
        let (seen, shown) = (c.select_rows(&measured), to_outputs.select_rows(&measured));
        let told = gain(&phi, &seen, [&to_states, &shown], &unrest).ok_or_else(|| {
            let who: Vec<&str> = places.iter().map(|(cv, _)| settings.cvs[*cv].tag.as_str()).collect();
            let sentence = format!(
                "What disturbs {} cannot be told from the measurements like this: something in the model neither settles nor shows \
                 apart from the disturbances. Let a disturbance act elsewhere, or measure more.",
                who.join(", ")
            );
            let first = places.first().map_or(0, |(cv, _)| *cv);
            Error::said(format!("controller.cvs[{first}].disturbance"), sentence)
        })?;
        let (order, disturbances, outputs) = (model.order(), places.len(), model.outputs());
        let mut gain = DMatrix::zeros(told.nrows(), outputs);
        for (from, to) in measured.iter().enumerate() {
            gain.set_column(*to, &told.column(from));
        }
        Ok(Self {
            model,
            to_states,
            to_outputs,
            places,
            gain,
            x: DVector::zeros(order),
            d: DVector::zeros(disturbances),
            next: DVector::zeros(order),
            new: DVector::zeros(outputs),
        })
    }

    /// Carried to the next scan, in which these inputs stood.
    pub fn advance(&mut self, inputs: &DVector<f64>) {
        let (phi, gamma, _) = self.model.matrices();
        self.next.gemv(1.0, phi, &self.x, 0.0);
        self.next.gemv(1.0, gamma, inputs, 1.0);
        let mut own = self.next.rows_mut(0, self.to_states.nrows());
        own.gemv(1.0, &self.to_states, &self.d, 1.0);
        std::mem::swap(&mut self.x, &mut self.next);
    }

    /// The outputs as they are believed to be.
    pub fn outputs(&self, into: &mut DVector<f64>) {
        into.gemv(1.0, self.model.matrices().2, &self.x, 0.0);
        into.gemv(1.0, &self.to_outputs, &self.d, 1.0);
    }

    /// Corrected by what is measured; what is no number is not there to be believed.
    pub fn correct(&mut self, measured: &[f64]) {
        let mut new = std::mem::replace(&mut self.new, DVector::zeros(0));
        self.outputs(&mut new);
        for (new, measured) in new.iter_mut().zip(measured) {
            *new = if measured.is_finite() { measured - *new } else { 0.0 };
        }
        let own = self.to_states.nrows();
        self.x.rows_mut(0, own).gemv(1.0, &self.gain.rows(0, own), &new, 1.0);
        self.d.gemv(1.0, &self.gain.rows(own, self.d.len()), &new, 1.0);
        self.new = new;
    }

    /// By how much what was not expected corrects the states of the process, and the disturbances.
    pub fn gains(&self) -> (DMatrix<f64>, DMatrix<f64>) {
        let own = self.to_states.nrows();
        (self.gain.rows(0, own).into_owned(), self.gain.rows(own, self.d.len()).into_owned())
    }

    /// The same with MVs that act so many times as strongly; what disturbs is believed as before.
    pub fn acting(&self, factors: &[f64]) -> Self {
        Self { model: self.model.acting(factors), ..self.clone() }
    }

    /// Believes that all has stood still for long with these inputs, in deviations from where it rested at first.
    pub fn rest(&mut self) {
        self.x.fill(0.0);
        self.d.fill(0.0);
    }
}

/// Where the disturbance of each CV acts; nothing for those of which the model is right.
fn places(
    settings: &PredictiveSettings,
    model: &Discrete,
    phi: &DMatrix<f64>,
    c: &DMatrix<f64>,
) -> Result<Vec<(usize, DisturbanceAt)>> {
    let inputs: Vec<&str> = settings.used_inputs().collect();
    let restless: Vec<Complex64> =
        eigenvalues(phi.clone()).into_iter().filter(|root| root.norm() > SETTLES && root.im >= 0.0).collect();
    let mut taken: Vec<&str> = settings
        .cvs
        .iter()
        .filter_map(
            |cv| if let Some(DisturbanceAt::Input(name)) = &cv.disturbance { Some(name.as_str()) } else { None },
        )
        .collect();
    let mut places = Vec::new();
    for (k, cv) in settings.cvs.iter().enumerate() {
        let field = format!("controller.cvs[{k}].disturbance");
        match &cv.disturbance {
            _ if !cv.is_measured() => {}
            Some(DisturbanceAt::Nowhere) => {}
            Some(DisturbanceAt::Input(name)) => {
                if !inputs.contains(&name.as_str()) {
                    return Err(Error::invalid(field, format!("input “{name}”"), inputs.join(", ")));
                }
                if taken.iter().filter(|other| *other == name).count() > 1 {
                    let allowed = "an input that no other disturbance acts at";
                    return Err(Error::invalid(field, format!("input “{name}”"), allowed));
                }
                places.push((k, DisturbanceAt::Input(name.clone())));
            }
            // What the equations make of it is theirs to tell: here it stands for what it is of.
            Some(DisturbanceAt::Parameter(name)) => {
                let same = |place: &(usize, DisturbanceAt)| place.1 == DisturbanceAt::Parameter(name.clone());
                if places.iter().any(same) {
                    let allowed = "one that no other CV is told by";
                    return Err(Error::invalid(field, format!("parameter “{name}”"), allowed));
                }
                places.push((k, DisturbanceAt::Parameter(name.clone())));
            }
            Some(DisturbanceAt::Output) => places.push((k, DisturbanceAt::Output)),
            None if restless.iter().all(|root| !sees(phi, c, k, *root)) => places.push((k, DisturbanceAt::Output)),
            None => {
                // What does not settle hides a disturbance at its output: it must come in with something that moves it.
                let scans = settings.scans_ahead(model.scan())?;
                let free = inputs.iter().enumerate().filter(|(_, name)| !taken.contains(name));
                let effect = |input: usize| model.step_response(input, scans)[(scans - 1, k)].abs();
                let Some((_, name)) = free.max_by(|a, b| effect(a.0).total_cmp(&effect(b.0))) else {
                    let sentence =
                        format!("{} does not settle by itself, and no input is left for its disturbance.", cv.tag);
                    return Err(Error::said(field, sentence));
                };
                taken.push(name);
                places.push((k, DisturbanceAt::Input((*name).to_owned())));
            }
        }
    }
    Ok(places)
}

/// Whether an output sees the mode of this eigenvalue.
fn sees(phi: &DMatrix<f64>, c: &DMatrix<f64>, output: usize, root: Complex64) -> bool {
    let n = phi.nrows();
    let shifted = |rows: usize| {
        DMatrix::from_fn(rows, n, |i, j| match i {
            i if i == n => Complex64::from(c[(output, j)]),
            i if i == j => phi[(i, j)] - root,
            i => Complex64::from(phi[(i, j)]),
        })
    };
    rank(shifted(n + 1)) > rank(shifted(n))
}

fn rank(matrix: DMatrix<Complex64>) -> usize {
    let Some(svd) = matrix.try_svd(false, false, f64::EPSILON, MOST_SWEEPS) else { return 0 };
    let largest = svd.singular_values.max();
    svd.singular_values.iter().filter(|value| **value > TOLD * largest).count()
}

/// How much of a unit disturbance an output shows after so many scans.
fn shown_after(phi: &DMatrix<f64>, c: &DMatrix<f64>, output: usize, into: &DVector<f64>, scans: f64) -> f64 {
    let mut x = DVector::zeros(phi.nrows());
    for _ in 0..(scans.ceil() as usize).clamp(1, 10_000) {
        x = phi * &x + into;
    }
    (c.row(output) * x)[0]
}

/// The gain of the filter over the states of the process and the disturbances. None where something cannot be told.
fn gain(
    phi: &DMatrix<f64>,
    c: &DMatrix<f64>,
    [to_states, to_outputs]: [&DMatrix<f64>; 2],
    unrest: &DMatrix<f64>,
) -> Option<DMatrix<f64>> {
    let (own, count, outputs) = (phi.nrows(), to_states.ncols(), c.nrows());
    let mut all = DMatrix::identity(own + count, own + count);
    all.view_mut((0, 0), (own, own)).copy_from(phi);
    all.view_mut((0, own), (own, count)).copy_from(to_states);
    let mut seen = DMatrix::zeros(outputs, own + count);
    seen.columns_mut(0, own).copy_from(c);
    seen.columns_mut(own, count).copy_from(to_outputs);
    // Popov, Belevitch & Hautus at z = 1: a disturbance that stands must show.
    if count > 0 {
        let mut test = DMatrix::zeros(own + count + outputs, own + count);
        test.rows_mut(0, own + count).copy_from(&(&all - DMatrix::identity(own + count, own + count)));
        test.rows_mut(own + count, outputs).copy_from(&seen);
        if rank(test.map(Complex64::from)) < own + count {
            return None;
        }
    }
    SteadyKalman::new(&all, &seen, unrest, &DMatrix::identity(outputs, outputs)).map(|filter| filter.gain)
}
