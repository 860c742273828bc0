//! The prediction errors of the general polynomial structure and their derivatives.

use crate::identification::data::{DataSet, held};
use crate::identification::loss::ScaledLoss;
use crate::identification::structure::Structure;
use crate::numerics::{NormalEquations, largest_root};

/// Orders of the polynomials, and where each coefficient stands among the unknowns: `a`, then `b` and `f` of each
/// input, `c`, `d`,
/// then the states of each `1/F` at the start and the level of the output; ARX has no level, the means stand for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::identification) struct Shape {
    pub(super) na: usize,
    pub(super) nb: usize,
    pub(super) nc: usize,
    pub(super) nd: usize,
    pub(super) nf: usize,
    pub(super) nk: usize,
    pub(super) inputs: usize,
}

impl Shape {
    pub(in crate::identification) fn of(structure: Structure, inputs: usize) -> Option<Self> {
        let (na, nb, nc, nd, nf, nk) = match structure {
            Structure::Arx { na, nb, nk } => (na, nb, 0, 0, 0, nk),
            Structure::Armax { na, nb, nc, nk } => (na, nb, nc, 0, 0, nk),
            Structure::OutputError { nb, nf, nk } => (0, nb, 0, 0, nf, nk),
            Structure::BoxJenkins { nb, nc, nd, nf, nk } => (0, nb, nc, nd, nf, nk),
            _ => return None,
        };
        Some(Self { na, nb, nc, nd, nf, nk, inputs })
    }

    pub(super) fn is_arx(&self) -> bool {
        self.nc + self.nd + self.nf == 0
    }

    /// Number of coefficients, without the states at the start.
    pub(super) fn coefficients(&self) -> usize {
        self.na + self.inputs * (self.nb + self.nf) + self.nc + self.nd
    }

    /// Number of unknowns.
    pub(super) fn count(&self) -> usize {
        self.coefficients() + self.inputs * self.nf + usize::from(!self.is_arx())
    }

    /// The level by which the output differs from its mean at rest, in `A y`.
    pub(super) fn level(&self, theta: &[f64]) -> f64 {
        if self.is_arx() { 0.0 } else { theta[self.count() - 1] }
    }

    pub(in crate::identification) fn a<'t>(&self, theta: &'t [f64]) -> &'t [f64] {
        &theta[..self.na]
    }

    pub(in crate::identification) fn b<'t>(&self, theta: &'t [f64], input: usize) -> &'t [f64] {
        let at = self.na + input * (self.nb + self.nf);
        &theta[at..at + self.nb]
    }

    pub(in crate::identification) fn f<'t>(&self, theta: &'t [f64], input: usize) -> &'t [f64] {
        let at = self.na + input * (self.nb + self.nf) + self.nb;
        &theta[at..at + self.nf]
    }

    /// Delay of the inputs in samples.
    pub(in crate::identification) fn delay(&self) -> usize {
        self.nk
    }

    fn c<'t>(&self, theta: &'t [f64]) -> &'t [f64] {
        let at = self.coefficients() - self.nd - self.nc;
        &theta[at..at + self.nc]
    }

    fn d<'t>(&self, theta: &'t [f64]) -> &'t [f64] {
        let at = self.coefficients() - self.nd;
        &theta[at..at + self.nd]
    }

    fn start<'t>(&self, theta: &'t [f64], input: usize) -> &'t [f64] {
        let at = self.coefficients() + input * self.nf;
        &theta[at..at + self.nf]
    }

    /// Samples at the start whose prediction would need outputs or inputs from before.
    pub(super) fn warm_up(&self) -> usize {
        if self.na == 0 { 0 } else { self.na.max(self.nb + self.nk - 1) }
    }

    /// Names of the coefficients, with the input where there are several.
    pub(super) fn names(&self, tags: &[&str]) -> Vec<(String, Option<String>)> {
        let numbered = |letter: char, count: usize| (1..=count).map(move |k| format!("{letter}{k}"));
        let mut names: Vec<(String, Option<String>)> = numbered('a', self.na).map(|name| (name, None)).collect();
        for tag in tags {
            let input = (tags.len() > 1).then(|| (*tag).to_owned());
            names.extend(numbered('b', self.nb).chain(numbered('f', self.nf)).map(|name| (name, input.clone())));
        }
        names.extend(numbered('c', self.nc).chain(numbered('d', self.nd)).map(|name| (name, None)));
        names
    }

    /// Whether the prediction errors depend on the past ever less: all roots of C and of the F inside the unit circle.
    pub(super) fn is_predictor_stable(&self, theta: &[f64]) -> bool {
        let inside = |tail: &[f64]| largest_root(tail) < 1.0 - 1e-9;
        inside(self.c(theta)) && (0..self.inputs).all(|input| inside(self.f(theta, input)))
    }

    /// Solutions without input, one for each state at the start.
    pub(super) fn free_responses(&self, theta: &[f64], samples: usize) -> Vec<Vec<f64>> {
        let a = self.a(theta);
        let impulse = |at: usize| {
            let mut series = vec![0.0; samples];
            if let Some(value) = series.get_mut(at) {
                *value = 1.0;
            }
            series
        };
        let mut bases: Vec<Vec<f64>> = (0..self.na).map(|k| filtered(&impulse(k), a)).collect();
        for input in 0..self.inputs {
            let f = self.f(theta, input);
            bases.extend((0..self.nf).map(|k| filtered(&filtered(&impulse(k), f), a)));
        }
        bases
    }
}

