//! The block of a predictive controller: its law written out, with the filter that tells it what it knows.

use super::text::{Kind, Text, Unit, Variable, identifier, literal, real};
use antistasis_core::controller::predictive::{WrittenFilter, WrittenLaw, WrittenRegion};
use antistasis_core::verdict::readable;
use antistasis_core::{Error, Result};

/// Most numbers of a law that is written as text: its tables are addressed by whole numbers of 16 bits, and have to fit into a controller.
const MOST_NUMBERS: usize = 20_000;
/// Deeper outside than any point is, or inside.
const FAR: &str = "1.0E30";

/// Names of what a block is given and gives: of each CV and MV.
struct Names {
    measured: Vec<String>,
    set_points: Vec<String>,
    outputs: Vec<String>,
    by_hand: Vec<String>,
}

/// A table of numbers.
fn table(name: &str, rows: &[Vec<f64>], what: &str) -> Variable {
    let numbers: Vec<String> = rows.iter().flatten().map(|value| literal(*value)).collect();
    Variable::new(name, Kind::Array(numbers.len().max(1) - 1)).lists(numbers).is(what)
}

fn places(name: &str, values: &[usize], what: &str) -> Variable {
    let values: Vec<String> = values.iter().map(ToString::to_string).collect();
    Variable::new(name, Kind::Wholes(values.len() - 1)).lists(values).is(what)
}

/// The block. Errors where the law is too large to be written.
pub(super) fn unit(name: &str, law: &WrittenLaw, scan: f64) -> Result<Unit> {
    if law.numbers() > MOST_NUMBERS {
        let sentence = format!(
            "The law of {name} has {} numbers, and a block is written of {MOST_NUMBERS} at most: plan fewer moves, or scan less often.",
            law.numbers()
        );
        return Err(Error::said("controller.moves", sentence));
    }
    let names = names(law)?;
    let mut unit = Unit {
        title: identifier(name)?,
        heading: format!(
            "{name}: predictive controller, its law written out in {} regions. Call it once every {scan} s.",
            law.moves.len()
        ),
        ..Unit::default()
    };
    declare(&mut unit, law, &names);
    unit.body = body(law, &names);
    Ok(unit)
}

/// What whoever programs the block must know of it.
pub(super) fn remarks(law: &WrittenLaw, seats: &[&str]) -> Vec<String> {
    let at = |tag: &str, value: f64, unit: &str| format!("{tag} at {} {unit}", readable(value));
    let cvs = law.cvs.iter().map(|cv| at(&cv.tag, cv.span.from_percent(cv.rest), &cv.span.unit));
    let rests: Vec<String> = cvs.chain(law.mvs.iter().map(|mv| at(&mv.tag, mv.rest, "%"))).collect();
    let mut all = vec![format!(
        "The predictive law is written about where the loop rests: {}. It is to be switched to automatic there. Its regions \
         reach as far as set points within the spans, outputs within their limits, and disturbances of half the room of an output, or of 50 % \
         of span; beyond that the nearest of them acts, within all limits, and differs from the simulation. In MANUAL all its outputs are set \
         by hand; with one of several out of service it is another law, which is not written.",
        rests.join(", ")
    )];
    if !seats.is_empty() {
        all.push(format!("{}: in the block of the predictive controller.", seats.join(", ")));
    }
    all
}

fn names(law: &WrittenLaw) -> Result<Names> {
    let mut taken: Vec<String> = OWN.iter().map(|name| (*name).to_owned()).collect();
    // Names are the same in capitals and small letters.
    let mut free = |name: String| {
        let is_free = |name: &String| !taken.iter().any(|other| other.eq_ignore_ascii_case(name));
        let numbered = (2..).map(|k| format!("{name}_{k}"));
        let found = std::iter::once(name.clone()).chain(numbered).find(is_free).unwrap_or(name);
        taken.push(found.clone());
        found
    };
    let mut of = |tags: Vec<&str>, end: &str| -> Result<Vec<String>> {
        tags.into_iter().map(|tag| Ok(free(format!("{}{end}", identifier(tag)?)))).collect()
    };
    let cvs = || law.cvs.iter().map(|cv| cv.tag.as_str()).collect();
    let mvs = || law.mvs.iter().map(|mv| mv.tag.as_str()).collect();
    Ok(Names {
        measured: of(cvs(), "")?,
        set_points: of(cvs(), "_SP")?,
        outputs: of(mvs(), "")?,
        by_hand: of(mvs(), "_MANUAL")?,
    })
}

