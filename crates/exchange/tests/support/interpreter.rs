//! A small interpreter of Structured Text (IEC 61131-3): function blocks of real, whole and logical variables with assignments, IF,
//! FOR, arithmetic, comparisons, a few standard functions, and calls of other blocks. It shares no code with what writes the text.

use std::collections::HashMap;

#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    Real(f64),
    Whole(i64),
    Logical(bool),
    Array(Vec<f64>),
    Wholes(Vec<i64>),
    Block(Box<FunctionBlock>),
}

#[derive(Debug, Clone, PartialEq)]
enum Token {
    Word(String),
    Number(f64, bool),
    Sign(String),
}

fn tokens(text: &str) -> Vec<Token> {
    let chars: Vec<char> = text.chars().collect();
    let (mut found, mut k) = (Vec::new(), 0);
    while k < chars.len() {
        let c = chars[k];
        if c.is_whitespace() {
            k += 1;
        } else if chars[k..].starts_with(&['(', '*']) {
            k += 2;
            while !chars[k..].starts_with(&['*', ')']) {
                k += 1;
            }
            k += 2;
        } else if c.is_ascii_alphabetic() || c == '_' {
            let start = k;
            while k < chars.len() && (chars[k].is_ascii_alphanumeric() || chars[k] == '_') {
                k += 1;
            }
            // Names are the same in capitals and small letters.
            found.push(Token::Word(chars[start..k].iter().collect::<String>().to_uppercase()));
        } else if c.is_ascii_digit() {
            let start = k;
            let mut is_real = false;
            while k < chars.len() {
                let in_exponent = k > start && chars[k - 1] == 'E';
                let is_point = chars[k] == '.' && chars.get(k + 1) != Some(&'.');
                if chars[k].is_ascii_digit() || is_point || chars[k] == 'E' || (in_exponent && "+-".contains(chars[k]))
                {
                    is_real |= is_point;
                    k += 1;
                } else {
                    break;
                }
            }
            let text: String = chars[start..k].iter().collect();
            found.push(Token::Number(text.parse().unwrap(), is_real));
        } else {
            let two: String = chars[k..(k + 2).min(chars.len())].iter().collect();
            let sign = if [":=", "<=", ">=", "<>", ".."].contains(&two.as_str()) { two } else { c.to_string() };
            k += sign.len();
            found.push(Token::Sign(sign));
        }
    }
    found
}

#[derive(Debug, Clone, PartialEq)]
enum Expression {
    Number(f64, bool),
    Variable(String),
    Element(String, Box<Expression>),
    Member(String, String),
    Call(String, Vec<Expression>),
    Unary(String, Box<Expression>),
    Binary(String, Box<Expression>, Box<Expression>),
}

#[derive(Debug, Clone, PartialEq)]
enum Statement {
    Assign(String, Option<Expression>, Expression),
    If(Vec<(Expression, Vec<Statement>)>, Vec<Statement>),
    For(String, Expression, Expression, Vec<Statement>),
    Invoke(String, Vec<(String, Expression)>),
}

struct Reader {
    tokens: Vec<Token>,
    at: usize,
}

impl Reader {
    fn peek(&self) -> Option<&Token> {
        self.tokens.get(self.at)
    }

    fn next(&mut self) -> Token {
        self.at += 1;
        self.tokens[self.at - 1].clone()
    }

    fn is(&self, text: &str) -> bool {
        matches!(self.peek(), Some(Token::Word(word) | Token::Sign(word)) if word == text)
    }

    fn take(&mut self, text: &str) -> bool {
        let there = self.is(text);
        self.at += usize::from(there);
        there
    }

    fn must(&mut self, text: &str) {
        assert!(
            self.take(text),
            "{text} is missing before {:?}",
            &self.tokens[self.at..(self.at + 5).min(self.tokens.len())]
        );
    }

    fn word(&mut self) -> String {
        match self.next() {
            Token::Word(word) => word,
            other => panic!("a name is missing: {other:?}"),
        }
    }

    /// Operators from the loosest to the tightest.
    fn expression(&mut self, level: usize) -> Expression {
        const LEVELS: [&[&str]; 5] = [&["OR"], &["AND"], &["=", "<>"], &["<", ">", "<=", ">="], &["+", "-"]];
        const TIGHTEST: &[&str] = &["*", "/", "MOD"];
        let signs = LEVELS.get(level).copied().unwrap_or(TIGHTEST);
        let is_last = level == LEVELS.len();
        let mut left = if is_last { self.unary() } else { self.expression(level + 1) };
        while let Some(sign) = signs.iter().find(|sign| self.is(sign)) {
            self.at += 1;
            let right = if is_last { self.unary() } else { self.expression(level + 1) };
            left = Expression::Binary((*sign).to_owned(), Box::new(left), Box::new(right));
        }
        left
    }