/// `x/A` with `A = 1 + a₁ q⁻¹ + …`, from rest.
pub(super) fn filtered(x: &[f64], tail: &[f64]) -> Vec<f64> {
    let mut y = Vec::with_capacity(x.len());
    for (k, value) in x.iter().enumerate() {
        let known: f64 = tail.iter().enumerate().take(k).map(|(j, a)| a * y[k - 1 - j]).sum();
        y.push(value - known);
    }
    y
}

/// `A x` with `A = 1 + a₁ q⁻¹ + …`, from rest.
pub(super) fn multiplied(x: &[f64], tail: &[f64]) -> Vec<f64> {
    let at = |k: usize| x[k] + tail.iter().enumerate().take(k).map(|(j, a)| a * x[k - 1 - j]).sum::<f64>();
    (0..x.len()).map(at).collect()
}

/// Inputs and output about their means.
pub(super) struct Deviations {
    pub(super) inputs: Vec<Vec<f64>>,
    /// NaN where missing.
    pub(super) output: Vec<f64>,
}

impl Deviations {
    pub(super) fn new(data: &DataSet, (inputs, outputs): &(Vec<f64>, Vec<f64>)) -> Self {
        let about = |values: Vec<f64>, mean: f64| values.into_iter().map(|value| value - mean).collect();
        let finite = |value: &f64| if value.is_finite() { *value } else { f64::NAN };
        Self {
            inputs: data.inputs.iter().zip(inputs).map(|(series, mean)| about(held(&series.values), *mean)).collect(),
            output: about(data.output().values.iter().map(finite).collect(), outputs[0]),
        }
    }

    /// Samples whose prediction error counts.
    pub(super) fn usable(&self, shape: &Shape) -> usize {
        self.output.iter().skip(shape.warm_up()).filter(|value| value.is_finite()).count()
    }

    /// Input `input` at sample `k − lag`; before the data it stood at its first value.
    #[inline]
    pub(super) fn earlier(&self, input: usize, k: usize, lag: usize) -> f64 {
        self.inputs[input][k.saturating_sub(lag)]
    }

    /// `Bᵢ uᵢ(t − nk)`.
    pub(super) fn moved(&self, shape: &Shape, theta: &[f64], input: usize) -> Vec<f64> {
        let b = shape.b(theta, input);
        let at = |k: usize| b.iter().enumerate().map(|(j, b)| b * self.earlier(input, k, shape.nk + j)).sum();
        (0..self.output.len()).map(at).collect()
    }

    /// The output without noise and without what was under way before.
    pub(super) fn forced(&self, shape: &Shape, theta: &[f64]) -> Vec<f64> {
        let mut total = vec![0.0; self.output.len()];
        for input in 0..shape.inputs {
            let own = filtered(&self.moved(shape, theta, input), shape.f(theta, input));
            total.iter_mut().zip(own).for_each(|(sum, value)| *sum += value);
        }
        filtered(&total, shape.a(theta))
    }

    /// `wᵢ = Bᵢ/Fᵢ uᵢ` with the states at the start.
    fn outputs_of_paths(&self, shape: &Shape, theta: &[f64]) -> Vec<Vec<f64>> {
        let of = |input: usize| {
            let mut driven = self.moved(shape, theta, input);
            for (value, start) in driven.iter_mut().zip(shape.start(theta, input)) {
                *value += start;
            }
            filtered(&driven, shape.f(theta, input))
        };
        (0..shape.inputs).map(of).collect()
    }

    /// `v = A y − Σ wᵢ`.
    fn disturbance(&self, shape: &Shape, theta: &[f64], paths: &[Vec<f64>]) -> Vec<f64> {
        let mut v = multiplied(&self.output, shape.a(theta));
        for path in paths {
            v.iter_mut().zip(path).for_each(|(value, w)| *value -= w);
        }
        let level = shape.level(theta);
        v.iter_mut().for_each(|value| *value -= level);
        v[..shape.warm_up().min(self.output.len())].fill(if shape.is_arx() { f64::NAN } else { 0.0 });
        v
    }

    /// Prediction errors; NaN where they cannot be told.
    pub(super) fn residuals(&self, shape: &Shape, theta: &[f64]) -> Vec<f64> {
        let v = self.disturbance(shape, theta, &self.outputs_of_paths(shape, theta));
        let mut e = if shape.is_arx() { v } else { filtered(&multiplied(&v, shape.d(theta)), shape.c(theta)) };
        let warm_up = shape.warm_up().min(e.len());
        e[..warm_up].fill(f64::NAN);
        e
    }

