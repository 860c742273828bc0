//! Thin layer over the libraries for least squares, and one-dimensional searches.

mod least_squares;
mod search;

pub use least_squares::{Compressed, NormalEquations, Outcome, minimise};
pub use search::{bisect, peak};
