//! Strictly convex quadratic programs, by the dual active-set method.

use super::dot;
use nalgebra::DMatrix;
use std::ops::Range;

/// Share of its own size by which a constraint may be missed.
const TOLERANCE: f64 = 1e-11;
/// Share of a normal that must lie beside those of the active constraints before it counts as independent of them.
const INDEPENDENT: f64 = 1e-11;
/// After so many programs that were each begun where the one before ended the factors are made anew, so that no rounding adds up.
const MOST_RESUMED: usize = 1000;

/// The method of Goldfarb & Idnani (Mathematical Programming 27, 1983): from the unconstrained minimum constraints are added one by one,
/// and dropped where their multipliers would turn negative; every intermediate point is the best one under the constraints that are
/// active there. Letters are those of the paper: `min aᵀx + ½ xᵀG x` subject to `nᵢᵀx ≥ bᵢ`.
///
/// One solver keeps its memory and serves any number of programs with the same matrix `G`.
#[derive(Debug, Clone)]
pub struct QuadraticProgram {
    n: usize,
    /// `J = L⁻ᵀQ` by columns, where `G = L Lᵀ`: the first `q` columns span the active normals.
    j: Vec<f64>,
    /// `L⁻ᵀ` by columns.
    inverse: Vec<f64>,
    /// The triangular factor of the active normals, by columns of length `n`.
    r: Vec<f64>,
    /// `d = Jᵀ n⁺`.
    d: Vec<f64>,
    /// The step in `x`, and that in the multipliers.
    z: Vec<f64>,
    of_multipliers: Vec<f64>,
    x: Vec<f64>,
    /// Multipliers of the active constraints, and which these are.
    u: Vec<f64>,
    active: Vec<usize>,
    steps: usize,
    /// Programs since the factors were made.
    resumed: usize,
}

/// How a program ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ending {
    /// At its minimum.
    Solved,
    /// No point keeps all constraints.
    Infeasible,
    /// More steps than were allowed; the point is the best under the constraints that are active, and misses others.
    Limit,
}

/// Constraints `nᵢᵀx ≥ bᵢ`, row by row.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Constraints {
    n: usize,
    normals: Vec<f64>,
    /// From the first to the last number of each normal that is not 0: limits of a single unknown, or of a few, have short ones.
    reaches: Vec<Range<usize>>,
    bounds: Vec<f64>,
}

impl Constraints {
    /// None yet, on `n` unknowns.
    #[must_use]
    pub fn new(n: usize) -> Self {
        Self { n, ..Self::default() }
    }

    /// Adds `normal · x ≥ bound`. What is bound by nothing (an infinite bound) is left out.
    pub fn at_least(&mut self, normal: &[f64], bound: f64) {
        if bound > f64::NEG_INFINITY {
            self.push(normal, bound);
        }
    }

    /// Adds `normal · x ≥ bound`, also where the bound is infinite now: it may be [set](Self::bounds_mut) later.
    pub fn push(&mut self, normal: &[f64], bound: f64) {
        debug_assert_eq!(normal.len(), self.n);
        self.normals.extend_from_slice(normal);
        let counts = |value: &f64| *value != 0.0;
        let (first, last) = (normal.iter().position(counts), normal.iter().rposition(counts));
        self.reaches.push(first.unwrap_or(0)..last.map_or(0, |last| last + 1));
        self.bounds.push(bound);
    }

    /// The bounds, row by row.
    pub fn bounds_mut(&mut self) -> &mut [f64] {
        &mut self.bounds
    }

    /// Adds `low ≤ normal · x ≤ high`.
    pub fn within(&mut self, normal: &[f64], low: f64, high: f64) {
        self.at_least(normal, low);
        let turned: Vec<f64> = normal.iter().map(|value| -value).collect();
        self.at_least(&turned, -high);
    }

    /// The same on unknowns that are so many times as small.
    #[must_use]
    pub fn scaled(mut self, scale: &[f64]) -> Self {
        for normal in self.normals.chunks_exact_mut(self.n) {
            normal.iter_mut().zip(scale).for_each(|(value, scale)| *value *= scale);
        }
        self
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.bounds.len()
    }

