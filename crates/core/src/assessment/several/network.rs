//! Controllers and process of a trial as one linear network at the scan.

use super::super::margins::{LoopGain, Margins};
use super::super::{FrequencyCurves, frequency::curve_points};
use crate::Result;
use crate::controller::predictive::Law;
use crate::controller::{ControllerSpec, FeedForward, PidSettings};
use crate::simulation::{Links, Trial, seats};
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use std::cell::RefCell;
use std::collections::HashMap;
use std::f64::consts::PI;

/// A response over the angular frequency in rad/s.
type Channel = Box<dyn Fn(f64) -> Complex64>;

/// Controllers and process as linear systems at the scan, in % of span and % of OP.
pub(crate) struct Network {
    /// What each controller is; None in manual, and of a seat.
    pids: Vec<Option<PidSettings>>,
    /// What the predictive controller of the seats does, where there are any.
    planning: Option<Planning>,
    links: Links,
    /// From each OP to each measured signal, with hold, sampler and sensor.
    channels: Vec<Vec<Channel>>,
    /// The channels at frequencies that were asked for: each loop with the others closed asks for the same ones again.
    known: RefCell<HashMap<u64, DMatrix<Complex64>>>,
    scan: f64,
    dead_time: f64,
    slowest: f64,
}

/// A predictive controller that feels no limit, over its seats.
struct Planning {
    law: Law,
    /// The measured signals of its CVs, and the seats of its MVs.
    cvs: Vec<usize>,
    mvs: Vec<usize>,
    /// Its response at frequencies that were asked for.
    known: RefCell<HashMap<u64, DMatrix<Complex64>>>,
}

impl Planning {
    /// Of a trial with seats; None where these follow no set point, and where what leads them is unstable by itself: the criterion counts
    /// on loops that are stable before they are closed.
    fn of(trial: &Trial, links: &Links) -> Result<Option<Self>> {
        let Some(seats) = seats(&trial.plant, &trial.candidate)? else { return Ok(None) };
        let law = Law::of(&seats.settings, &seats.spans, trial.scenario.scan)?;
        let Some(law) = law.filter(|law| law.unstable_poles() == 0) else { return Ok(None) };
        let cvs = seats.cvs.iter().map(|seat| links.measures[*seat]).collect();
        Ok(Some(Self { law, cvs, mvs: seats.mvs, known: RefCell::default() }))
    }

    /// From each CV to the MV of a seat; None of one that moves none.
    fn by_cvs(&self, seat: usize, omega: f64) -> Option<Vec<Complex64>> {
        let mv = self.mvs.iter().position(|own| *own == seat)?;
        let mut known = self.known.borrow_mut();
        let at = known.entry(omega.to_bits()).or_insert_with(|| self.law.response(omega));
        Some(at.row(mv).iter().copied().collect())
    }
}

impl Network {
    pub(crate) fn of(trial: &Trial) -> Result<Option<Self>> {
        let (plant, scan) = (&trial.plant, trial.scenario.scan);
        let specs = std::iter::once(&trial.candidate.controller)
            .chain(trial.candidate.further.iter().map(|one| &one.controller));
        let mut pids = Vec::new();
        for spec in specs {
            match spec {
                ControllerSpec::Pid(pid) => pids.push(Some(pid.clone())),
                ControllerSpec::Manual | ControllerSpec::Predictive(_) | ControllerSpec::Seat => pids.push(None),
                _ => return Ok(None),
            }
        }
        let links = Links::of(plant, &trial.candidate)?;
        let planning = Planning::of(trial, &links)?;
        let horizon = trial.candidate.predictive().map_or(0.0, |settings| settings.horizon);
        let times = |pid: &PidSettings| pid.integral_time.unwrap_or(0.0).max(pid.derivative_time).max(pid.filter_time);
        let mut slowest = pids.iter().flatten().map(times).fold(scan.max(horizon), f64::max);
        let mut dead_time: f64 = 0.0;
        let mut channels = Vec::new();
        for measured in 0..=plant.further_measured.len() {
            let mut row: Vec<Channel> = Vec::new();
            for driven in 0..=plant.further_driven.len() {
                let seen = plant.seen_at(measured, driven)?;
                let Some(system) = seen.linearised()? else { return Ok(None) };
                if system.runs_away() {
                    return Ok(None);
                }
                slowest = slowest.max(system.longest_lag() + system.dead_time().seconds());
                dead_time = dead_time.max(system.dead_time().seconds());
                let (percent, memory) = (100.0 / seen.pv.span.width(), seen.sensor.filter_memory(scan));
                let sampled = system.sampled_response(scan);
                row.push(Box::new(move |omega| {
                    let z = Complex64::from_polar(1.0, omega * scan);
                    sampled(omega) * percent * ((1.0 - memory) * z / (z - memory))
                }));
            }
            channels.push(row);
        }
        Ok(Some(Self { pids, planning, links, channels, known: RefCell::default(), scan, dead_time, slowest }))
    }

