//! Thin layer over the libraries for least squares, one-dimensional searches, medians and autoregressions.

mod least_squares;
mod search;
mod statistics;

pub use least_squares::{Compressed, NormalEquations, Outcome, minimise};
pub use search::{bisect, peak};
pub use statistics::{levinson, median};
