//! Quadratic programs whose linear term and bounds follow from parameters: every region of these in which one affine law holds.

use super::dot;
use super::quadratic::{Constraints, Ending, QuadraticProgram};
use nalgebra::{DMatrix, DVector};
use std::collections::HashSet;

/// Steps of the programs by which regions are found.
const MOST_STEPS: usize = 10_000;
/// A region must hold a ball of this radius, in halves of the box, to be one.
const LEAST_RADIUS: f64 = 1e-7;
/// Share of its largest pivot below which a set of constraints counts as dependent.
const DEPENDENT: f64 = 1e-10;
/// What squares count beside what is sought, where a linear program is solved as a quadratic one.
const BESIDE: f64 = 1e-7;
/// A side of a region that no point comes nearer to than this is none.
const OUTSIDE: f64 = 1e-9;

/// `min ½ zᵀG z + (F θ + f)ᵀz` subject to `N z ≥ S θ + s`, for all `θ` in a box.
///
/// The optimum is piecewise affine in `θ`: where one set of constraints is active, one law holds (Bemporad, Morari, Dua & Pistikopoulos,
/// Automatica 38, 2002). The sets are enumerated from the smallest on; one that can nowhere be active takes all that hold it with it (Gupta,
/// Bhartiya & Nataraj, Automatica 47, 2011).
#[derive(Debug, Clone)]
pub struct ParametricProgram {
    /// G, positive definite.
    pub matrix: DMatrix<f64>,
    /// F and f.
    pub linear: (DMatrix<f64>, DVector<f64>),
    /// N, a constraint a row.
    pub normals: DMatrix<f64>,
    /// S and s.
    pub bounds: (DMatrix<f64>, DVector<f64>),
    /// The least and the greatest value of every parameter.
    pub within: Vec<(f64, f64)>,
}

/// A region of the parameters, in which `z = K θ + k`.
#[derive(Debug, Clone, PartialEq)]
pub struct Region {
    /// The constraints that are active in it.
    pub active: Vec<usize>,
    /// K.
    pub gain: DMatrix<f64>,
    /// k.
    pub offset: DVector<f64>,
    /// Its sides: it is where `aᵀθ ≥ b` for all of them, and within the box.
    pub sides: Vec<(DVector<f64>, f64)>,
}

impl Region {
    /// By how much a point keeps the side that it is nearest to breaking; above 0 inside. Sides are of unit length in halves of the box.
    #[must_use]
    pub fn depth(&self, theta: &[f64]) -> f64 {
        self.sides.iter().map(|(normal, bound)| dot(normal.as_slice(), theta) - bound).fold(f64::INFINITY, f64::min)
    }

    /// The optimum at a point of it.
    #[must_use]
    pub fn at(&self, theta: &[f64]) -> DVector<f64> {
        &self.gain * DVector::from_column_slice(theta) + &self.offset
    }
}

/// The region that a point lies in: that which it is deepest in, so that one on a border has one, too; None outside all of them.
#[must_use]
pub fn locate<'a>(regions: &'a [Region], theta: &[f64]) -> Option<&'a Region> {
    let mut best: Option<(&Region, f64)> = None;
    for region in regions {
        let depth = region.depth(theta);
        if depth >= 0.0 {
            return Some(region);
        }
        if best.is_none_or(|(_, known)| depth > known) {
            best = Some((region, depth));
        }
    }
    best.filter(|(_, depth)| *depth > -1e-6).map(|(region, _)| region)
}

impl ParametricProgram {
    /// All regions; None where there are more than `most`, or more than a thousand times as many sets to try.
    #[must_use]
    pub fn regions(&self, most: usize) -> Option<Vec<Region>> {
        let scaled = self.in_halves();
        let search = Search::new(&scaled)?;
        let (n, rows) = (scaled.matrix.nrows(), scaled.normals.nrows());
        let mut found: Vec<Region> = search.region(&[]).into_iter().collect();
        let (mut level, mut tried) = (vec![Vec::new()], 0);
        let mut possible: HashSet<Vec<usize>> = HashSet::new();
        for size in 1..=n.min(rows) {
            let mut next = Vec::new();
            for set in &level {
                for row in set.last().map_or(0, |last: &usize| last + 1)..rows {
                    let mut larger: Vec<usize> = set.clone();
                    larger.push(row);
                    // All that it holds must have been possible.
                    let without = |out: usize| -> Vec<usize> {
                        larger.iter().enumerate().filter(|(k, _)| *k != out).map(|(_, row)| *row).collect()
                    };
                    if size > 1 && (0..size - 1).any(|out| !possible.contains(&without(out))) {
                        continue;
                    }
                    crate::work::go_on();
                    tried += 1;
                    if tried > 1000 * most {
                        return None;
                    }
                    if !search.is_possible(&larger) {
                        continue;
                    }
                    found.extend(search.region(&larger));
                    if found.len() > most {
                        return None;
                    }
                    next.push(larger);
                }
            }
            possible.extend(next.iter().cloned());
            level = next;
        }
        // Which sides are needed is asked at the end: it is most of the work, and in vain where there are too many regions.
        let p = self.within.len();
        let reduced = |region: Region| Region { sides: needed(region.sides, p), ..region };
        Some(found.into_iter().map(|region| self.in_units(reduced(region))).collect())
    }