    /// The margins of the loop of controller `cut`, the others closed around it. None in manual, where it stands by to override, where
    /// feed-forwards drive each other, and where the other loops are not stable without this one: then no single loop has a margin of
    /// its own.
    pub(super) fn margins(&self, cut: usize) -> Option<Margins> {
        self.closed_around(cut).map(|closed| self.gain(cut, &closed).margins())
    }

    /// The loop of controller `cut` over frequency, the others closed around it, where it has [`margins`](Self::margins).
    pub(super) fn curves(&self, cut: usize) -> Option<FrequencyCurves> {
        let closed = self.closed_around(cut)?;
        let points = self
            .grid()
            .into_iter()
            .map(|omega| (omega, self.seen_by(cut, &closed, omega), self.returned(cut, &closed, omega)));
        Some(FrequencyCurves::through(points))
    }

    /// Frequencies from far below anything that happens to half the sampling rate.
    pub(crate) fn grid(&self) -> Vec<f64> {
        curve_points(2e-3 / self.slowest, PI / self.scan * (1.0 - 1e-9), 0.15 / (self.dead_time + self.scan))
    }

    /// The controllers that are closed around the loop of `cut`; None where that has no margins.
    fn closed_around(&self, cut: usize) -> Option<Vec<usize>> {
        if !self.is_at_work(cut) || self.stands_by(cut) || !self.forwards_hold() {
            return None;
        }
        let mut closed: Vec<usize> = Vec::new();
        for other in self.at_work().into_iter().filter(|other| *other != cut) {
            if !self.gain(other, &closed).margins().stable {
                return None;
            }
            closed.push(other);
        }
        Some(closed)
    }

    /// The controllers that move something while no output is at a limit or selected.
    pub(crate) fn at_work(&self) -> Vec<usize> {
        (0..self.count()).filter(|k| self.is_at_work(*k) && !self.stands_by(*k)).collect()
    }

    /// Whether a controller is in automatic, or the seat of a planner that leads something.
    fn is_at_work(&self, controller: usize) -> bool {
        let is_seat = self.planning.as_ref().is_some_and(|planning| planning.mvs.contains(&controller));
        self.pids[controller].is_some() || is_seat
    }

    /// The settings of a controller; None in manual.
    pub(crate) fn settings(&self, controller: usize) -> Option<&PidSettings> {
        self.pids[controller].as_ref()
    }

    /// Gives a controller other settings.
    pub(crate) fn set(&mut self, controller: usize, settings: PidSettings) {
        self.pids[controller] = Some(settings);
    }

    /// The controllers whose set points the output of a controller moves.
    pub(crate) fn inner_of(&self, controller: usize) -> Vec<usize> {
        (0..self.count()).filter(|of| self.links.at_set_point(controller, *of) != 0.0).collect()
    }

    /// What each % that controller `cut` puts out does to what it measures while those that are `closed` are at work: % of span.
    pub(crate) fn seen_by(&self, cut: usize, closed: &[usize], omega: f64) -> Complex64 {
        let out = self.moved_by(cut, closed, omega);
        out.map_or(Complex64::new(f64::MAX, 0.0), |out| {
            -(0..self.count()).map(|from| self.error(cut, from, omega) * out[from]).sum::<Complex64>()
        })
    }

    /// The margins of the loop of `cut` with those that are `closed` at work.
    pub(crate) fn margins_with(&self, cut: usize, closed: &[usize]) -> Margins {
        self.gain(cut, closed).margins()
    }

    /// Of these controllers the ones whose set point no other of them moves.
    pub(super) fn with_own_set_point(&self, at_work: &[usize]) -> Vec<usize> {
        let is_set = |of: usize| at_work.iter().any(|from| self.links.at_set_point(*from, of) != 0.0);
        at_work.iter().copied().filter(|k| !is_set(*k)).collect()
    }

