//! Arithmetic as engineers write it, read into a small program for a stack.
//!
//! `-x^2` is −(x²), `2^3^2` is 2⁹, `2^-3` is an eighth, and `a / b * c` goes from the left: the rules of the trade, of
//! mathematics, and of the languages in which a formula would else be tried. The library that stood here before binds a sign
//! more tightly than a power and reads powers from the left, which is why the reader is our own.

use super::dual::Number;
use std::collections::HashMap;

/// Deepest nesting, which is also the most values that wait at once.
const DEEPEST: usize = 64;

/// A function of one value, and its slope.
#[derive(Debug, Clone, Copy)]
struct Unary {
    value: fn(f64) -> f64,
    slope: fn(f64) -> f64,
}

const fn unary(value: fn(f64) -> f64, slope: fn(f64) -> f64) -> Unary {
    Unary { value, slope }
}

const UNARY: [(&str, Unary); 26] = [
    ("abs", unary(f64::abs, f64::signum)),
    ("signum", unary(f64::signum, |_| 0.0)),
    ("sin", unary(f64::sin, f64::cos)),
    ("cos", unary(f64::cos, |x| -x.sin())),
    ("tan", unary(f64::tan, |x| x.cos().powi(-2))),
    ("asin", unary(f64::asin, |x| (1.0 - x * x).sqrt().recip())),
    ("acos", unary(f64::acos, |x| -(1.0 - x * x).sqrt().recip())),
    ("atan", unary(f64::atan, |x| (1.0 + x * x).recip())),
    ("sinh", unary(f64::sinh, f64::cosh)),
    ("cosh", unary(f64::cosh, f64::sinh)),
    ("tanh", unary(f64::tanh, |x| 1.0 - x.tanh().powi(2))),
    ("asinh", unary(f64::asinh, |x| (x * x + 1.0).sqrt().recip())),
    ("acosh", unary(f64::acosh, |x| (x * x - 1.0).sqrt().recip())),
    ("atanh", unary(f64::atanh, |x| (1.0 - x * x).recip())),
    ("floor", unary(f64::floor, |_| 0.0)),
    ("round", unary(f64::round, |_| 0.0)),
    ("ceil", unary(f64::ceil, |_| 0.0)),
    ("trunc", unary(f64::trunc, |_| 0.0)),
    ("fract", unary(f64::fract, |_| 1.0)),
    ("exp", unary(f64::exp, f64::exp)),
    ("sqrt", unary(f64::sqrt, |x| 0.5 / x.sqrt())),
    ("cbrt", unary(f64::cbrt, |x| x.cbrt().powi(-2) / 3.0)),
    ("ln", unary(f64::ln, f64::recip)),
    ("log2", unary(f64::log2, |x| (x * std::f64::consts::LN_2).recip())),
    ("log10", unary(f64::log10, |x| (x * std::f64::consts::LN_10).recip())),
    ("log", unary(f64::ln, f64::recip)),
];

/// Functions of two values.
#[derive(Debug, Clone, Copy)]
enum Binary {
    Lower,
    Higher,
    Angle,
}

const BINARY: [(&str, Binary); 3] = [("min", Binary::Lower), ("max", Binary::Higher), ("atan2", Binary::Angle)];

impl Binary {
    fn of<N: Number>(self, a: N, b: N) -> N {
        match self {
            Self::Lower => a.lower(b),
            Self::Higher => a.higher(b),
            Self::Angle => a.atan2(b),
        }
    }
}

const CONSTANTS: [(&str, f64); 4] = [
    ("PI", std::f64::consts::PI),
    ("E", std::f64::consts::E),
    ("e", std::f64::consts::E),
    ("TAU", std::f64::consts::TAU),
];

/// One step of a program.
#[derive(Debug, Clone, Copy)]
enum Step {
    Number(f64),
    /// The value of a name, by its place.
    Value(usize),
    Negative,
    Sum,
    Difference,
    Product,
    Quotient,
    Power,
    Unary(Unary),
    Binary(Binary),
}

/// An expression over named values: `+ - * / ^`, brackets, and the usual functions.
#[derive(Debug, Clone)]
pub struct Arithmetic {
    program: Vec<Step>,
    names: Vec<String>,
}