    fn unary(&mut self) -> Expression {
        for sign in ["-", "NOT"] {
            if self.take(sign) {
                return Expression::Unary(sign.to_owned(), Box::new(self.unary()));
            }
        }
        if self.take("(") {
            let inner = self.expression(0);
            self.must(")");
            return inner;
        }
        match self.next() {
            Token::Number(value, is_real) => Expression::Number(value, is_real),
            Token::Word(name) if self.take("(") => {
                let mut arguments = vec![self.expression(0)];
                while self.take(",") {
                    arguments.push(self.expression(0));
                }
                self.must(")");
                Expression::Call(name, arguments)
            }
            Token::Word(name) if self.take("[") => {
                let index = self.expression(0);
                self.must("]");
                Expression::Element(name, Box::new(index))
            }
            Token::Word(name) if self.take(".") => Expression::Member(name, self.word()),
            Token::Word(name) => Expression::Variable(name),
            other => panic!("no expression: {other:?}"),
        }
    }

    /// The values of an array, all of them.
    fn list(&mut self, array: &mut Value) {
        self.must("[");
        let mut given = Vec::new();
        loop {
            given.push(evaluate(&self.expression(0), &HashMap::new()));
            if !self.take(",") {
                break;
            }
        }
        self.must("]");
        match array {
            Value::Array(list) => {
                assert_eq!(list.len(), given.len());
                *list = given.iter().map(real).collect();
            }
            Value::Wholes(list) => {
                assert_eq!(list.len(), given.len());
                // A whole number of 16 bits is the smallest that all controllers have.
                *list = given.iter().map(|value| i64::from(i16::try_from(whole(value)).unwrap())).collect();
            }
            other => panic!("no array: {other:?}"),
        }
    }

    fn statements(&mut self, ends: &[&str]) -> Vec<Statement> {
        let mut all = Vec::new();
        while !ends.iter().any(|end| self.is(end)) {
            if self.take("IF") {
                let mut branches = Vec::new();
                let mut other = Vec::new();
                loop {
                    let condition = self.expression(0);
                    self.must("THEN");
                    branches.push((condition, self.statements(&["ELSIF", "ELSE", "END_IF"])));
                    if self.take("ELSIF") {
                        continue;
                    }
                    if self.take("ELSE") {
                        other = self.statements(&["END_IF"]);
                    }
                    break;
                }
                self.must("END_IF");
                self.must(";");
                all.push(Statement::If(branches, other));
            } else if self.take("FOR") {
                let name = self.word();
                self.must(":=");
                let from = self.expression(0);
                self.must("TO");
                let to = self.expression(0);
                self.must("DO");
                let inner = self.statements(&["END_FOR"]);
                self.must("END_FOR");
                self.must(";");
                all.push(Statement::For(name, from, to, inner));
            } else {
                let name = self.word();
                if self.take("(") {
                    let mut given = Vec::new();
                    loop {
                        let input = self.word();
                        self.must(":=");
                        given.push((input, self.expression(0)));
                        if !self.take(",") {
                            break;
                        }
                    }
                    self.must(")");
                    self.must(";");
                    all.push(Statement::Invoke(name, given));
                    continue;
                }
                let index = self.take("[").then(|| self.expression(0));
                if index.is_some() {
                    self.must("]");
                }
                self.must(":=");
                let value = self.expression(0);
                self.must(";");
                all.push(Statement::Assign(name, index, value));
            }
        }
        all
    }
}

/// A function block at work.
#[derive(Debug, Clone, PartialEq)]
pub struct FunctionBlock {
    pub name: String,
    pub inputs: Vec<String>,
    values: HashMap<String, Value>,
    constants: Vec<String>,
    body: Vec<Statement>,
}

impl FunctionBlock {
    pub fn read(text: &str) -> Self {
        Self::read_among(text, &HashMap::new())
    }