    /// What the feed-forward of controller `c` makes of each % that controller `from` puts out; None without one.
    fn fed_forward(&self, c: usize, pid: &PidSettings, from: usize, z: Complex64) -> Option<Complex64> {
        let (forward, op, late) = self.links.forward(c, pid)?;
        let delay = if late { z.inv() } else { Complex64::ONE };
        Some(forward_response(forward, z, self.scan) * delay * self.links.at_op(from, op))
    }

    /// Whether the ring of the feed-forwards alone is stable: they are, so that the determinant of what each does to the others tells.
    pub(super) fn forwards_hold(&self) -> bool {
        let n = self.count();
        let ring = |omega: f64| {
            let z = Complex64::from_polar(1.0, omega * self.scan);
            let mut matrix: DMatrix<Complex64> = DMatrix::identity(n, n);
            for (c, pid) in self.pids.iter().enumerate() {
                for from in 0..n {
                    let fed = pid.as_ref().and_then(|pid| self.fed_forward(c, pid, from, z));
                    matrix[(c, from)] -= fed.unwrap_or_default();
                }
            }
            matrix.determinant() - 1.0
        };
        let lowest = (1e-4 / self.slowest).min(0.1 * PI / self.scan);
        let highest = Some(PI / self.scan * (1.0 - 1e-12));
        LoopGain { response: ring, integrators: 0, unstable_poles: 0, delay: self.scan, lowest, highest }
            .margins()
            .stable
    }

    /// Whether a controller moves nothing while no output is at a limit or selected.
    fn stands_by(&self, controller: usize) -> bool {
        let ops = self.channels.first().map_or(0, Vec::len);
        (0..ops).all(|op| self.links.at_op(controller, op) == 0.0)
            && (0..self.count()).all(|of| self.links.at_set_point(controller, of) == 0.0)
    }

    fn count(&self) -> usize {
        self.pids.len()
    }

    /// The loop gain at controller `cut`, with the `closed` ones closed and all others standing still.
    fn gain<'a>(&'a self, cut: usize, closed: &'a [usize]) -> LoopGain<impl Fn(f64) -> Complex64 + 'a> {
        self.as_loop_gain(move |omega| self.returned(cut, closed, omega))
    }

    /// A response of the network as that of a loop.
    pub(super) fn as_loop_gain<F: Fn(f64) -> Complex64>(&self, response: F) -> LoopGain<F> {
        let lowest = (1e-4 / self.slowest).min(0.1 * PI / self.scan);
        // As many poles at the origin as the gain doubles when the frequency is halved.
        let rise = (response(lowest).norm() / response(2.0 * lowest).norm()).log2();
        LoopGain {
            response,
            integrators: rise.round().max(0.0) as usize,
            unstable_poles: 0,
            delay: self.dead_time + self.scan,
            lowest,
            highest: Some(PI / self.scan * (1.0 - 1e-12)),
        }
    }

    /// How controllers that are at work follow from each other at a frequency: rows say what each puts out follows from the outputs of
    /// all, that of controller `open` aside, whose own error does not come back.
    fn outputs(&self, at_work: impl Fn(usize) -> bool, open: Option<usize>, omega: f64) -> DMatrix<Complex64> {
        let n = self.count();
        let z = Complex64::from_polar(1.0, omega * self.scan);
        let mut matrix: DMatrix<Complex64> = DMatrix::identity(n, n);
        for c in (0..n).filter(|c| at_work(*c)) {
            if open != Some(c) {
                for (from, back) in self.comes_back(c, omega).into_iter().enumerate().filter(|(from, _)| at_work(*from))
                {
                    matrix[(c, from)] -= back;
                }
            }
            let Some(pid) = &self.pids[c] else { continue };
            for from in (0..n).filter(|from| at_work(*from)) {
                matrix[(c, from)] -= self.fed_forward(c, pid, from, z).unwrap_or_default();
            }
        }
        matrix
    }

    /// What a controller makes, by way of what it measures, of each % that the controllers put out.
    fn comes_back(&self, c: usize, omega: f64) -> Vec<Complex64> {
        let all = 0..self.count();
        if let Some(pid) = &self.pids[c] {
            let own = pid.sampled_response(omega, self.scan);
            return all.map(|from| own * self.error(c, from, omega)).collect();
        }
        let Some((planning, own)) =
            self.planning.as_ref().and_then(|planning| Some((planning, planning.by_cvs(c, omega)?)))
        else {
            return vec![Complex64::ZERO; self.count()];
        };
        all.map(|from| planning.cvs.iter().zip(&own).map(|(cv, own)| own * self.measured(*cv, from, omega)).sum())
            .collect()
    }