    /// Visits every sample with the derivatives of the predicted output by the unknowns; last in the row is predicted
    /// minus measured.
    ///
    /// The derivatives by the coefficients of one polynomial are one filtered signal at successive lags.
    pub(super) fn walk(&self, shape: &Shape, theta: &[f64], visit: &mut dyn FnMut(&mut [f64])) {
        let paths = self.outputs_of_paths(shape, theta);
        let v = self.disturbance(shape, theta, &paths);
        let (c, d) = (shape.c(theta), shape.d(theta));
        let whitened = |x: &[f64]| {
            if c.is_empty() && d.is_empty() { x.to_vec() } else { filtered(&multiplied(x, d), c) }
        };
        let e = whitened(&v);
        // What lies before the first prediction has no effect, in the derivatives either.
        let masked = |mut series: Vec<f64>| {
            series[..shape.warm_up().min(self.output.len())].fill(0.0);
            whitened(&series)
        };
        let lagged = |series: &[f64], k: usize, lag: usize| if k >= lag { series[k - lag] } else { 0.0 };
        let samples = self.output.len();
        let by_a: Vec<Vec<f64>> =
            (1..=shape.na).map(|lag| masked((0..samples).map(|k| lagged(&self.output, k, lag)).collect())).collect();
        // The inputs of each lag are filtered apart: before the data they stood at their first value, the filters at
        // rest.
        let by_b: Vec<Vec<Vec<f64>>> = (0..shape.inputs)
            .map(|input| {
                let delayed =
                    |lag: usize| (0..self.output.len()).map(|k| self.earlier(input, k, lag)).collect::<Vec<f64>>();
                (0..shape.nb).map(|j| masked(filtered(&delayed(shape.nk + j), shape.f(theta, input)))).collect()
            })
            .collect();
        let by_f: Vec<Vec<f64>> = paths
            .iter()
            .enumerate()
            .map(|(input, w)| if shape.nf > 0 { whitened(&filtered(w, shape.f(theta, input))) } else { Vec::new() })
            .collect();
        let by_c = if shape.nc > 0 { filtered(&e, c) } else { Vec::new() };
        let by_d = if shape.nd > 0 { filtered(&v, c) } else { Vec::new() };
        let by_start: Vec<Vec<f64>> = (0..shape.inputs)
            .map(|input| {
                let mut impulse = vec![0.0; if shape.nf > 0 { self.output.len() } else { 0 }];
                if let Some(first) = impulse.first_mut() {
                    *first = 1.0;
                }
                whitened(&filtered(&impulse, shape.f(theta, input)))
            })
            .collect();
        let by_level = if shape.is_arx() { Vec::new() } else { masked(vec![1.0; samples]) };
        let count = shape.count();
        let mut row = vec![0.0; count + 1];
        for k in 0..self.output.len() {
            let mut place = 0;
            let mut put = |value: f64| {
                row[place] = value;
                place += 1;
            };
            by_a.iter().for_each(|series| put(-series[k]));
            for input in 0..shape.inputs {
                by_b[input].iter().for_each(|series| put(series[k]));
                (1..=shape.nf).for_each(|lag| put(-lagged(&by_f[input], k, lag)));
            }
            (1..=shape.nc).for_each(|lag| put(lagged(&by_c, k, lag)));
            (1..=shape.nd).for_each(|lag| put(-lagged(&by_d, k, lag)));
            for series in &by_start {
                (0..shape.nf).for_each(|lag| put(lagged(series, k, lag)));
            }
            if let Some(value) = by_level.get(k) {
                put(*value);
            }
            row[count] = if k < shape.warm_up() || row[..count].iter().any(|value| !value.is_finite()) {
                f64::NAN
            } else {
                -e[k]
            };
            visit(&mut row);
        }
    }

    pub(super) fn sums(&self, shape: &Shape, theta: &[f64], loss: &ScaledLoss) -> NormalEquations {
        let count = shape.count();
        let mut sums = NormalEquations::new(count);
        self.walk(shape, theta, &mut |row| {
            if row[count].is_finite() {
                let (residual, factor, _, _) = loss.of(row[count]);
                row[..count].iter_mut().for_each(|derivative| *derivative *= factor);
                row[count] = residual;
                sums.add(row);
            }
        });
        sums
    }

    /// Sets the states at the start and the level to those that fit best; the prediction errors are linear in them.
    pub(super) fn fit_transients(&self, shape: &Shape, theta: &mut [f64]) {
        let first = shape.coefficients();
        let columns: Vec<usize> = (first..shape.count()).collect();
        if columns.is_empty() {
            return;
        }
        let sums = self.sums(shape, theta, &ScaledLoss::SQUARES).selected(&columns);
        if let Some((step, _)) = sums.linear_solution() {
            // Rows are (∂ŷ/∂x, ŷ − y): the residual falls by minus the solution.
            columns.iter().zip(step).for_each(|(place, by)| theta[*place] -= by);
        }
    }
}