    /// Whether there are none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.bounds.is_empty()
    }

    pub(super) fn normal(&self, i: usize) -> &[f64] {
        &self.normals[i * self.n..(i + 1) * self.n]
    }

    /// By how much a point keeps a constraint: below 0 where it does not.
    #[must_use]
    pub fn slack(&self, i: usize, x: &[f64]) -> f64 {
        self.along(i, x) - self.bounds[i]
    }

    /// What a normal and a vector have in common.
    fn along(&self, i: usize, x: &[f64]) -> f64 {
        let (normal, x) = self.reach(i, x);
        dot(normal, x)
    }

    /// The part of a normal that is not 0, and that of a vector that it meets.
    fn reach<'a>(&'a self, i: usize, x: &'a [f64]) -> (&'a [f64], &'a [f64]) {
        let reach = self.reaches[i].clone();
        (&self.normal(i)[reach.clone()], &x[reach])
    }
}

impl QuadraticProgram {
    /// With this matrix `G`; None where that is not positive definite.
    #[must_use]
    pub fn new(g: &DMatrix<f64>) -> Option<Self> {
        let n = g.nrows();
        let lower = g.clone().cholesky()?.l();
        let inverse = lower.solve_lower_triangular(&DMatrix::identity(n, n))?.transpose();
        if inverse.iter().any(|value| !value.is_finite()) {
            return None;
        }
        Some(Self {
            n,
            j: inverse.as_slice().to_vec(),
            inverse: inverse.as_slice().to_vec(),
            r: vec![0.0; n * n],
            d: vec![0.0; n],
            z: vec![0.0; n],
            of_multipliers: vec![0.0; n],
            x: vec![0.0; n],
            u: Vec::with_capacity(n + 1),
            active: Vec::with_capacity(n),
            steps: 0,
            resumed: 0,
        })
    }

    /// The point that was found.
    #[must_use]
    pub fn x(&self) -> &[f64] {
        &self.x
    }

    /// Steps that the last program took, each of which made a constraint active or inactive; none where its unconstrained minimum keeps
    /// all constraints.
    #[must_use]
    pub fn steps(&self) -> usize {
        self.steps
    }

    /// Takes another point for the one that was found.
    pub(super) fn take(&mut self, x: &[f64]) {
        self.x.copy_from_slice(x);
        self.forget();
    }

    /// No constraint is active.
    fn forget(&mut self) {
        self.active.clear();
        self.u.clear();
    }

    /// The active constraints, each with its multiplier.
    pub fn multipliers(&self) -> impl Iterator<Item = (usize, f64)> {
        self.active.iter().copied().zip(self.u.iter().copied())
    }

    /// The minimum for this linear term, in at most so many steps.
    pub fn solve(&mut self, a: &[f64], constraints: &Constraints, most: usize) -> Ending {
        self.forget();
        self.resume(a, constraints, most)
    }

    /// The same, begun with the constraints that were active at the end of the last program: the normals are the same, and where the linear
    /// term and the bounds have moved but little, as from one scan of a controller to the next, most of them are active again.
    pub fn resume(&mut self, a: &[f64], constraints: &Constraints, most: usize) -> Ending {
        self.steps = 0;
        self.begin(a, constraints);
        while let Some(p) = self.most_violated(constraints) {
            self.u.push(0.0);
            loop {
                self.steps += 1;
                if self.steps > most {
                    self.u.pop();
                    return Ending::Limit;
                }
                match self.step(p, constraints) {
                    Step::Full => break,
                    Step::Partial(l) => self.drop(l),
                    Step::Nowhere => {
                        self.u.pop();
                        return Ending::Infeasible;
                    }
                }
            }
            self.add(p);
        }
        Ending::Solved
    }

    /// Goes to the minimum under those of the active constraints whose multipliers are not negative there; the others are dropped. Any such
    /// point is one that the method may begin with.
    fn begin(&mut self, a: &[f64], constraints: &Constraints) {
        let n = self.n;
        self.resumed += 1;
        if self.resumed > MOST_RESUMED {
            self.forget();
        }
        for l in (0..self.active.len()).rev() {
            if constraints.bounds[self.active[l]] == f64::NEG_INFINITY {
                self.drop(l);
            }
        }
        if self.active.is_empty() {
            self.j.copy_from_slice(&self.inverse);
            self.resumed = 0;
        }
        loop {
            let q = self.active.len();
            for k in 0..n {
                self.d[k] = dot(column(&self.j, n, k), a);
            }
            // N = L Q R, so that at the minimum x = J₁ w − J₂ J₂ᵀ a with Rᵀ w = b, and R u = w + J₁ᵀ a.
            for k in 0..q {
                let of_r = &self.r[k * n..=k * n + k];
                self.z[k] = (constraints.bounds[self.active[k]] - dot(&of_r[..k], &self.z[..k])) / of_r[k];
            }
            for k in 0..q {
                self.u[k] = self.z[k] + self.d[k];
            }
            divide(&self.r, n, &mut self.u[..q]);
            let mut is_settled = true;
            for l in (0..q).rev() {
                if self.u[l] < 0.0 || self.u[l].is_nan() {
                    self.steps += 1;
                    self.drop(l);
                    is_settled = false;
                }
            }
            if is_settled {
                break;
            }
        }
        let q = self.active.len();
        self.x.fill(0.0);
        for k in 0..n {
            let along = if k < q { self.z[k] } else { -self.d[k] };
            axpy(along, column(&self.j, n, k), &mut self.x);
        }
    }