/// Reads an expression; true minus signs and centred dots are taken for what they mean. The error says what is wrong.
pub fn read_arithmetic(text: &str) -> Result<Arithmetic, String> {
    let tokens = tokens(text)?;
    let mut reader =
        Reader { tokens: &tokens, at: 0, depth: 0, waiting: 0, program: Vec::new(), names: HashMap::new() };
    reader.sum()?;
    if let Some(token) = reader.tokens.get(reader.at) {
        return Err(match token {
            Token::Sign(')') => "a bracket is closed that was not opened".to_owned(),
            Token::Sign(',') => "a comma stands outside the brackets of a function".to_owned(),
            other => {
                let before = reader.tokens[reader.at - 1].words();
                format!("between {before} and {} a sign is missing, such as *", other.words())
            }
        });
    }
    let mut names = vec![String::new(); reader.names.len()];
    for (name, place) in reader.names {
        names[place] = name;
    }
    Ok(Arithmetic { program: reader.program, names })
}

impl Arithmetic {
    /// The names that it needs, in the order in which they occur; those in braces with them.
    #[must_use]
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// Its value for these values of its names, in their order; NaN where one is missing. In dual numbers it carries its
    /// derivatives along.
    #[must_use]
    pub fn value<N: Number>(&self, values: &[N]) -> N {
        let mut stack = [N::from(0.0); DEEPEST + 1];
        // The reader has made sure that there is always enough, and never too much, on the stack.
        let mut top = 0;
        for step in &self.program {
            let (next, result) = match *step {
                Step::Number(number) => (top + 1, N::from(number)),
                Step::Value(place) => (top + 1, values.get(place).copied().unwrap_or(N::from(f64::NAN))),
                Step::Negative => (top, -stack[top]),
                Step::Unary(Unary { value, slope }) => {
                    let x = stack[top].re();
                    (top, stack[top].through(value(x), || slope(x)))
                }
                Step::Sum => (top - 1, stack[top - 1] + stack[top]),
                Step::Difference => (top - 1, stack[top - 1] - stack[top]),
                Step::Product => (top - 1, stack[top - 1] * stack[top]),
                Step::Quotient => (top - 1, stack[top - 1] / stack[top]),
                Step::Power => (top - 1, stack[top - 1].power(stack[top])),
                Step::Binary(function) => (top - 1, function.of(stack[top - 1], stack[top])),
            };
            stack[next] = result;
            top = next;
        }
        stack[top]
    }
}

/// A piece of the text.
#[derive(Debug, Clone, PartialEq)]
enum Token {
    Number(f64, String),
    Name(String),
    /// One of `+ - * / ^ ( ) ,`.
    Sign(char),
}

impl Token {
    fn words(&self) -> String {
        match self {
            Self::Number(_, text) | Self::Name(text) => format!("“{text}”"),
            Self::Sign(sign) => format!("“{sign}”"),
        }
    }
}

fn tokens(text: &str) -> Result<Vec<Token>, String> {
    let letters: Vec<char> = text.chars().collect();
    let mut tokens = Vec::new();
    let mut at = 0;
    let run = |from: usize, goes_on: &dyn Fn(char) -> bool| {
        letters[from..].iter().position(|letter| !goes_on(*letter)).map_or(letters.len(), |length| from + length)
    };
    while let Some(&letter) = letters.get(at) {
        let next = letters.get(at + 1).copied().unwrap_or(' ');
        match letter {
            letter if letter.is_whitespace() => at += 1,
            '*' if next == '*' => return Err("a power is written with ^: x^2 for x**2".into()),
            '−' => (tokens.push(Token::Sign('-')), at += 1).1,
            '·' | '×' => (tokens.push(Token::Sign('*')), at += 1).1,
            '+' | '-' | '*' | '/' | '^' | '(' | ')' | ',' => (tokens.push(Token::Sign(letter)), at += 1).1,
            '{' => {
                let end = run(at, &|letter| letter != '}');
                if end == letters.len() {
                    return Err("a brace { is not closed".into());
                }
                tokens.push(Token::Name(letters[at..=end].iter().collect()));
                at = end + 1;
            }
            '0'..='9' | '.' => {
                let (number, end) = number(&letters, at)?;
                tokens.push(number);
                at = end;
            }
            letter if letter.is_alphabetic() || letter == '_' => {
                let end = run(at, &|letter| letter.is_alphanumeric() || letter == '_');
                tokens.push(Token::Name(letters[at..end].iter().collect()));
                at = end;
            }
            other => return Err(format!("“{other}” has no meaning here")),
        }
    }
    Ok(tokens)
}

