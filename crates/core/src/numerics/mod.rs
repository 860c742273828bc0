//! Thin layer over the libraries for least squares, one-dimensional searches, roots, medians and autoregressions; quadratic programs.

mod arithmetic;
mod dual;
mod least_squares;
pub mod ode;
mod parallel;
mod parametric;
mod polynomial;
mod quadratic;
mod ranked;
mod recursive;
mod riccati;
mod search;
mod statistics;

pub use arithmetic::{Arithmetic, read_arithmetic};
pub use dual::{Dual, Number, SEEDS, derivatives, seeded};
pub use least_squares::{Compressed, NormalEquations, Outcome, RowBlock, minimise};
pub use parallel::{in_parallel, on_threads};
pub use parametric::{ParametricProgram, Region, locate};
pub use polynomial::{eigenvalues, largest_root, roots};
pub use quadratic::{Constraints, Ending, QuadraticProgram};
pub use ranked::{RankedNormal, RankedProgram, Solved};
pub(crate) use recursive::RecursiveLeastSquares;
pub(crate) use riccati::symmetrise;
pub use riccati::{regulator_gain, riccati};
pub use search::{bisect, peak, peak_in};
pub use statistics::{
    NORMAL_95, burg, by_akaike, covariances, deviation_by_median, dot, levinson, longest_run, median, quantile, range,
    square_root,
};

/// Sweeps after which a decomposition that has not converged never will: of what is not finite, or at the edge of it.
pub(crate) const MOST_SWEEPS: usize = 10_000;

/// A value to so many significant digits, as one would write it down.
pub(crate) fn rounded(value: f64, digits: usize) -> f64 {
    format!("{value:.*e}", digits.saturating_sub(1)).parse().unwrap_or(value)
}
