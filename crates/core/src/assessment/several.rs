//! Margins of one loop of several, the others closed, and what becomes of each of them.

use super::margins::{LoopGain, Margins};
use super::{Metrics, judge, metrics_of};
use crate::Result;
use crate::controller::{ControllerSpec, FeedForward, PidSettings};
use crate::simulation::{Links, Trace, Trial};
use crate::verdict::Verdict;
use nalgebra::{DMatrix, DVector};
use num_complex::Complex64;
use serde::{Deserialize, Serialize};
use std::f64::consts::PI;
use utoipa::ToSchema;

/// A further controller of a trial, assessed as the first one is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct FurtherLoop {
    /// Its name.
    pub name: String,
    /// Metrics of its loop.
    pub metrics: Metrics,
    /// Margins of its loop, the others closed; null in manual, where it stands by to override, and where they cannot be told.
    pub margins: Option<Margins>,
    /// What they mean, the gravest first.
    pub verdicts: Vec<Verdict>,
}

/// All further controllers that have a measured signal and an OP of their own.
pub(super) fn further_loops(trial: &Trial, trace: &Trace) -> Result<Vec<FurtherLoop>> {
    let mut all = Vec::new();
    let network = if trial.candidate.further.is_empty() { None } else { Network::of(trial)? };
    for (k, wired) in trial.candidate.further.iter().enumerate() {
        let (Some(seen), Some(own)) = (trial.seen_from(&wired.name)?, trial.trace_seen_from(&wired.name, trace)?)
        else {
            continue;
        };
        let metrics = metrics_of(&seen, &own)?;
        let margins = network.as_ref().and_then(|network| network.margins(k + 1));
        let verdicts = judge(&seen, &own, margins.as_ref(), &metrics, &[]);
        all.push(FurtherLoop { name: wired.name.clone(), metrics, margins, verdicts });
    }
    Ok(all)
}

/// The margins of the first loop of a trial with further controllers, these closed around it; see [`Network::margins`].
pub(super) fn first_margins(trial: &Trial) -> Result<Option<Margins>> {
    Ok(Network::of(trial)?.and_then(|network| network.margins(0)))
}

/// A response over the angular frequency in rad/s.
type Channel = Box<dyn Fn(f64) -> Complex64>;

/// Controllers and process as linear systems at the scan, in % of span and % of OP.
struct Network {
    /// What each controller is; None in manual.
    pids: Vec<Option<PidSettings>>,
    links: Links,
    /// From each OP to each measured signal, with hold, sampler and sensor.
    channels: Vec<Vec<Channel>>,
    scan: f64,
    dead_time: f64,
    slowest: f64,
}

impl Network {
    fn of(trial: &Trial) -> Result<Option<Self>> {
        let (plant, scan) = (&trial.plant, trial.scenario.scan);
        let specs = std::iter::once(&trial.candidate.controller)
            .chain(trial.candidate.further.iter().map(|one| &one.controller));
        let mut pids = Vec::new();
        for spec in specs {
            match spec {
                ControllerSpec::Pid(pid) => pids.push(Some(pid.clone())),
                ControllerSpec::Manual => pids.push(None),
                _ => return Ok(None),
            }
        }
        let links = Links::of(plant, &trial.candidate)?;
        let times = |pid: &PidSettings| pid.integral_time.unwrap_or(0.0).max(pid.derivative_time).max(pid.filter_time);
        let mut slowest = pids.iter().flatten().map(times).fold(scan, f64::max);
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
        Ok(Some(Self { pids, links, channels, scan, dead_time, slowest }))
    }

    /// The margins of the loop of controller `cut`, the others closed around it. None in manual, where it stands by to override, where
    /// feed-forwards drive each other, and where the other loops are not stable without this one: then no single loop has a margin of
    /// its own.
    fn margins(&self, cut: usize) -> Option<Margins> {
        if self.pids[cut].is_none() || self.stands_by(cut) || !self.forwards_hold() {
            return None;
        }
        let mut closed: Vec<usize> = Vec::new();
        for other in (0..self.count()).filter(|k| *k != cut && self.pids[*k].is_some() && !self.stands_by(*k)) {
            if !self.gain(other, &closed).margins().stable {
                return None;
            }
            closed.push(other);
        }
        Some(self.gain(cut, &closed).margins())
    }

    /// What the feed-forward of controller `c` makes of each % that controller `from` puts out; None without one.
    fn fed_forward(&self, c: usize, pid: &PidSettings, from: usize, z: Complex64) -> Option<Complex64> {
        let (forward, op, late) = self.links.forward(c, pid)?;
        let delay = if late { z.inv() } else { Complex64::ONE };
        Some(forward_response(forward, z, self.scan) * delay * self.links.at_op(from, op))
    }

    /// Whether the ring of the feed-forwards alone is stable: they are, so that the determinant of what each does to the others tells.
    fn forwards_hold(&self) -> bool {
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
        let response = move |omega: f64| self.returned(cut, closed, omega);
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

    /// What comes back to the error of controller `cut` for each % that it puts out, with the sign of a loop gain.
    fn returned(&self, cut: usize, closed: &[usize], omega: f64) -> Complex64 {
        let n = self.count();
        let z = Complex64::from_polar(1.0, omega * self.scan);
        // What the controllers put out: rows say how each follows from all.
        let mut matrix: DMatrix<Complex64> = DMatrix::identity(n, n);
        let at_op = |from: usize, op: usize| Complex64::from(self.links.at_op(from, op));
        let measured = |signal: usize, from: usize| -> Complex64 {
            (0..self.channels[signal].len()).map(|op| self.channels[signal][op](omega) * at_op(from, op)).sum()
        };
        for c in (0..n).filter(|c| *c == cut || closed.contains(c)) {
            let Some(pid) = &self.pids[c] else { continue };
            let own = if c == cut { Complex64::ZERO } else { pid.sampled_response(omega, self.scan) };
            for from in (0..n).filter(|from| *from == cut || closed.contains(from)) {
                let error = Complex64::from(self.links.at_set_point(from, c)) - measured(self.links.measures[c], from);
                matrix[(c, from)] -= own * error;
                matrix[(c, from)] -= self.fed_forward(c, pid, from, z).unwrap_or_default();
            }
        }
        let mut injected = DVector::zeros(n);
        injected[cut] = Complex64::ONE;
        let Some(out) = matrix.lu().solve(&injected) else { return Complex64::new(f64::MAX, 0.0) };
        let error: Complex64 = (0..n)
            .map(|from| {
                (Complex64::from(self.links.at_set_point(from, cut)) - measured(self.links.measures[cut], from))
                    * out[from]
            })
            .sum();
        let pid = self.pids[cut].as_ref().map_or(Complex64::ZERO, |pid| pid.sampled_response(omega, self.scan));
        -pid * error
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