/// A number that begins at a place, and where it ends.
fn number(letters: &[char], from: usize) -> Result<(Token, usize), String> {
    let digits = |from: usize| letters[from..].iter().take_while(|letter| letter.is_ascii_digit()).count();
    let mut end = from + digits(from);
    if letters.get(end) == Some(&'.') {
        end += 1;
        end += digits(end);
    }
    if matches!(letters.get(end), Some('e' | 'E')) {
        let signed = usize::from(matches!(letters.get(end + 1), Some('+' | '-' | '−')));
        let exponent = digits((end + 1 + signed).min(letters.len()));
        if exponent > 0 {
            end += 1 + signed + exponent;
        }
    }
    let text: String = letters[from..end].iter().collect();
    let value = text.replace('−', "-").parse::<f64>().map_err(|_| format!("“{text}” is no number"))?;
    Ok((Token::Number(value, text), end))
}

/// Reads tokens by the rules of arithmetic: a sum of products of signed powers.
struct Reader<'t> {
    tokens: &'t [Token],
    at: usize,
    depth: usize,
    /// Values on the stack at this place of the program.
    waiting: usize,
    program: Vec<Step>,
    names: HashMap<String, usize>,
}

impl Reader<'_> {
    fn sign(&self) -> Option<char> {
        match self.tokens.get(self.at) {
            Some(Token::Sign(sign)) => Some(*sign),
            _ => None,
        }
    }

    fn step(&mut self, step: Step) -> Result<(), String> {
        match step {
            Step::Number(_) | Step::Value(_) => self.waiting += 1,
            Step::Negative | Step::Unary(_) => {}
            _ => self.waiting -= 1,
        }
        if self.waiting > DEEPEST {
            return Err("it is nested too deeply: give parts of it a name of their own".into());
        }
        self.program.push(step);
        Ok(())
    }

    fn deeper(&mut self, read: impl FnOnce(&mut Self) -> Result<(), String>) -> Result<(), String> {
        self.depth += 1;
        if self.depth > DEEPEST {
            return Err("it is nested too deeply: give parts of it a name of their own".into());
        }
        read(self)?;
        self.depth -= 1;
        Ok(())
    }

    fn sum(&mut self) -> Result<(), String> {
        self.product()?;
        while let Some(sign @ ('+' | '-')) = self.sign() {
            self.at += 1;
            self.product()?;
            self.step(if sign == '+' { Step::Sum } else { Step::Difference })?;
        }
        Ok(())
    }

    fn product(&mut self) -> Result<(), String> {
        self.signed()?;
        while let Some(sign @ ('*' | '/')) = self.sign() {
            self.at += 1;
            self.signed()?;
            self.step(if sign == '*' { Step::Product } else { Step::Quotient })?;
        }
        Ok(())
    }

    /// A power with any signs before it, which come after it: `-x^2` is −(x²).
    fn signed(&mut self) -> Result<(), String> {
        match self.sign() {
            Some('-') => {
                self.at += 1;
                self.deeper(Self::signed)?;
                self.step(Step::Negative)
            }
            Some('+') => {
                self.at += 1;
                self.deeper(Self::signed)
            }
            _ => self.power(),
        }
    }

    /// A value, raised to a power that may be one itself and have signs: from the right.
    fn power(&mut self) -> Result<(), String> {
        self.single()?;
        if self.sign() == Some('^') {
            self.at += 1;
            self.deeper(Self::signed)?;
            self.step(Step::Power)?;
        }
        Ok(())
    }

    fn single(&mut self) -> Result<(), String> {
        let Some(token) = self.tokens.get(self.at) else {
            let before = self.at.checked_sub(1).and_then(|at| self.tokens.get(at));
            return Err(
                before.map_or("it is empty".to_owned(), |token| format!("after {} a value is missing", token.words()))
            );
        };
        self.at += 1;
        match token {
            Token::Number(value, _) => self.step(Step::Number(*value)),
            Token::Name(name) => self.named(name),
            Token::Sign('(') => {
                self.deeper(Self::sum)?;
                self.closed()
            }
            Token::Sign(sign) => Err(format!("a value is missing before “{sign}”")),
        }
    }

    fn closed(&mut self) -> Result<(), String> {
        match self.sign() {
            Some(')') => {
                self.at += 1;
                Ok(())
            }
            Some(',') => Err("a comma stands where no further value belongs".into()),
            Some(_) => Err("a bracket is not closed".into()),
            None => Err(self.tokens.get(self.at).map_or("a bracket is not closed".to_owned(), |token| {
                let before = self.tokens[self.at - 1].words();
                format!("between {before} and {} a sign is missing, such as *", token.words())
            })),
        }
    }

    fn named(&mut self, name: &str) -> Result<(), String> {
        let is_call = self.sign() == Some('(');
        if let Some((_, function)) = UNARY.iter().find(|(known, _)| *known == name) {
            if !is_call {
                return Err(format!("{name} is a function: write {name}(x)"));
            }
            self.at += 1;
            self.deeper(Self::sum)?;
            self.closed()?;
            return self.step(Step::Unary(*function));
        }
        if let Some((_, function)) = BINARY.iter().find(|(known, _)| *known == name) {
            if !is_call {
                return Err(format!("{name} is a function: write {name}(a, b)"));
            }
            self.at += 1;
            self.deeper(Self::sum)?;
            if self.sign() != Some(',') {
                return Err(format!("{name} is of two values: write {name}(a, b)"));
            }
            self.at += 1;
            self.deeper(Self::sum)?;
            self.closed()?;
            return self.step(Step::Binary(*function));
        }
        if is_call {
            let known: Vec<&str> =
                UNARY.iter().map(|(name, _)| *name).chain(BINARY.iter().map(|(name, _)| *name)).collect();
            return Err(format!("{name} is no function; there are {}", known.join(", ")));
        }
        if let Some((_, value)) = CONSTANTS.iter().find(|(known, _)| *known == name) {
            return self.step(Step::Number(*value));
        }
        let count = self.names.len();
        let place = *self.names.entry(name.to_owned()).or_insert(count);
        self.step(Step::Value(place))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use serde::Deserialize;

    fn value(text: &str) -> f64 {
        read_arithmetic(text).unwrap().value(&[])
    }

    #[test]
    fn numbers_are_read_as_they_are_written() {
        for (text, expected) in [
            ("7.2e10", 7.2e10),
            ("1E-3*2", 2e-3),
            (".5+2.", 2.5),
            ("2^−3·8", 1.0),
            ("max(3, 4)−min(1, 2)", 3.0),
            ("2e", f64::NAN),
        ] {
            if expected.is_nan() {
                assert!(read_arithmetic(text).is_err(), "{text}");
            } else {
                assert_eq!(value(text), expected, "{text}");
            }
        }
        assert_eq!(read_arithmetic("level_1 / 1e2").unwrap().names(), ["level_1"]);
        assert_eq!(read_arithmetic("{TIC-1.PV} * 2 - {F 2}").unwrap().names(), ["{TIC-1.PV}", "{F 2}"]);
    }

    #[test]
    fn a_power_comes_before_a_sign_and_from_the_right() {
        for (text, at_3) in [
            ("-x^2", -9.0),
            ("2*-x^2", -18.0),
            ("exp(-x^2/2)", (-4.5f64).exp()),
            ("2^3^2", 512.0),
            ("2^-x", 0.125),
            ("(-x)^2", 9.0),
            ("--x^2", 9.0),
            ("-x^-2", -1.0 / 9.0),
            ("6/2*x", 9.0),
            ("1-2-x", -4.0),
            ("+x", 3.0),
            ("x - -x", 6.0),
        ] {
            assert_eq!(read_arithmetic(text).unwrap().value(&[3.0]), at_3, "{text}");
        }
    }

    #[test]
    fn what_is_wrong_is_said() {
        for (text, words) in [
            ("x**2", "x^2 for x**2"),
            ("2 * (3", "a bracket is not closed"),
            ("2)", "was not opened"),
            ("2 *", "after “*” a value is missing"),
            ("", "it is empty"),
            ("* 2", "a value is missing before “*”"),
            ("2 x", "between “2” and “x” a sign is missing"),
            ("(2 x)", "between “2” and “x” a sign is missing"),
            ("root(2)", "root is no function; there are abs"),
            ("sqrt 2", "write sqrt(x)"),
            ("min(1)", "min is of two values"),
            ("min(1, 2, 3)", "a comma"),
            ("1, 2", "a comma stands outside"),
            ("a & b", "“&” has no meaning here"),
            ("{open", "a brace { is not closed"),
            ("1.2.3", "a sign is missing"),
            (".", "“.” is no number"),
        ] {
            let said = read_arithmetic(text).unwrap_err();
            assert!(said.contains(words), "{text}: {said}");
        }
        for deep in ["(".repeat(400) + "1" + &")".repeat(400), "-".repeat(400) + "1", "1^".repeat(400) + "1"] {
            assert!(read_arithmetic(&deep).unwrap_err().contains("too deeply"));
        }
    }

    /// Made by `reference/arithmetic.py`: what Python says of random expressions.
    #[derive(Deserialize)]
    struct Judged {
        text: String,
        values: Vec<(f64, f64, Option<f64>)>,
    }

    #[test]
    fn random_expressions_have_the_value_that_python_gives_them() {
        let all: Vec<Judged> =
            serde_json::from_str(include_str!("../../../../reference/data/arithmetic.json")).unwrap();
        let (mut compared, mut powers) = (0, 0);
        for Judged { text, values } in &all {
            let read = read_arithmetic(text).unwrap_or_else(|error| panic!("{text}: {error}"));
            for (x, y, expected) in values {
                let own: Vec<f64> = read.names().iter().map(|name| if name == "x" { *x } else { *y }).collect();
                let found = read.value(&own);
                match expected {
                    Some(expected) => {
                        let near = (found - expected).abs() <= 1e-11 * expected.abs().max(1e-300);
                        assert!(near, "{text} at {x}, {y}: {found}, Python says {expected}");
                        compared += 1;
                    }
                    // Where Python finds no real number, there is none here.
                    None => assert!(!found.is_finite(), "{text} at {x}, {y}: {found}"),
                }
            }
            powers += usize::from(text.contains('^') && text.contains('-'));
        }
        assert!(compared > 2500 && powers > 200, "{compared} {powers}");
    }

    /// A tree whose value and whose text are made apart from each other.
    #[derive(Debug, Clone)]
    enum Tree {
        Leaf(f64),
        Name,
        Negative(Box<Tree>),
        Of(char, Box<Tree>, Box<Tree>),
    }

    impl Tree {
        fn value(&self, x: f64) -> f64 {
            match self {
                Self::Leaf(value) => *value,
                Self::Name => x,
                Self::Negative(inner) => -inner.value(x),
                Self::Of(sign, a, b) => {
                    let (a, b) = (a.value(x), b.value(x));
                    match sign {
                        '+' => a + b,
                        '-' => a - b,
                        '*' => a * b,
                        '/' => a / b,
                        _ => a.powf(b),
                    }
                }
            }
        }

        /// How tightly it binds: sums 1, products 2, signs 3, powers 4, single values 5.
        fn rank(&self) -> u8 {
            match self {
                Self::Leaf(_) | Self::Name => 5,
                Self::Negative(_) => 3,
                Self::Of('+' | '-', ..) => 1,
                Self::Of('*' | '/', ..) => 2,
                Self::Of(..) => 4,
            }
        }

        /// With no more brackets than the rules of arithmetic ask for.
        fn text(&self) -> String {
            let within = |inner: &Self, least: u8| {
                if inner.rank() < least { format!("({})", inner.text()) } else { inner.text() }
            };
            match self {
                Self::Leaf(value) => format!("{value}"),
                Self::Name => "x".into(),
                Self::Negative(inner) => format!("-{}", within(inner, 3)),
                Self::Of('^', a, b) => format!("{}^{}", within(a, 5), within(b, 3)),
                Self::Of(sign, a, b) => {
                    let rank = self.rank();
                    format!("{} {sign} {}", within(a, rank), within(b, rank + 1))
                }
            }
        }
    }

    fn trees() -> impl Strategy<Value = Tree> {
        let leaf = prop_oneof![(0u32..40).prop_map(|k| Tree::Leaf(f64::from(k) / 4.0)), Just(Tree::Name)];
        leaf.prop_recursive(5, 40, 2, |inner| {
            prop_oneof![
                inner.clone().prop_map(|tree| Tree::Negative(Box::new(tree))),
                (prop::sample::select(vec!['+', '-', '*', '/', '^']), inner.clone(), inner)
                    .prop_map(|(sign, a, b)| Tree::Of(sign, Box::new(a), Box::new(b))),
            ]
        })
    }

    proptest! {
        #[test]
        fn a_tree_written_with_least_brackets_is_read_as_that_tree(tree in trees(), x in -4.0..4.0f64) {
            let text = tree.text();
            let read = read_arithmetic(&text).unwrap();
            let (found, expected) = (read.value(&[x]), tree.value(x));
            prop_assert!(found.to_bits() == expected.to_bits() || (found.is_nan() && expected.is_nan()), "{}: {} {}", text, found, expected);
        }

        #[test]
        fn any_text_is_read_or_refused_and_never_panics(text in "[-+*/^(),. {}a-z0-9−·é]{0,60}") {
            if let Ok(read) = read_arithmetic(&text) {
                let values = vec![1.5; read.names().len()];
                let _ = read.value(&values);
            }
        }
    }
}