/// Names that a block has for itself.
const OWN: [&str; 29] = [
    "MANUAL",
    "BY_STATES",
    "BY_INPUTS",
    "BY_DISTURBANCES",
    "SEEN",
    "SEEN_DISTURBANCES",
    "STATES_GAIN",
    "DISTURBANCES_GAIN",
    "REST_SIDES",
    "REST_FIRST",
    "REST_LAW",
    "MOVE_SIDES",
    "MOVE_FIRST",
    "MOVE_LAW",
    "started",
    "state",
    "next",
    "disturbance",
    "stood",
    "new",
    "known",
    "move",
    "sum",
    "depth",
    "deepest",
    "region",
    "row",
    "side",
    "k",
];

fn declare(unit: &mut Unit, law: &WrittenLaw, names: &Names) {
    for ((measured, set_point), cv) in names.measured.iter().zip(&names.set_points).zip(&law.cvs) {
        let what = |what: &str| format!("{what} of {}, {}", cv.tag, cv.span.unit);
        unit.inputs.push(Variable::new(measured, Kind::Real).is(&what("process variable")));
        unit.inputs.push(Variable::new(set_point, Kind::Real).is(&what("set point")));
    }
    unit.inputs.push(Variable::new("MANUAL", Kind::Logical).is("TRUE: each output is what is set by hand"));
    for ((output, by_hand), mv) in names.outputs.iter().zip(&names.by_hand).zip(&law.mvs) {
        let what = format!("{} in manual, and at the first call, %", mv.tag);
        unit.inputs.push(Variable::new(by_hand, Kind::Real).is(&what));
        unit.outputs.push(Variable::new(output, Kind::Real).is(&format!("{}, %", mv.tag)));
    }
    let WrittenFilter {
        by_states,
        by_inputs,
        by_disturbances,
        seen,
        seen_disturbances,
        states_gain,
        disturbances_gain,
    } = &law.filter;
    let of_filter = [
        ("BY_STATES", by_states, "what the states of the model become by themselves, row by row"),
        ("BY_INPUTS", by_inputs, "by the outputs"),
        ("BY_DISTURBANCES", by_disturbances, "by the disturbances"),
        ("SEEN", seen, "what the signals show of the states"),
        ("SEEN_DISTURBANCES", seen_disturbances, "and of the disturbances"),
        ("STATES_GAIN", states_gain, "how states are corrected by what was not expected"),
        ("DISTURBANCES_GAIN", disturbances_gain, "and the disturbances"),
    ];
    for (name, rows, what) in of_filter {
        unit.constants.push(table(name, rows, what));
    }
    for (name, regions, what) in [("REST", &law.rests, "where to rest"), ("MOVE", &law.moves, "the moves")] {
        let rows = |all: &[(Vec<f64>, f64)]| -> Vec<Vec<f64>> {
            all.iter().map(|(by, at)| by.iter().copied().chain([*at]).collect()).collect()
        };
        let sides: Vec<Vec<f64>> = regions.iter().flat_map(|region| rows(&region.sides)).collect();
        let laws: Vec<Vec<f64>> = regions.iter().flat_map(|region| rows(&region.law)).collect();
        let first: Vec<usize> = std::iter::once(0)
            .chain(regions.iter().scan(0, |sum, region| {
                *sum += region.sides.len();
                Some(*sum)
            }))
            .collect();
        unit.constants.push(table(&format!("{name}_SIDES"), &sides, &format!("sides of the regions of {what}")));
        unit.constants.push(places(&format!("{name}_FIRST"), &first, "the first side of each region"));
        unit.constants.push(table(&format!("{name}_LAW"), &laws, &format!("laws of {what}, region by region")));
    }
    let (states, disturbances, known) = sizes(law);
    unit.locals.push(Variable::new("started", Kind::Logical).begins("FALSE"));
    for (name, count) in [
        ("state", states),
        ("next", states),
        ("disturbance", disturbances),
        ("stood", law.mvs.len()),
        ("new", law.cvs.len()),
        ("known", known),
        ("move", law.mvs.len()),
    ] {
        unit.locals.push(Variable::new(name, Kind::Array(count.max(1) - 1)));
    }
    for name in ["sum", "depth", "deepest"] {
        unit.locals.push(Variable::real(name));
    }
    for name in ["region", "row", "side", "k"] {
        unit.locals.push(Variable::new(name, Kind::Whole).begins("0"));
    }
}

