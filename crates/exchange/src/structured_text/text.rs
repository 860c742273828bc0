//! What a function block is made of, and how it is written.

use antistasis_core::{Error, Result};
use std::fmt::Write;

/// A variable of a block.
pub(super) struct Variable {
    pub name: String,
    pub kind: Kind,
    /// Its initial value, as it is written.
    pub initial: Option<String>,
    /// The initial values of an array, each as it is written.
    pub values: Vec<String>,
    /// What it is.
    pub comment: Option<String>,
}

/// The type of a variable.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Kind {
    Real,
    Whole,
    Logical,
    /// Real numbers from 0 to this place.
    Array(usize),
    /// Whole numbers from 0 to this place.
    Wholes(usize),
    /// A function block of this name at work.
    Block(String),
}

impl Variable {
    pub fn new(name: &str, kind: Kind) -> Self {
        Self { name: name.to_owned(), kind, initial: None, values: Vec::new(), comment: None }
    }

    pub fn begins(self, initial: impl Into<String>) -> Self {
        Self { initial: Some(initial.into()), ..self }
    }

    pub fn lists(self, values: Vec<String>) -> Self {
        Self { values, ..self }
    }

    pub fn is(self, comment: &str) -> Self {
        Self { comment: Some(remark(comment)), ..self }
    }

    /// A real number that begins at 0.
    pub fn real(name: &str) -> Self {
        Self::new(name, Kind::Real).begins("0.0")
    }

    /// A logical one that begins as FALSE.
    pub fn logical(name: &str) -> Self {
        Self::new(name, Kind::Logical).begins("FALSE")
    }

    /// A constant.
    pub fn constant(name: &str, value: f64, what: &str) -> Self {
        Self::new(name, Kind::Real).begins(literal(value)).is(what)
    }

    fn declared(&self) -> String {
        let kind = match &self.kind {
            Kind::Real => "LREAL".to_owned(),
            Kind::Whole => "INT".to_owned(),
            Kind::Logical => "BOOL".to_owned(),
            Kind::Array(last) => format!("ARRAY[0..{last}] OF LREAL"),
            Kind::Wholes(last) => format!("ARRAY[0..{last}] OF INT"),
            Kind::Block(title) => title.clone(),
        };
        let initial = match &self.initial {
            Some(value) => format!(" := {value}"),
            None if self.values.is_empty() => String::new(),
            None => format!(" := [{}]", in_lines(&self.values)),
        };
        let comment = self.comment.as_ref().map(|text| format!(" (* {text} *)")).unwrap_or_default();
        format!("{} : {kind}{initial};{comment}", self.name)
    }
}

/// A list as it is written, in lines that can be read.
fn in_lines(values: &[String]) -> String {
    let lines: Vec<String> = values.chunks(8).map(|line| line.join(", ")).collect();
    lines.join(",\n    ")
}

/// A function block, before it is written in one form or another.
#[derive(Default)]
pub(super) struct Unit {
    /// An identifier.
    pub title: String,
    /// What it is, for a reader.
    pub heading: String,
    pub inputs: Vec<Variable>,
    pub outputs: Vec<Variable>,
    pub constants: Vec<Variable>,
    pub locals: Vec<Variable>,
    /// The statements.
    pub body: String,
}

impl Unit {
    /// With the inputs and the output that all blocks have.
    pub fn new(name: &str, heading: String, unit: &str) -> Result<Self> {
        let input = |name: &str, kind: Kind, what: &str| Variable::new(name, kind).is(what);
        Ok(Self {
            title: identifier(name)?,
            heading: remark(&heading),
            inputs: vec![
                input("PV", Kind::Real, &format!("process variable, {unit}")),
                input("SP", Kind::Real, &format!("set point, {unit}")),
                input("MANUAL", Kind::Logical, "TRUE: the output is OP_MANUAL"),
                input("OP_MANUAL", Kind::Real, "output in manual, and at the first call, %"),
            ],
            outputs: vec![Variable::new("OP", Kind::Real).is("output, %")],
            ..Self::default()
        })
    }

    /// The block in Structured Text.
    pub fn structured_text(&self) -> String {
        let mut text = Text::default();
        text.line(format!("FUNCTION_BLOCK {}", self.title));
        text.line(format!("(* {} *)", self.heading));
        let parts = [
            ("VAR_INPUT", &self.inputs),
            ("VAR_OUTPUT", &self.outputs),
            ("VAR CONSTANT", &self.constants),
            ("VAR", &self.locals),
        ];
        for (kind, variables) in parts.into_iter().filter(|(_, variables)| !variables.is_empty()) {
            text.within(kind, "END_VAR", |text| {
                variables.iter().for_each(|variable| text.line(variable.declared()));
            });
        }
        text.written.push_str(&self.body);
        text.line("END_FUNCTION_BLOCK");
        text.written
    }
}

/// A name as an identifier: letters, digits and single underscores, a letter first.
pub(super) fn identifier(name: &str) -> Result<String> {
    let mut plain = String::new();
    for c in name.chars() {
        if c.is_ascii_alphanumeric() {
            plain.push(c);
        } else if !plain.is_empty() && !plain.ends_with('_') {
            plain.push('_');
        }
    }
    let plain = plain.trim_end_matches('_').to_owned();
    match plain.chars().next() {
        Some(first) if first.is_ascii_alphabetic() => Ok(plain),
        Some(_) => Ok(format!("LOOP_{plain}")),
        None => Err(Error::invalid("name", format!("“{name}”"), "a name with a letter or a digit in it")),
    }
}

/// Text that is being written.
#[derive(Default)]
pub(super) struct Text {
    pub written: String,
    pub depth: usize,
}

impl Text {
    pub fn line(&mut self, line: impl AsRef<str>) {
        let _ = writeln!(self.written, "{:indent$}{}", "", line.as_ref(), indent = 2 * self.depth);
    }

    pub fn comment(&mut self, text: &str) {
        self.line(format!("(* {} *)", remark(text)));
    }

    pub fn within(&mut self, begin: &str, end: &str, inner: impl FnOnce(&mut Self)) {
        self.line(begin);
        self.depth += 1;
        inner(self);
        self.depth -= 1;
        self.line(end);
    }
}

/// A text that ends no comment, and begins none.
pub(super) fn remark(text: &str) -> String {
    text.replace("*)", "* )").replace("(*", "( *")
}

/// A literal that reads back as the same bits: with a point, as that of a real number must have.
pub(super) fn literal(value: f64) -> String {
    let size = value.abs();
    let text = if value == 0.0 || (1e-4..1e15).contains(&size) {
        format!("{size:?}")
    } else {
        let text = format!("{size:e}");
        match text.split_once('e') {
            Some((mantissa, exponent)) if mantissa.contains('.') => format!("{mantissa}E{exponent}"),
            Some((mantissa, exponent)) => format!("{mantissa}.0E{exponent}"),
            None => text,
        }
    };
    if value < 0.0 { format!("-{text}") } else { text }
}

/// The same within an expression, where what is negative stands in brackets.
pub(super) fn real(value: f64) -> String {
    if value < 0.0 { format!("({})", literal(value)) } else { literal(value) }
}