    /// The last of several blocks, which may call those before it.
    pub fn last_of<'a>(texts: impl Iterator<Item = &'a str>) -> Self {
        let mut known = HashMap::new();
        let mut last = None;
        for text in texts {
            let block = Self::read_among(text, &known);
            assert!(known.insert(block.name.clone(), block.clone()).is_none(), "{} is there twice", block.name);
            last = Some(block);
        }
        last.unwrap()
    }

    fn read_among(text: &str, known: &HashMap<String, Self>) -> Self {
        let mut reader = Reader { tokens: tokens(text), at: 0 };
        reader.must("FUNCTION_BLOCK");
        let name = reader.word();
        let (mut values, mut inputs, mut constants) = (HashMap::new(), Vec::new(), Vec::new());
        while ["VAR", "VAR_INPUT", "VAR_OUTPUT"].iter().any(|kind| reader.is(kind)) {
            let kind = reader.word();
            let is_constant = reader.take("CONSTANT");
            while !reader.take("END_VAR") {
                let variable = reader.word();
                reader.must(":");
                let mut value = if reader.take("ARRAY") {
                    reader.must("[");
                    let Token::Number(low, _) = reader.next() else { panic!("no bound") };
                    reader.must("..");
                    let Token::Number(high, _) = reader.next() else { panic!("no bound") };
                    reader.must("]");
                    reader.must("OF");
                    assert_eq!(low, 0.0);
                    let count = high as usize + 1;
                    if reader.take("INT") {
                        Value::Wholes(vec![0; count])
                    } else {
                        reader.must("LREAL");
                        Value::Array(vec![0.0; count])
                    }
                } else {
                    match reader.word().as_str() {
                        "LREAL" => Value::Real(0.0),
                        "INT" => Value::Whole(0),
                        "BOOL" => Value::Logical(false),
                        other => Value::Block(Box::new(known.get(other).expect("a block of this name").clone())),
                    }
                };
                if reader.is(":=") && matches!(value, Value::Array(_) | Value::Wholes(_)) {
                    reader.must(":=");
                    reader.list(&mut value);
                } else if reader.take(":=") {
                    value = match reader.expression(0) {
                        Expression::Variable(word) => Value::Logical(word == "TRUE"),
                        given => {
                            let given = evaluate(&given, &HashMap::new());
                            if let (Value::Whole(_), Value::Real(_)) = (&given, &value) {
                                panic!("{variable} needs a point")
                            }
                            given
                        }
                    };
                }
                reader.must(";");
                let before = values.insert(variable.clone(), value);
                assert!(before.is_none(), "{variable} is declared twice");
                if kind == "VAR_INPUT" {
                    inputs.push(variable.clone());
                }
                if is_constant {
                    constants.push(variable);
                }
            }
        }
        let body = reader.statements(&["END_FUNCTION_BLOCK"]);
        Self { name, inputs, values, constants, body }
    }

    /// Calls it with these inputs; its output `OP`.
    pub fn call(&mut self, inputs: &[(&str, Value)]) -> f64 {
        self.step(inputs);
        self.output("OP")
    }

    /// Calls it with these inputs.
    pub fn step(&mut self, inputs: &[(&str, Value)]) {
        for (name, value) in inputs {
            assert!(self.inputs.iter().any(|known| known == name), "no input {name}");
            self.values.insert((*name).to_owned(), value.clone());
        }
        run(&self.body, &mut self.values, &self.constants);
    }

    /// An output as it stands.
    pub fn output(&self, name: &str) -> f64 {
        match self.values[name] {
            Value::Real(value) => value,
            ref other => panic!("{name} is {other:?}"),
        }
    }
}

fn run(statements: &[Statement], values: &mut HashMap<String, Value>, constants: &[String]) {
    for statement in statements {
        match statement {
            Statement::Assign(name, index, expression) => {
                assert!(!constants.contains(name), "{name} is a constant");
                let value = evaluate(expression, values);
                let place = index.as_ref().map(|index| whole(&evaluate(index, values)));
                match (values.get_mut(name).unwrap_or_else(|| panic!("{name} is not declared")), place) {
                    (Value::Array(list), Some(place)) => list[place as usize] = real(&value),
                    (known, None) => {
                        assert_eq!(std::mem::discriminant(known), std::mem::discriminant(&value), "the type of {name}");
                        *known = value;
                    }
                    other => panic!("{name}: {other:?}"),
                }
            }
            Statement::If(branches, other) => {
                let met = branches.iter().find(|(condition, _)| logical(&evaluate(condition, values)));
                run(met.map_or(other, |met| &met.1), values, constants);
            }
            Statement::Invoke(name, given) => {
                let given: Vec<(&str, Value)> =
                    given.iter().map(|(input, value)| (input.as_str(), evaluate(value, values))).collect();
                match values.get_mut(name) {
                    Some(Value::Block(block)) => block.step(&given),
                    other => panic!("{name} is no block: {other:?}"),
                }
            }
            Statement::For(name, from, to, inner) => {
                let (from, to) = (whole(&evaluate(from, values)), whole(&evaluate(to, values)));
                for k in from..=to {
                    values.insert(name.clone(), Value::Whole(k));
                    run(inner, values, constants);
                }
            }
        }
    }
}

