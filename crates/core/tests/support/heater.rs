//! The laboratory heater record: a classic open record, read from Debian's package `libslicot-doc`.

use super::{DataSet, Series, TimeAxis};
use std::io::Read;

const RECORD: &str = "/usr/share/doc/libslicot-doc/examples/fortran77/IB01AD.dat.gz";

/// Heater power and outlet temperature, 1000 samples each at 0.08 s.
pub fn record() -> (Vec<f64>, Vec<f64>) {
    let file = std::fs::File::open(RECORD)
        .unwrap_or_else(|error| panic!("{RECORD}: {error}; `./run test` installs it (Debian package libslicot-doc)"));
    let mut text = String::new();
    flate2::read::GzDecoder::new(file).read_to_string(&mut text).unwrap();
    let numbers: Vec<f64> =
        text.lines().skip(2).flat_map(str::split_whitespace).map(|word| word.parse().unwrap()).collect();
    assert_eq!(numbers.len(), 2000);
    (numbers[..1000].to_vec(), numbers[1000..].to_vec())
}

/// The record as a data set.
pub fn data(input: Vec<f64>, output: Vec<f64>) -> DataSet {
    let axis = TimeAxis::uniform(0.08, input.len()).unwrap();
    DataSet::single(axis, Series::new("heater", "W", input), Series::new("outlet", "V", output))
}
