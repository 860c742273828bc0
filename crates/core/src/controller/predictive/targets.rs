//! Where a predictive controller wants to rest: the first of its two layers.

use super::observer::Observer;
use super::settings::{LimitOfCv, PredictiveSettings};
use crate::numerics::{Ending, MOST_SWEEPS, RankedNormal, RankedProgram, Solved};
use crate::{Error, Result};
use nalgebra::{DMatrix, DVector};

/// What is only wished counts so much less than a set point that it never moves one.
const WISH: f64 = 1e-8;
/// What an hour at 1 % costs, beside the square of an error of 1 % of span.
const COST: f64 = 1e-6;
/// What else stays where it is.
const STAY: f64 = 1e-10;
/// Share of the largest singular value below which a direction is free.
const FREE: f64 = 1e-11;

/// All states of rest of the model: `(x; u) = L⁺ b + N v`, where `b` is what disturbances do in a scan.
#[derive(Debug, Clone)]
pub(super) struct Targets {
    own: usize,
    /// L⁺: (own + MVs) × own.
    particular: DMatrix<f64>,
    /// N: (own + MVs) × directions.
    free: DMatrix<f64>,
    /// Outputs by states and MVs.
    seen: DMatrix<f64>,
    /// What disturbances and measured disturbances do.
    to_states: DMatrix<f64>,
    to_outputs: DMatrix<f64>,
    program: RankedProgram,
    /// Its matrix, and its normals as rows.
    pub matrices: (DMatrix<f64>, DMatrix<f64>),
    weights: Vec<f64>,
    /// Outputs and MVs by `v`.
    outputs_by_v: DMatrix<f64>,
    mvs_by_v: DMatrix<f64>,
    /// The limits of the CVs, which stand among the constraints behind those of the MVs.
    limits: Vec<LimitOfCv>,
    /// Where it rests: states and MVs, and outputs.
    pub rest: DVector<f64>,
    pub outputs: DVector<f64>,
    /// How the last program ended.
    pub solved: Solved,
    linear: Vec<f64>,
    bounds: Vec<f64>,
}

/// What targets are sought for.
pub(super) struct Wanted<'a> {
    /// Set points, in % of span from where the loop rested at first.
    pub set_points: &'a [f64],
    /// Whether each CV is led to its set point now.
    pub followed: &'a [bool],
    /// All limits of the CVs.
    pub limits: &'a [f64],
    /// Limits of the MVs.
    pub mv_limits: &'a [(f64, f64)],
    /// Where the MVs would like to be; no number for anywhere.
    pub wishes: &'a [f64],
}

impl Targets {
    pub fn new(settings: &PredictiveSettings, observer: &Observer) -> Result<Self> {
        let model = &observer.model;
        let (own, m, p) = (model.own(), settings.mvs.len(), settings.cvs.len());
        let (standing, direct) = (model.of_standing_inputs(), model.felt_directly());
        // L (x; u) = b, with as many rows of zeros as it takes to have all directions.
        let mut l = DMatrix::zeros(own + m, own + m);
        let phi = model.matrices().0.view((0, 0), (own, own));
        l.view_mut((0, 0), (own, own)).copy_from(&(DMatrix::identity(own, own) - phi));
        l.view_mut((0, own), (own, m)).copy_from(&-standing.columns(0, m));
        let no_rest =
            || Error::said("controller.model", "The model has no states of rest that the MVs can bring about.");
        let svd = l.try_svd(true, true, f64::EPSILON, MOST_SWEEPS).ok_or_else(no_rest)?;
        let (Some(u), Some(v_t)) = (&svd.u, &svd.v_t) else { return Err(no_rest()) };
        let largest = svd.singular_values.max();
        let mut particular = DMatrix::zeros(own + m, own);
        let mut directions = Vec::new();
        for (k, value) in svd.singular_values.iter().enumerate() {
            if *value > FREE * largest {
                particular += v_t.row(k).transpose() * u.column(k).rows(0, own).transpose() / *value;
            } else {
                directions.push(v_t.row(k).transpose());
            }
        }
        let free = DMatrix::from_columns(&directions);
        let mut seen = DMatrix::zeros(p, own + m);
        seen.columns_mut(0, own).copy_from(&model.matrices().2.columns(0, own));
        seen.columns_mut(own, m).copy_from(&direct.columns(0, m));
        let (dvs, disturbances) = (settings.dvs.len(), observer.d.len());
        let join = |left: nalgebra::DMatrixView<f64>, right: &DMatrix<f64>| {
            let mut both = DMatrix::zeros(right.nrows(), disturbances + dvs);
            both.columns_mut(0, disturbances).copy_from(right);
            both.columns_mut(disturbances, dvs).copy_from(&left);
            both
        };
        let to_states = join(standing.columns(m, dvs).as_view(), &observer.to_states);
        let to_outputs = join(direct.columns(m, dvs).as_view(), &observer.to_outputs);
        let outputs_by_v = &seen * &free;
        let mvs_by_v = free.rows(own, m).into_owned();
        let count = free.ncols();
        let weights: Vec<f64> = settings.cvs.iter().map(|cv| cv.weight).collect();
        let mut g = DMatrix::identity(count, count) * STAY;
        for (k, cv) in settings.cvs.iter().enumerate().filter(|(_, cv)| cv.follows_set_point) {
            g += outputs_by_v.row(k).transpose() * outputs_by_v.row(k) * (cv.weight * cv.weight);
        }
        for (j, _) in settings.mvs.iter().enumerate().filter(|(_, mv)| mv.rests_at.is_some()) {
            g += mvs_by_v.row(j).transpose() * mvs_by_v.row(j) * WISH;
        }
        let mut rows: Vec<RankedNormal> = Vec::new();
        for j in 0..m {
            for sign in [1.0, -1.0] {
                rows.push((mvs_by_v.row(j).iter().map(|value| sign * value).collect(), None));
            }
        }
        let limits = settings.limits();
        for LimitOfCv { cv, side, limit } in &limits {
            rows.push((outputs_by_v.row(*cv).iter().map(|value| side.sign() * value).collect(), Some(limit.rank)));
        }
        let bounds = vec![f64::NEG_INFINITY; rows.len()];
        let program = RankedProgram::new(&g, &rows).ok_or_else(no_rest)?;
        let normals = DMatrix::from_fn(rows.len(), count, |row, k| rows[row].0[k]);
        Ok(Self {
            matrices: (g, normals),
            own,
            particular,
            rest: DVector::zeros(own + m),
            outputs: DVector::zeros(p),
            seen,
            to_states,
            to_outputs,
            program,
            weights,
            outputs_by_v,
            mvs_by_v,
            limits,
            free,
            solved: Solved { ending: Ending::Solved, steps: 0, gave_way: false },
            linear: vec![0.0; count],
            bounds,
        })
    }