fn real(value: &Value) -> f64 {
    match value {
        Value::Real(value) => *value,
        other => panic!("no real number: {other:?}"),
    }
}

fn whole(value: &Value) -> i64 {
    match value {
        Value::Whole(value) => *value,
        other => panic!("no whole number: {other:?}"),
    }
}

fn logical(value: &Value) -> bool {
    match value {
        Value::Logical(value) => *value,
        other => panic!("not true or false: {other:?}"),
    }
}

fn evaluate(expression: &Expression, values: &HashMap<String, Value>) -> Value {
    let of = |expression: &Expression| evaluate(expression, values);
    match expression {
        Expression::Number(value, true) => Value::Real(*value),
        Expression::Number(value, false) => Value::Whole(*value as i64),
        Expression::Variable(name) if name == "TRUE" || name == "FALSE" => Value::Logical(name == "TRUE"),
        Expression::Variable(name) => values.get(name).unwrap_or_else(|| panic!("{name} is not declared")).clone(),
        Expression::Element(name, index) => match &values[name] {
            Value::Array(list) => Value::Real(list[whole(&of(index)) as usize]),
            Value::Wholes(list) => Value::Whole(list[whole(&of(index)) as usize]),
            other => panic!("no array: {other:?}"),
        },
        Expression::Member(name, field) => match &values[name] {
            Value::Block(block) => block.values[field].clone(),
            other => panic!("no block: {other:?}"),
        },
        Expression::Call(name, arguments) => {
            let arguments: Vec<f64> = arguments.iter().map(|argument| real(&of(argument))).collect();
            Value::Real(match (name.as_str(), &arguments[..]) {
                ("ABS", [value]) => value.abs(),
                ("MIN", [a, b]) => a.min(*b),
                ("MAX", [a, b]) => a.max(*b),
                // IEC 61131-3: LIMIT(MN, IN, MX) is MIN(MAX(IN, MN), MX).
                ("LIMIT", [low, value, high]) => value.max(*low).min(*high),
                other => panic!("no function {other:?}"),
            })
        }
        Expression::Unary(sign, inner) => match (sign.as_str(), of(inner)) {
            ("-", Value::Real(value)) => Value::Real(-value),
            ("NOT", Value::Logical(value)) => Value::Logical(!value),
            other => panic!("{other:?}"),
        },
        Expression::Binary(sign, left, right) => match (of(left), sign.as_str(), of(right)) {
            (Value::Logical(a), "OR", Value::Logical(b)) => Value::Logical(a || b),
            (Value::Logical(a), "AND", Value::Logical(b)) => Value::Logical(a && b),
            (Value::Whole(a), "+", Value::Whole(b)) => Value::Whole(a + b),
            (Value::Whole(a), "-", Value::Whole(b)) => Value::Whole(a - b),
            (Value::Whole(a), "MOD", Value::Whole(b)) => Value::Whole(a % b),
            (Value::Whole(a), "<", Value::Whole(b)) => Value::Logical(a < b),
            // What addresses a table has to fit into 16 bits, on the way, too.
            (Value::Whole(a), "*", Value::Whole(b)) => Value::Whole(i64::from(i16::try_from(a * b).unwrap())),
            (Value::Real(a), sign, Value::Real(b)) => match sign {
                "+" => Value::Real(a + b),
                "-" => Value::Real(a - b),
                "*" => Value::Real(a * b),
                "/" => Value::Real(a / b),
                "<" => Value::Logical(a < b),
                ">" => Value::Logical(a > b),
                "<=" => Value::Logical(a <= b),
                ">=" => Value::Logical(a >= b),
                "=" => Value::Logical(a == b),
                "<>" => Value::Logical(a != b),
                other => panic!("no operator {other}"),
            },
            other => panic!("types do not go together: {other:?}"),
        },
    }
}