/// States of the model, disturbances, and all that a law can know: with the outputs, the set points, and where it is to rest.
fn sizes(law: &WrittenLaw) -> (usize, usize, usize) {
    let (states, disturbances) = (law.filter.by_states.len(), law.filter.disturbances_gain.len());
    let rest = law.rests.first().map_or(0, |region| region.law.len());
    (states, disturbances, states + disturbances + law.mvs.len() + law.cvs.len() + rest)
}

fn body(law: &WrittenLaw, names: &Names) -> String {
    let mut all = Text::default();
    let text = &mut all;
    let (states, disturbances, known) = sizes(law);
    let (cvs, mvs) = (law.cvs.len(), law.mvs.len());
    text.line("");
    text.comment("what stood since the last call, from where the loop rested; in automatic that is what was set");
    text.within("IF MANUAL OR NOT started THEN", "END_IF;", |text| {
        for (output, by_hand) in names.outputs.iter().zip(&names.by_hand) {
            text.line(format!("{output} := {by_hand};"));
        }
    });
    for (k, (output, mv)) in names.outputs.iter().zip(&law.mvs).enumerate() {
        text.line(format!("stood[{k}] := {output} - {};", real(mv.rest)));
    }
    text.line("");
    text.comment("the model goes on by a scan");
    rows(
        text,
        "next",
        states,
        &[
            ("BY_STATES", "state", states),
            ("BY_INPUTS", "stood", mvs),
            ("BY_DISTURBANCES", "disturbance", disturbances),
        ],
    );
    text.line("");
    text.comment("what was not expected of each signal, in % of its span; one at an end of its span is not believed");
    for (k, (measured, cv)) in names.measured.iter().zip(&law.cvs).enumerate() {
        let (low, width) = (cv.span.low, cv.span.width());
        text.line(format!("new[{k}] := 100.0 * ({measured} - {}) / {};", real(low), real(width)));
    }
    for (row, cv) in law.cvs.iter().enumerate() {
        let at_end = format!("ABS(new[{row}]) < 1.0E-9 OR ABS(new[{row}] - 100.0) < 1.0E-9");
        text.within(&format!("IF {at_end} THEN"), "ELSE", |text| text.line(format!("new[{row}] := 0.0;")));
        text.depth += 1;
        text.line("sum := 0.0;");
        products(text, "SEEN", &(row * states).to_string(), "next", states);
        products(text, "SEEN_DISTURBANCES", &(row * disturbances).to_string(), "disturbance", disturbances);
        text.line(format!("new[{row}] := new[{row}] - {} - sum;", real(cv.rest)));
        text.depth -= 1;
        text.line("END_IF;");
    }
    for (name, gain, count) in [("next", "STATES_GAIN", states), ("disturbance", "DISTURBANCES_GAIN", disturbances)] {
        text.within(&format!("FOR row := 0 TO {} DO", count.max(1) - 1), "END_FOR;", |text| {
            text.line("sum := 0.0;");
            products(text, gain, &format!("row * {cvs}"), "new", cvs);
            text.line(format!("{name}[row] := {name}[row] + sum;"));
        });
    }
    text.line("");
    text.comment("what is known: states, disturbances, outputs, set points");
    text.within(&format!("FOR k := 0 TO {} DO", states - 1), "END_FOR;", |text| {
        text.line("state[k] := next[k];");
        text.line("known[k] := next[k];");
    });
    if disturbances > 0 {
        text.within(&format!("FOR k := 0 TO {} DO", disturbances - 1), "END_FOR;", |text| {
            text.line(format!("known[{states} + k] := disturbance[k];"));
        });
    }
    let from = states + disturbances;
    for k in 0..mvs {
        text.line(format!("known[{}] := stood[{k}];", from + k));
    }
    for (k, (set_point, cv)) in names.set_points.iter().zip(&law.cvs).enumerate() {
        let (low, width) = (cv.span.low, cv.span.width());
        let place = from + mvs + k;
        text.line(format!(
            "known[{place}] := 100.0 * ({set_point} - {}) / {} - {};",
            real(low),
            real(width),
            real(cv.rest)
        ));
    }
    let theta = from + mvs + cvs;
    text.line("");
    text.comment("where to rest, in the region that this lies in");
    lookup(text, "REST", &law.rests, theta);
    answer(text, "REST", known - theta, theta, &format!("known[{theta} + row]"));
    text.line("");
    text.comment("the moves that lead there");
    lookup(text, "MOVE", &law.moves, known);
    answer(text, "MOVE", mvs, known, "move[row]");
    text.line("");
    text.within("IF NOT MANUAL THEN", "END_IF;", |text| {
        for (k, (output, mv)) in names.outputs.iter().zip(&law.mvs).enumerate() {
            if let Some(rate) = mv.rate {
                text.line(format!("move[{k}] := LIMIT({}, move[{k}], {});", literal(-rate), literal(rate)));
            }
            let (low, high) = (literal(mv.low), literal(mv.high));
            text.line(format!("{output} := LIMIT(MIN({low}, {output}), {output} + move[{k}], MAX({high}, {output}));"));
        }
    });
    text.line("started := TRUE;");
    all.written
}