    /// What each % that controller `from` puts out does to the error of controller `c`.
    fn error(&self, c: usize, from: usize, omega: f64) -> Complex64 {
        self.links.at_set_point(from, c) - self.measured(self.links.measures[c], from, omega)
    }

    /// What each % that controller `from` puts out does to a measured signal.
    fn measured(&self, signal: usize, from: usize, omega: f64) -> Complex64 {
        let mut known = self.known.borrow_mut();
        let at = known.entry(omega.to_bits()).or_insert_with(|| self.channels_at(omega));
        let row = at.row(signal);
        row.iter().enumerate().map(|(op, channel)| channel * self.links.at_op(from, op)).sum()
    }

    /// From each OP (columns) to each measured signal (rows).
    fn channels_at(&self, omega: f64) -> DMatrix<Complex64> {
        let ops = self.channels.first().map_or(0, Vec::len);
        DMatrix::from_fn(self.channels.len(), ops, |measured, op| self.channels[measured][op](omega))
    }

    /// What the controllers put out for each % that controller `cut` is made to put out, while those that are `closed` answer.
    fn moved_by(&self, cut: usize, closed: &[usize], omega: f64) -> Option<DVector<Complex64>> {
        let matrix = self.outputs(|c| c == cut || closed.contains(&c), Some(cut), omega);
        let mut injected = DVector::zeros(self.count());
        injected[cut] = Complex64::ONE;
        matrix.lu().solve(&injected)
    }

    /// What comes back to the error of controller `cut` for each % that it puts out, with the sign of a loop gain.
    fn returned(&self, cut: usize, closed: &[usize], omega: f64) -> Complex64 {
        let Some(out) = self.moved_by(cut, closed, omega) else { return Complex64::new(f64::MAX, 0.0) };
        -self.comes_back(cut, omega).into_iter().zip(out.iter()).map(|(back, out)| back * out).sum::<Complex64>()
    }

    /// The return difference of all controllers at work: its determinant, closed, over that of what is only fed forward.
    pub(super) fn determinant(&self, at_work: &[usize], omega: f64) -> Complex64 {
        self.outputs(|c| at_work.contains(&c), None, omega).determinant()
    }

    /// From the set points of some controllers to their errors, all at work being closed: the sensitivity, in % of span. None where
    /// it has no bounds.
    pub(super) fn sensitivity(&self, at_work: &[usize], of: &[usize], omega: f64) -> Option<DMatrix<Complex64>> {
        let mut moved: DMatrix<Complex64> = DMatrix::zeros(self.count(), of.len());
        for (column, c) in of.iter().enumerate() {
            if let Some(pid) = &self.pids[*c] {
                moved[(*c, column)] = pid.sampled_response(omega, self.scan);
                continue;
            }
            // A planner answers what it measures with all that it moves.
            let planning = self.planning.as_ref()?;
            let cv = planning.cvs.iter().position(|cv| *cv == self.links.measures[*c])?;
            for seat in &planning.mvs {
                moved[(*seat, column)] = -planning.by_cvs(*seat, omega)?[cv];
            }
        }
        let out = self.outputs(|c| at_work.contains(&c), None, omega).lu().solve(&moved)?;
        Some(DMatrix::from_fn(of.len(), of.len(), |i, j| {
            let back: Complex64 = at_work.iter().map(|from| self.error(of[i], *from, omega) * out[(*from, j)]).sum();
            back + if i == j { Complex64::ONE } else { Complex64::ZERO }
        }))
    }
}

/// A feed-forward at the scan: the lead-lag behind a hold, and the delay in whole scans.
fn forward_response(forward: &FeedForward, z: Complex64, scan: f64) -> Complex64 {
    let delay = z.powf(-(forward.delay / scan).round());
    if forward.lag == 0.0 {
        return forward.gain * delay;
    }
    let (direct, memory) = (forward.lead / forward.lag, (-scan / forward.lag).exp());
    forward.gain * delay * (direct + (1.0 - direct) * (1.0 - memory) / (z - memory))
}