    /// Seeks where to rest, from where the states and the MVs are now; `acting` are the disturbances, then the measured ones.
    pub fn seek(&mut self, settings: &PredictiveSettings, now: &DVector<f64>, acting: &DVector<f64>, wanted: &Wanted) {
        self.pose(settings, now, acting, wanted);
        self.solved = self.program.solve(&self.linear, &self.bounds, settings.most_steps as usize);
        let v = DVector::from_column_slice(self.program.x());
        self.take(&v, acting);
        if self.solved.ending == Ending::Infeasible {
            // Nothing rests within the limits: the MVs go as far as they may.
            for j in 0..settings.mvs.len() {
                let (low, high) = wanted.mv_limits[j];
                self.rest[self.own + j] = self.rest[self.own + j].clamp(low, high);
            }
        }
    }

    /// Takes the directions `v` for the optimum.
    pub(super) fn take(&mut self, v: &DVector<f64>, acting: &DVector<f64>) {
        self.rest = &self.particular * (&self.to_states * acting) + &self.free * v;
        self.outputs = &self.seen * &self.rest + &self.to_outputs * acting;
    }

    /// The program as it was last posed: its linear term and its bounds.
    pub(super) fn posed(&self) -> (&[f64], &[f64]) {
        (&self.linear, &self.bounds)
    }

    /// Poses the program: by what its linear term and its bounds are.
    pub(super) fn pose(
        &mut self,
        settings: &PredictiveSettings,
        now: &DVector<f64>,
        acting: &DVector<f64>,
        wanted: &Wanted,
    ) {
        let p = settings.cvs.len();
        let particular = &self.particular * (&self.to_states * acting);
        let outputs = &self.seen * &particular + &self.to_outputs * acting;
        let stays = self.free.transpose() * (now - &particular);
        for (linear, stays) in self.linear.iter_mut().zip(stays.iter()) {
            *linear = -STAY * stays;
        }
        for k in (0..p).filter(|k| settings.cvs[*k].follows_set_point) {
            // One that is not followed now stays where it is.
            let error = if wanted.followed[k] {
                wanted.set_points[k] - outputs[k]
            } else {
                (self.outputs_by_v.row(k) * &stays)[0]
            };
            for (linear, by_v) in self.linear.iter_mut().zip(self.outputs_by_v.row(k).iter()) {
                *linear -= self.weights[k] * self.weights[k] * error * by_v;
            }
        }
        for (j, mv) in settings.mvs.iter().enumerate() {
            let wish =
                if wanted.wishes[j].is_finite() { WISH * (wanted.wishes[j] - particular[self.own + j]) } else { 0.0 };
            for (linear, by_v) in self.linear.iter_mut().zip(self.mvs_by_v.row(j).iter()) {
                *linear += (COST * mv.cost - wish) * by_v;
            }
            let (low, high) = wanted.mv_limits[j];
            self.bounds[2 * j] = low - particular[self.own + j];
            self.bounds[2 * j + 1] = particular[self.own + j] - high;
        }
        let of_limits = &mut self.bounds[2 * settings.mvs.len()..];
        for ((bound, LimitOfCv { cv, side, .. }), limit) in of_limits.iter_mut().zip(&self.limits).zip(wanted.limits) {
            *bound = side.sign() * (limit - outputs[*cv]);
        }
    }

    /// States where it rests.
    pub fn states(&self) -> &[f64] {
        &self.rest.as_slice()[..self.own]
    }

    /// MVs where it rests, in % from where the loop rested at first.
    pub fn mvs(&self) -> &[f64] {
        &self.rest.as_slice()[self.own..]
    }

    /// By how much a limit of a CV gives way at rest.
    pub fn given(&self, limit: usize) -> f64 {
        self.program.given(self.bounds.len() - self.limits.len() + limit)
    }
}