    fn halves(&self) -> (DVector<f64>, DVector<f64>) {
        let middle = self.within.iter().map(|(low, high)| 0.5 * (low + high));
        let half = self.within.iter().map(|(low, high)| 0.5 * (high - low));
        let count = self.within.len();
        (DVector::from_iterator(count, middle), DVector::from_iterator(count, half))
    }

    /// The same by parameters that run from −1 to 1.
    fn in_halves(&self) -> Self {
        let (middle, half) = self.halves();
        let scaled = |(matrix, vector): &(DMatrix<f64>, DVector<f64>)| {
            let mut by = matrix.clone();
            for (k, half) in half.iter().enumerate() {
                by.column_mut(k).scale_mut(*half);
            }
            (by, vector + matrix * &middle)
        };
        Self {
            linear: scaled(&self.linear),
            bounds: scaled(&self.bounds),
            within: vec![(-1.0, 1.0); self.within.len()],
            ..self.clone()
        }
    }

    /// A region of parameters that run from −1 to 1, by those themselves.
    fn in_units(&self, mut region: Region) -> Region {
        let (middle, half) = self.halves();
        for (k, half) in half.iter().enumerate() {
            region.gain.column_mut(k).scale_mut(half.recip());
        }
        region.offset -= &region.gain * &middle;
        for (normal, bound) in &mut region.sides {
            normal.component_div_assign(&half);
            *bound += normal.dot(&middle);
        }
        region
    }
}

/// What regions are found by.
struct Search<'a> {
    program: &'a ParametricProgram,
    /// G⁻¹ Nᵀ, and G⁻¹ F, G⁻¹ f.
    to_normals: DMatrix<f64>,
    free: (DMatrix<f64>, DVector<f64>),
    /// All constraints on `(z, θ)`, those of the box after them.
    all: Constraints,
}

impl<'a> Search<'a> {
    fn new(program: &'a ParametricProgram) -> Option<Self> {
        let cholesky = program.matrix.clone().cholesky()?;
        let (n, p) = (program.matrix.nrows(), program.within.len());
        let mut all = Constraints::new(n + p);
        for row in 0..program.normals.nrows() {
            let of_z = program.normals.row(row).iter().copied().collect::<Vec<_>>();
            let of_theta = program.bounds.0.row(row).iter().map(|value| -value).collect::<Vec<_>>();
            all.push(&[of_z, of_theta].concat(), program.bounds.1[row]);
        }
        for k in 0..p {
            let mut one = vec![0.0; n + p];
            one[n + k] = 1.0;
            all.within(&one, -1.0, 1.0);
        }
        Some(Self {
            to_normals: cholesky.solve(&program.normals.transpose()),
            free: (cholesky.solve(&program.linear.0), cholesky.solve(&program.linear.1)),
            program,
            all,
        })
    }

    /// Whether there are parameters and a point at which these constraints are active and all others are kept.
    fn is_possible(&self, set: &[usize]) -> bool {
        let (n, p) = (self.program.matrix.nrows(), self.program.within.len());
        let mut with = self.all.clone();
        for row in set {
            // The other side of what is kept.
            let turned: Vec<f64> = with.normal(*row).iter().map(|value| -value).collect();
            with.push(&turned, -self.program.bounds.1[*row]);
        }
        let Some(mut near) = QuadraticProgram::new(&DMatrix::identity(n + p, n + p)) else { return false };
        near.solve(&vec![0.0; n + p], &with, MOST_STEPS) != Ending::Infeasible
    }

