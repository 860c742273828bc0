//! Arithmetic as people write it, read and evaluated by the library `exmex`.

use exmex::{Express, FlatEx, FloatOpsFactory, MatchLiteral, literal_matcher_from_pattern};

literal_matcher_from_pattern!(NumberMatcher, r"^(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][+-]?[0-9]+)?");

/// An expression over named values: `+ - * / ^`, brackets, and the usual functions.
pub type Arithmetic = FlatEx<f64, FloatOpsFactory<f64>, NumberMatcher>;

/// Reads an expression; true minus signs and centred dots are taken for what they mean. The error says what is wrong.
pub fn read_arithmetic(text: &str) -> Result<Arithmetic, String> {
    Arithmetic::parse(&text.replace('−', "-").replace(['·', '×'], "*")).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_are_read_as_they_are_written() {
        let value = |text: &str| read_arithmetic(text).unwrap().eval(&[]).unwrap();
        for (text, expected) in
            [("7.2e10", 7.2e10), ("1E-3*2", 2e-3), (".5+2.", 2.5), ("2^−3·8", 1.0), ("max(3, 4)−min(1, 2)", 3.0)]
        {
            assert_eq!(value(text), expected, "{text}");
        }
        assert!(read_arithmetic("2 * (3").is_err());
        assert_eq!(read_arithmetic("level_1 / 1e2").unwrap().var_names(), ["level_1"]);
    }
}