    /// The constraint that is missed by most, in terms of its own size.
    fn most_violated(&self, constraints: &Constraints) -> Option<usize> {
        let mut worst = None;
        let mut most = 0.0;
        for i in 0..constraints.len() {
            // Most are kept: only of those that are not it matters by how much, beside what, and whether they are active.
            let missed = -constraints.slack(i, &self.x);
            if missed <= 0.0 || self.active.contains(&i) {
                continue;
            }
            let (normal, x) = constraints.reach(i, &self.x);
            let size = dot(normal, normal).sqrt();
            let reach = normal.iter().zip(x).map(|(n, x)| (n * x).abs()).sum::<f64>() + constraints.bounds[i].abs();
            if missed > TOLERANCE * (reach + size) && (size == 0.0 || missed / size > most) {
                most = if size == 0.0 { f64::INFINITY } else { missed / size };
                worst = Some(i);
            }
        }
        worst
    }

    /// A step towards keeping constraint `p` (steps 2a to 2c of the paper).
    fn step(&mut self, p: usize, constraints: &Constraints) -> Step {
        let (n, q) = (self.n, self.active.len());
        for k in 0..n {
            self.d[k] = constraints.along(p, column(&self.j, n, k));
        }
        self.z.fill(0.0);
        for k in q..n {
            axpy(self.d[k], column(&self.j, n, k), &mut self.z);
        }
        self.of_multipliers[..q].copy_from_slice(&self.d[..q]);
        divide(&self.r, n, &mut self.of_multipliers[..q]);
        let mut t = f64::INFINITY;
        let mut leaves = None;
        for i in 0..q {
            if self.of_multipliers[i] > 0.0 {
                let ratio = self.u[i] / self.of_multipliers[i];
                if ratio < t {
                    (t, leaves) = (ratio, Some(i));
                }
            }
        }
        let beside = dot(&self.d[q..], &self.d[q..]);
        let is_independent = beside > INDEPENDENT * INDEPENDENT * dot(&self.d, &self.d) && q < n;
        let to_constraint = if is_independent { -constraints.slack(p, &self.x) / beside } else { f64::INFINITY };
        let full = to_constraint <= t;
        t = t.min(to_constraint);
        if t == f64::INFINITY {
            return Step::Nowhere;
        }
        if is_independent {
            axpy(t, &self.z, &mut self.x);
        }
        for i in 0..q {
            self.u[i] -= t * self.of_multipliers[i];
        }
        self.u[q] += t;
        match leaves {
            Some(l) if !full => Step::Partial(l),
            _ => Step::Full,
        }
    }

    /// Makes `p` active: a reflection gathers what of its normal lies beside the others in one column of `J` (Householder). What it turns
    /// into that column is the step that has just been made.
    fn add(&mut self, p: usize) {
        let (n, q) = (self.n, self.active.len());
        let length = dot(&self.d[q..], &self.d[q..]).sqrt().copysign(self.d[q]);
        // I − v vᵀ ⁄ (length v₁) with v = d₂ + length e₁.
        let first = self.d[q] + length;
        axpy(length, column(&self.j, n, q), &mut self.z);
        for k in q..n {
            let v = if k == q { first } else { self.d[k] };
            axpy(-v / (length * first), &self.z, &mut self.j[k * n..(k + 1) * n]);
        }
        self.d[q] = -length;
        self.r[q * n..q * n + q + 1].copy_from_slice(&self.d[..=q]);
        self.active.push(p);
    }