    /// The region in which exactly these constraints are active; None where it is none, or has no inside.
    fn region(&self, set: &[usize]) -> Option<Region> {
        let Self { program, to_normals, free, .. } = self;
        let p = program.within.len();
        // z = −G⁻¹(Fθ + f) + G⁻¹N_Aᵀλ, and N_A z = S_A θ + s_A.
        let active = program.normals.select_rows(set);
        let by_lambda = to_normals.select_columns(set);
        let (bounds, bound) = (program.bounds.0.select_rows(set), program.bounds.1.select_rows(set));
        let (lambda, lambda_at) = if set.is_empty() {
            (DMatrix::zeros(0, p), DVector::zeros(0))
        } else {
            let cholesky = (&active * &by_lambda).cholesky()?;
            let pivots = cholesky.l_dirty().diagonal();
            if pivots.min() < DEPENDENT.sqrt() * pivots.max() {
                return None;
            }
            (cholesky.solve(&(bounds + &active * &free.0)), cholesky.solve(&(bound + &active * &free.1)))
        };
        let (gain, offset) = (&by_lambda * &lambda - &free.0, &by_lambda * &lambda_at - &free.1);
        let mut sides = Vec::new();
        for row in (0..program.normals.nrows()).filter(|row| !set.contains(row)) {
            let normal = program.normals.row(row);
            let of = (normal * &gain - program.bounds.0.row(row)).transpose();
            sides.push((of, program.bounds.1[row] - (normal * &offset)[0]));
        }
        for (k, at) in lambda_at.iter().enumerate() {
            sides.push((lambda.row(k).transpose(), -at));
        }
        let scale = sides.iter().map(|(normal, bound)| normal.norm().max(bound.abs())).fold(1e-300, f64::max);
        let mut own: Vec<(DVector<f64>, f64)> = Vec::new();
        for (normal, bound) in sides {
            let length = normal.norm();
            if length < 1e-12 * scale {
                if bound > OUTSIDE * scale {
                    return None;
                }
                continue;
            }
            own.push((normal / length, bound / length));
        }
        let radius = radius_of(&own, p)?;
        (radius > LEAST_RADIUS).then(|| Region { active: set.to_vec(), gain, offset, sides: own })
    }
}

/// The box, as sides.
fn box_sides(p: usize) -> impl Iterator<Item = (DVector<f64>, f64)> {
    (0..p).flat_map(move |k| {
        [1.0, -1.0].map(|sign| {
            let mut normal = DVector::zeros(p);
            normal[k] = sign;
            (normal, -1.0)
        })
    })
}

/// Radius of a ball between sides of unit length and within the box: the largest, where that is no more than a small share of the box. None where a
/// program has not ended.
fn radius_of(sides: &[(DVector<f64>, f64)], p: usize) -> Option<f64> {
    const ENOUGH: f64 = 1e-2;
    let mut matrix = DMatrix::identity(p + 1, p + 1) * BESIDE;
    matrix[(p, p)] = 1.0;
    let mut linear = vec![0.0; p + 1];
    linear[p] = -ENOUGH;
    let mut constraints = Constraints::new(p + 1);
    for (normal, bound) in sides.iter().cloned().chain(box_sides(p)) {
        let mut row: Vec<f64> = normal.iter().copied().collect();
        row.push(-1.0);
        constraints.push(&row, bound);
    }
    let mut program = QuadraticProgram::new(&matrix)?;
    (program.solve(&linear, &constraints, MOST_STEPS) == Ending::Solved).then(|| program.x()[p])
}

/// The sides that some point of the region stands at.
fn needed(sides: Vec<(DVector<f64>, f64)>, p: usize) -> Vec<(DVector<f64>, f64)> {
    let matrix = DMatrix::identity(p, p) * BESIDE;
    let mut left = sides;
    let mut k = 0;
    while k < left.len() {
        let mut others = Constraints::new(p);
        for (at, (normal, bound)) in left.iter().enumerate() {
            if at != k {
                others.push(normal.as_slice(), *bound);
            }
        }
        for (normal, bound) in box_sides(p) {
            others.push(normal.as_slice(), bound);
        }
        let (normal, bound) = &left[k];
        let furthest = QuadraticProgram::new(&matrix).and_then(|mut program| {
            let ending = program.solve(normal.as_slice(), &others, MOST_STEPS);
            (ending == Ending::Solved).then(|| dot(program.x(), normal.as_slice()))
        });
        if furthest.is_some_and(|furthest| furthest > bound + OUTSIDE) {
            left.remove(k);
        } else {
            k += 1;
        }
    }
    left
}

#[cfg(test)]
mod tests {
    use super::super::riccati;
    use super::*;
    use proptest::prelude::*;