/// Adds the products of a row of a table and a list to the sum.
fn products(text: &mut Text, table: &str, first: &str, list: &str, count: usize) {
    if count == 0 {
        return;
    }
    text.within(&format!("FOR k := 0 TO {} DO", count - 1), "END_FOR;", |text| {
        text.line(format!("sum := sum + {table}[{first} + k] * {list}[k];"));
    });
}

/// A list whose rows are sums of tables times lists.
fn rows(text: &mut Text, list: &str, count: usize, parts: &[(&str, &str, usize)]) {
    text.within(&format!("FOR row := 0 TO {} DO", count - 1), "END_FOR;", |text| {
        text.line("sum := 0.0;");
        for (table, of, width) in parts {
            products(text, table, &format!("row * {width}"), of, *width);
        }
        text.line(format!("{list}[row] := sum;"));
    });
}

/// Finds the region: the first that what is known does not lie outside of, else that which it lies least outside of.
fn lookup(text: &mut Text, name: &str, regions: &[WrittenRegion], count: usize) {
    text.line(format!("deepest := -{FAR};"));
    text.line("region := 0;");
    text.within(&format!("FOR row := 0 TO {} DO", regions.len() - 1), "END_FOR;", |text| {
        text.within("IF deepest < 0.0 THEN", "END_IF;", |text| {
            text.line(format!("depth := {FAR};"));
            text.within(
                &format!("FOR side := {name}_FIRST[row] TO {name}_FIRST[row + 1] - 1 DO"),
                "END_FOR;",
                |text| {
                    text.line(format!("sum := 0.0 - {name}_SIDES[side * {} + {count}];", count + 1));
                    products(text, &format!("{name}_SIDES"), &format!("side * {}", count + 1), "known", count);
                    text.line("depth := MIN(depth, sum);");
                },
            );
            text.within("IF depth > deepest THEN", "END_IF;", |text| {
                text.line("deepest := depth;");
                text.line("region := row;");
            });
        });
    });
}

/// What the law of the region that was found makes of what is known.
fn answer(text: &mut Text, name: &str, outputs: usize, count: usize, into: &str) {
    text.within(&format!("FOR row := 0 TO {} DO", outputs - 1), "END_FOR;", |text| {
        let first = format!("(region * {outputs} + row) * {}", count + 1);
        text.line(format!("sum := {name}_LAW[{first} + {count}];"));
        products(text, &format!("{name}_LAW"), &first, "known", count);
        text.line(format!("{into} := sum;"));
    });
}
