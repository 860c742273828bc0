//! Thin layer over the libraries for least squares, one-dimensional searches, roots, medians and autoregressions.

mod arithmetic;
mod least_squares;
pub mod ode;
mod polynomial;
mod search;
mod statistics;

pub use arithmetic::{Arithmetic, read_arithmetic};
pub use least_squares::{Compressed, NormalEquations, Outcome, minimise};
pub use polynomial::{eigenvalues, largest_root, roots};
pub use search::{bisect, peak};
pub use statistics::{levinson, median, range};