    /// The double integrator `x⁺ = [1 1; 0 1] x + [0.5; 1] u`, Q = I, R = 0.1, |u| ≤ 1, with the cost beyond the horizon.
    fn double_integrator(horizon: usize) -> ParametricProgram {
        let a = DMatrix::from_row_slice(2, 2, &[1.0, 1.0, 0.0, 1.0]);
        let b = DMatrix::from_row_slice(2, 1, &[0.5, 1.0]);
        let (q, r) = (DMatrix::identity(2, 2), DMatrix::from_element(1, 1, 0.1));
        let p = riccati(&a, &b, &q, &r).unwrap();
        let (mut free, mut moved) = (DMatrix::identity(2, 2), DMatrix::zeros(2, horizon));
        let mut matrix = DMatrix::identity(horizon, horizon) * 0.1;
        let mut linear = DMatrix::zeros(horizon, 2);
        for k in 0..horizon {
            free = &a * free;
            moved = &a * moved;
            moved.set_column(k, &b.column(0));
            let weight = if k + 1 == horizon { &p } else { &q };
            matrix += moved.transpose() * weight * &moved;
            linear += moved.transpose() * weight * &free;
        }
        let mut normals = DMatrix::zeros(2 * horizon, horizon);
        for k in 0..horizon {
            normals[(2 * k, k)] = 1.0;
            normals[(2 * k + 1, k)] = -1.0;
        }
        ParametricProgram {
            matrix,
            linear: (linear, DVector::zeros(horizon)),
            bounds: (DMatrix::zeros(2 * horizon, 2), DVector::from_element(2 * horizon, -1.0)),
            normals,
            within: vec![(-10.0, 10.0); 2],
        }
    }

    /// Counted by an enumeration of all active sets with an outside linear program solver (`reference/parametric.py`).
    #[test]
    fn the_double_integrator_has_as_many_regions_as_an_enumeration_finds() {
        let counts: Vec<usize> =
            (1..=4).map(|horizon| double_integrator(horizon).regions(1000).unwrap().len()).collect();
        assert_eq!(counts, [3, 9, 19, 33]);
        assert!(double_integrator(4).regions(32).is_none());
    }

    /// The optimum of a program at a point, by the solver that knows no regions.
    fn solved(program: &ParametricProgram, theta: &DVector<f64>) -> Vec<f64> {
        let mut constraints = Constraints::new(program.matrix.nrows());
        let bounds = &program.bounds.0 * theta + &program.bounds.1;
        for (row, bound) in bounds.iter().enumerate() {
            constraints.push(&program.normals.row(row).iter().copied().collect::<Vec<_>>(), *bound);
        }
        let linear = &program.linear.0 * theta + &program.linear.1;
        let mut own = QuadraticProgram::new(&program.matrix).unwrap();
        assert_eq!(own.solve(linear.as_slice(), &constraints, 1000), Ending::Solved);
        own.x().to_vec()
    }

    #[test]
    fn ten_thousand_points_have_the_optimum_of_the_solver() {
        let program = double_integrator(4);
        let regions = program.regions(100).unwrap();
        for k in 0..10_000u32 {
            // Points of a lattice that no border runs along.
            let theta =
                [f64::from(k) * 0.754_877_666, f64::from(k) * 0.569_840_291].map(|value| 20.0 * value.fract() - 10.0);
            let region = locate(&regions, &theta).unwrap();
            let exact = solved(&program, &DVector::from_column_slice(&theta));
            let off = region.at(&theta).iter().zip(&exact).map(|(a, b)| (a - b).abs()).fold(0.0, f64::max);
            assert!(off < 1e-9, "{theta:?}: {off}");
        }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]

        /// Regions cover the box, do not overlap, and hold the optimum that the solver finds.
        #[test]
        fn regions_of_random_programs_hold_the_optimum(
            (n, p, rows) in (1usize..4, 1usize..4, 1usize..6),
            numbers in proptest::collection::vec(-1f64..1.0, 120),
            points in proptest::collection::vec(-1f64..1.0, 60),
        ) {
            let mut numbers = numbers.into_iter().cycle();
            let mut matrix = |rows: usize, columns: usize| DMatrix::from_fn(rows, columns, |_, _| numbers.next().unwrap());
            let root = matrix(n, n);
            let program = ParametricProgram {
                matrix: &root * root.transpose() + DMatrix::identity(n, n) * 0.1,
                linear: (matrix(n, p) * 2.0, matrix(n, 1).column(0).into_owned()),
                normals: matrix(rows, n),
                // The point 0 keeps all of them at every parameter of the box.
                bounds: (matrix(rows, p) * 0.1, matrix(rows, 1).column(0).map(|value| -0.1 * p as f64 - value.abs())),
                within: vec![(-1.0, 1.0); p],
            };
            let regions = program.regions(500).unwrap();
            for theta in points.chunks_exact(p) {
                let region = locate(&regions, theta);
                prop_assert!(region.is_some(), "{:?}", theta);
                let exact = solved(&program, &DVector::from_column_slice(theta));
                for (own, exact) in region.unwrap().at(theta).iter().zip(&exact) {
                    prop_assert!((own - exact).abs() < 1e-6, "{} {}", own, exact);
                }
                let inside = regions.iter().filter(|region| region.depth(theta) > 1e-6).count();
                prop_assert!(inside <= 1, "{} regions at {:?}", inside, theta);
            }
        }
    }
}
