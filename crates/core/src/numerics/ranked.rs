//! Quadratic programs whose constraints are ranked: what cannot be kept gives way in the order of its rank.

use super::quadratic::{Constraints, Ending, QuadraticProgram};
use nalgebra::DMatrix;

/// How much what is minimised counts beside the constraints that are missed, while it is sought which must be.
const BESIDE: f64 = 1e-9;
/// How much further a constraint gives way than it must, in the unit of the bounds: what comes after has that room. It is far above what
/// rounding does to the programs before, since normals that are nearly parallel, as those of one CV at two scans, make of an error of that
/// order another point; and far below what anybody would miss.
const SPARE: f64 = 1e-6;

/// `min ½ xᵀG x + aᵀx` subject to `nᵢᵀx ≥ bᵢ`, where only some constraints must be kept. The others have ranks, 1 before 2 before 3:
/// where no point keeps them all, those of the first rank are missed by as little as can be (the least sum of squares), then,
/// without a loss to these, those of the second, and so on; what is minimised comes last (lexicographic order, common practice).
#[derive(Debug, Clone)]
pub struct RankedProgram {
    program: QuadraticProgram,
    constraints: Constraints,
    ranks: Vec<Option<u32>>,
    stages: Vec<Stage>,
    /// By how much each constraint gave way the last time.
    given: Vec<f64>,
    /// The bounds as they are with that.
    bounds: Vec<f64>,
    scaled: Vec<f64>,
}

/// The program that tells by how little the constraints of a rank can be missed: its unknowns are those of the program, and how much
/// each constraint of the rank is missed by.
#[derive(Debug, Clone)]
struct Stage {
    rank: u32,
    rows: Vec<usize>,
    program: QuadraticProgram,
    constraints: Constraints,
    linear: Vec<f64>,
}

/// A constraint by its normal and its rank; none for one that must be kept.
pub type RankedNormal = (Vec<f64>, Option<u32>);

/// How a ranked program ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Solved {
    /// [`Ending::Infeasible`] where not even what must be kept can be.
    pub ending: Ending,
    /// Steps of all programs together.
    pub steps: usize,
    /// Whether some constraints gave way.
    pub gave_way: bool,
}

impl RankedProgram {
    /// With this matrix `G` and these normals, each with its rank; none for what must be kept. None where `G` is not positive definite.
    #[must_use]
    pub fn new(g: &DMatrix<f64>, normals: &[RankedNormal]) -> Option<Self> {
        let n = g.nrows();
        let mut constraints = Constraints::new(n);
        for (normal, _) in normals {
            constraints.push(normal, f64::NEG_INFINITY);
        }
        let ranks: Vec<Option<u32>> = normals.iter().map(|(_, rank)| *rank).collect();
        let mut levels: Vec<u32> = ranks.iter().flatten().copied().collect();
        levels.sort_unstable();
        levels.dedup();
        let stages = levels.into_iter().map(|rank| Stage::new(g, normals, rank)).collect::<Option<_>>()?;
        let (given, bounds) = (vec![0.0; normals.len()], vec![f64::NEG_INFINITY; normals.len()]);
        let program = QuadraticProgram::new(g)?;
        Some(Self { program, constraints, ranks, stages, given, bounds, scaled: vec![0.0; n] })
    }

    /// The minimum for this linear term and these bounds, in at most so many steps of each program; it is sought from the constraints that
    /// were active the last time. Where some must give way each of those programs begins with none, since others are active then.
    pub fn solve(&mut self, a: &[f64], bounds: &[f64], most: usize) -> Solved {
        self.given.fill(0.0);
        self.bounds.copy_from_slice(bounds);
        self.constraints.bounds_mut().copy_from_slice(bounds);
        let ending = self.program.resume(a, &self.constraints, most);
        let mut solved = Solved { ending, steps: self.program.steps(), gave_way: false };
        if ending != Ending::Infeasible || self.stages.is_empty() {
            return solved;
        }
        solved.gave_way = true;
        self.scaled.iter_mut().zip(a).for_each(|(scaled, a)| *scaled = BESIDE * a);
        for stage in &mut self.stages {
            let ending = stage.solve(&self.scaled, &self.bounds, &self.ranks, most);
            solved.steps += stage.program.steps();
            if ending != Ending::Solved {
                solved.ending = ending;
                return solved;
            }
            for (place, row) in stage.rows.iter().enumerate() {
                let missed = stage.program.x()[self.scaled.len() + place].max(0.0);
                if missed > SPARE {
                    self.given[*row] = missed;
                }
                self.bounds[*row] -= missed + SPARE;
            }
        }
        self.constraints.bounds_mut().copy_from_slice(&self.bounds);
        solved.ending = self.program.solve(a, &self.constraints, most);
        solved.steps += self.program.steps();
        if solved.ending == Ending::Infeasible
            && let Some(last) = self.stages.last()
        {
            // By rounding only: the point of the last rank keeps all that can be kept.
            self.program.take(&last.program.x()[..self.scaled.len()]);
            solved.ending = Ending::Solved;
        }
        solved
    }

    /// The point that was found.
    #[must_use]
    pub fn x(&self) -> &[f64] {
        self.program.x()
    }

    /// The active constraints, each with its multiplier.
    pub fn multipliers(&self) -> impl Iterator<Item = (usize, f64)> {
        self.program.multipliers()
    }

    /// By how much a constraint gave way.
    #[must_use]
    pub fn given(&self, row: usize) -> f64 {
        self.given[row]
    }
}

impl Stage {
    fn new(g: &DMatrix<f64>, normals: &[RankedNormal], rank: u32) -> Option<Self> {
        let n = g.nrows();
        let rows: Vec<usize> = (0..normals.len()).filter(|row| normals[*row].1 == Some(rank)).collect();
        let mut matrix = DMatrix::identity(n + rows.len(), n + rows.len());
        matrix.view_mut((0, 0), (n, n)).copy_from(&(g * BESIDE));
        let mut constraints = Constraints::new(n + rows.len());
        for (row, (normal, _)) in normals.iter().enumerate() {
            let mut longer = vec![0.0; n + rows.len()];
            longer[..n].copy_from_slice(normal);
            if let Some(place) = rows.iter().position(|own| *own == row) {
                longer[n + place] = 1.0;
            }
            constraints.push(&longer, f64::NEG_INFINITY);
        }
        let linear = vec![0.0; n + rows.len()];
        Some(Self { rank, rows, program: QuadraticProgram::new(&matrix)?, constraints, linear })
    }

    fn solve(&mut self, a: &[f64], bounds: &[f64], ranks: &[Option<u32>], most: usize) -> Ending {
        // What comes later has no say here.
        for ((own, bound), rank) in self.constraints.bounds_mut().iter_mut().zip(bounds).zip(ranks) {
            *own = if rank.is_some_and(|rank| rank > self.rank) { f64::NEG_INFINITY } else { *bound };
        }
        self.linear[..a.len()].copy_from_slice(a);
        self.program.solve(&self.linear, &self.constraints, most)
    }
}