    /// Takes the `l`-th active constraint out; the multiplier of the one that is on its way in stays the last.
    fn drop(&mut self, l: usize) {
        let (n, q) = (self.n, self.active.len());
        self.active.remove(l);
        self.u.remove(l);
        for k in l + 1..q {
            self.r.copy_within(k * n..k * n + k + 1, (k - 1) * n);
            // The column has one number below the diagonal now.
            let column = &mut self.r[(k - 1) * n..];
            let (c, s, length) = rotation(column[k - 1], column[k]);
            (column[k - 1], column[k]) = (length, 0.0);
            for later in k + 1..q {
                let column = &mut self.r[later * n..];
                let (above, below) = (column[k - 1], column[k]);
                (column[k - 1], column[k]) = (c * above + s * below, c * below - s * above);
            }
            rotate(&mut self.j, n, k - 1, c, s);
        }
    }
}

/// What a step has come to.
enum Step {
    /// The constraint is kept now.
    Full,
    /// An active one stands in the way.
    Partial(usize),
    /// There is no way.
    Nowhere,
}

fn column(matrix: &[f64], n: usize, k: usize) -> &[f64] {
    &matrix[k * n..(k + 1) * n]
}

/// Replaces a vector by `R⁻¹` times it.
fn divide(r: &[f64], n: usize, vector: &mut [f64]) {
    for k in (0..vector.len()).rev() {
        let of_r = &r[k * n..=k * n + k];
        let (before, rest) = vector.split_at_mut(k);
        rest[0] /= of_r[k];
        axpy(-rest[0], &of_r[..k], before);
    }
}

fn axpy(factor: f64, from: &[f64], to: &mut [f64]) {
    to.iter_mut().zip(from).for_each(|(to, from)| *to += factor * from);
}

/// Cosine, sine and length of the rotation that turns `(a, b)` into `(length, 0)`.
fn rotation(a: f64, b: f64) -> (f64, f64, f64) {
    let length = a.hypot(b);
    if length == 0.0 { (1.0, 0.0, 0.0) } else { (a / length, b / length, length) }
}

/// Rotates columns `k` and `k + 1`.
fn rotate(matrix: &mut [f64], n: usize, k: usize, c: f64, s: f64) {
    let (left, right) = matrix[k * n..(k + 2) * n].split_at_mut(n);
    for (a, b) in left.iter_mut().zip(right) {
        (*a, *b) = (c * *a + s * *b, c * *b - s * *a);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde::Deserialize;

    fn solved(g: &DMatrix<f64>, a: &[f64], constraints: &Constraints) -> (Ending, QuadraticProgram) {
        let mut program = QuadraticProgram::new(g).unwrap();
        let ending = program.solve(a, constraints, 1000);
        (ending, program)
    }

    /// The example of the paper: min ½ xᵀx' with G = [4 −2; −2 4], a = (6, 0), x ≥ 0, x₁ + x₂ ≥ 2; the minimum is (½, 3⁄2) with the
    /// value 6.5 (Goldfarb & Idnani 1983, section 3, from memory).
    #[test]
    fn the_example_of_the_paper() {
        let g = DMatrix::from_row_slice(2, 2, &[4.0, -2.0, -2.0, 4.0]);
        let mut constraints = Constraints::new(2);
        constraints.at_least(&[1.0, 0.0], 0.0);
        constraints.at_least(&[0.0, 1.0], 0.0);
        constraints.at_least(&[1.0, 1.0], 2.0);
        let (ending, program) = solved(&g, &[6.0, 0.0], &constraints);
        assert_eq!(ending, Ending::Solved);
        let x = program.x();
        assert!((x[0] - 0.5).abs() < 1e-12 && (x[1] - 1.5).abs() < 1e-12, "{x:?}");
        let value = 6.0 * x[0] + 2.0 * x[0] * x[0] - 2.0 * x[0] * x[1] + 2.0 * x[1] * x[1];
        assert!((value - 6.5).abs() < 1e-12, "{value}");
    }

    #[derive(Deserialize)]
    struct Outside {
        n: usize,
        g: Vec<f64>,
        a: Vec<f64>,
        normals: Vec<f64>,
        bounds: Vec<f64>,
        /// None where there is no point.
        x: Option<Vec<f64>>,
        multipliers: Vec<f64>,
    }

    fn assert_at(k: usize, (ending, program): (Ending, &QuadraticProgram), x: &[f64]) {
        assert_eq!(ending, Ending::Solved, "program {k}");
        for (own, theirs) in program.x().iter().zip(x) {
            assert!((own - theirs).abs() < 1e-8 * theirs.abs().max(1.0), "program {k}: {own} {theirs}");
        }
    }

    /// Random programs, some degenerate (constraints that meet in a point, the same one twice) and some without a point, against an
    /// outside solver of the same kind (`reference/quadratic.py`).
    #[test]
    fn random_programs_end_where_an_outside_solver_does() {
        let programs: Vec<Outside> =
            serde_json::from_str(include_str!("../../../../reference/data/quadratic.json")).unwrap();
        let (mut without, mut bound) = (0, 0);
        for (k, outside) in programs.iter().enumerate() {
            let g = DMatrix::from_row_slice(outside.n, outside.n, &outside.g);
            let mut constraints = Constraints::new(outside.n);
            for (normal, b) in outside.normals.chunks_exact(outside.n).zip(&outside.bounds) {
                constraints.at_least(normal, *b);
            }
            let (ending, program) = solved(&g, &outside.a, &constraints);
            let Some(x) = &outside.x else {
                without += 1;
                assert_eq!(ending, Ending::Infeasible, "program {k}");
                continue;
            };
            assert_at(k, (ending, &program), x);
            bound += program.multipliers().count();
            // What is bound twice shares its multiplier in any way; what the multipliers do is the same.
            for i in 0..outside.n {
                let push = |list: &mut dyn Iterator<Item = (usize, f64)>| -> f64 {
                    list.map(|(at, u)| u * constraints.normal(at)[i]).sum()
                };
                let own = push(&mut program.multipliers());
                let theirs = push(&mut outside.multipliers.iter().copied().enumerate());
                assert!((own - theirs).abs() < 1e-7 * theirs.abs().max(1.0), "program {k}: {own} {theirs}");
            }
        }
        assert!(programs.len() >= 2000 && without >= 200 && bound > 4000, "{} {without} {bound}", programs.len());
    }

    proptest! {
        /// The conditions of Karush, Kuhn & Tucker: no constraint is missed, multipliers are not negative, and what the function still
        /// gains is held by the constraints.
        #[test]
        fn minima_keep_the_conditions_of_optimality(
            n in 1usize..9,
            numbers in proptest::collection::vec(-1f64..1.0, 200),
            rows in 0usize..14,
        ) {
            let root = DMatrix::from_fn(n, n, |i, j| numbers[(i * n + j) % 81]);
            let g = &root * root.transpose() + DMatrix::identity(n, n) * 1e-2;
            let a: Vec<f64> = (0..n).map(|i| 3.0 * numbers[81 + i]).collect();
            let inside: Vec<f64> = (0..n).map(|i| numbers[91 + i]).collect();
            let mut constraints = Constraints::new(n);
            for row in 0..rows {
                let normal: Vec<f64> = (0..n).map(|i| numbers[(100 + row * n + i) % 200]).collect();
                // Every one is kept by a point that is known.
                constraints.at_least(&normal, dot(&normal, &inside) - numbers[(row * 7) % 200].abs());
            }
            let (ending, program) = solved(&g, &a, &constraints);
            prop_assert_eq!(ending, Ending::Solved);
            for i in 0..constraints.len() {
                prop_assert!(constraints.slack(i, program.x()) > -1e-8);
            }
            let mut left: Vec<f64> = (0..n).map(|i| a[i] + (0..n).map(|j| g[(i, j)] * program.x()[j]).sum::<f64>()).collect();
            for (i, u) in program.multipliers() {
                prop_assert!(u > -1e-9 && constraints.slack(i, program.x()).abs() < 1e-7);
                axpy(-u, constraints.normal(i), &mut left);
            }
            let scale = a.iter().fold(1.0, |most: f64, value| most.max(value.abs()));
            prop_assert!(left.iter().all(|value| value.abs() < 1e-7 * scale), "{:?}", left);
        }
    }

    /// What is begun anywhere ends where an outside solver does: at other constraints that were active, at none, or at a program without a
    /// point.
    #[test]
    fn programs_that_are_resumed_end_where_an_outside_solver_does() {
        let programs: Vec<Outside> =
            serde_json::from_str(include_str!("../../../../reference/data/quadratic.json")).unwrap();
        let (mut kept, mut without) = (0, 0);
        for (k, outside) in programs.iter().enumerate() {
            let g = DMatrix::from_row_slice(outside.n, outside.n, &outside.g);
            let mut constraints = Constraints::new(outside.n);
            for normal in outside.normals.chunks_exact(outside.n) {
                constraints.push(normal, f64::NEG_INFINITY);
            }
            let mut program = QuadraticProgram::new(&g).unwrap();
            // Elsewhere first: other linear terms, bounds that are tighter, looser, or not there.
            for turn in 0..4usize {
                let a: Vec<f64> =
                    outside.a.iter().enumerate().map(|(i, a)| a + ((i + turn) % 3) as f64 - 1.0).collect();
                for (i, (own, bound)) in constraints.bounds_mut().iter_mut().zip(&outside.bounds).enumerate() {
                    *own = match (i + turn + k) % 4 {
                        0 => f64::NEG_INFINITY,
                        of => bound + 0.3 * (of as f64 - 2.0),
                    };
                }
                program.resume(&a, &constraints, 1000);
            }
            kept += program.multipliers().count();
            constraints.bounds_mut().copy_from_slice(&outside.bounds);
            let ending = program.resume(&outside.a, &constraints, 1000);
            let Some(x) = &outside.x else {
                without += 1;
                assert_eq!(ending, Ending::Infeasible, "program {k}");
                continue;
            };
            assert_at(k, (ending, &program), x);
        }
        assert!(kept > 2000 && without >= 200, "{kept} {without}");
    }

    proptest! {
        /// As a controller does it: the linear term and the bounds drift, and jump now and then. Where each program was begun changes nothing of
        /// where it ends, over so many that no rounding may add up.
        #[test]
        fn where_a_program_is_begun_changes_nothing(
            n in 2usize..12,
            numbers in proptest::collection::vec(-1f64..1.0, 400),
            pace in 0.01f64..0.5,
        ) {
            let root = DMatrix::from_fn(n, n, |i, j| numbers[i * n + j]);
            let g = &root * root.transpose() + DMatrix::identity(n, n) * 1e-2;
            let mut constraints = Constraints::new(n);
            for row in 0..2 * n {
                let normal: Vec<f64> = (0..n).map(|i| numbers[(150 + row * n + i) % 400]).collect();
                constraints.within(&normal, -1.0, 1.0);
            }
            let (mut fresh, mut resumed) = (QuadraticProgram::new(&g).unwrap(), QuadraticProgram::new(&g).unwrap());
            let (mut of_fresh, mut of_resumed) = (0, 0);
            for turn in 0..60 {
                let jumps = f64::from(turn / 20);
                let a: Vec<f64> = (0..n)
                    .map(|i| 4.0 * (pace * f64::from(turn) + numbers[i] * 3.0 + 2.0 * jumps * numbers[n + i]).sin())
                    .collect();
                for (row, bound) in constraints.bounds_mut().iter_mut().enumerate() {
                    *bound = -1.0 - 0.5 * (pace * f64::from(turn) * numbers[row % 400]).sin();
                }
                prop_assert_eq!(fresh.solve(&a, &constraints, 1000), Ending::Solved);
                prop_assert_eq!(resumed.resume(&a, &constraints, 1000), Ending::Solved);
                for (own, other) in resumed.x().iter().zip(fresh.x()) {
                    prop_assert!((own - other).abs() < 1e-9 * other.abs().max(1.0), "{} {}", own, other);
                }
                (of_fresh, of_resumed) = (of_fresh + fresh.steps(), of_resumed + resumed.steps());
            }
            // It is what saves the work that it is there for.
            prop_assert!(pace > 0.1 || of_resumed <= of_fresh, "{} {}", of_resumed, of_fresh);
        }
    }

    #[test]
    fn what_cannot_be_is_told_and_what_takes_too_long_ends() {
        let g = DMatrix::identity(2, 2);
        let mut constraints = Constraints::new(2);
        constraints.within(&[1.0, 0.0], 2.0, 1.0);
        assert_eq!(solved(&g, &[0.0, 0.0], &constraints).0, Ending::Infeasible);
        let mut nothing = Constraints::new(2);
        nothing.at_least(&[0.0, 0.0], 1.0);
        assert_eq!(solved(&g, &[0.0, 0.0], &nothing).0, Ending::Infeasible);
        assert!(QuadraticProgram::new(&DMatrix::from_row_slice(2, 2, &[1.0, 2.0, 2.0, 1.0])).is_none());
        let mut corner = Constraints::new(2);
        corner.within(&[1.0, 0.0], 1.0, f64::INFINITY);
        corner.within(&[0.0, 1.0], 1.0, f64::INFINITY);
        assert_eq!(corner.len(), 2);
        let mut program = QuadraticProgram::new(&g).unwrap();
        assert_eq!(program.solve(&[0.0, 0.0], &corner, 1), Ending::Limit);
        assert_eq!(program.solve(&[0.0, 0.0], &corner, 2), Ending::Solved);
        assert_eq!(program.x(), [1.0, 1.0]);
    }
}
