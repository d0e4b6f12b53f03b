//! Formulas: `1.5 + noise(2 * time)`, `{Mooring block.position.y} / 2`.
//!
//! The library fasteval parses and evaluates them, within bounds of length
//! and depth; there are no loops, no assignments and no way out of the
//! formula. Before it sees a text, [`Expression::parse`] goes over its words,
//! so that a fault is told with its place.

use fasteval::{Compiler, Evaler, Instruction, Parser, Slab};
use std::sync::Arc;
use thiserror::Error;

/// The longest formula, characters.
pub const MAX_LENGTH: usize = 1_000;
/// The deepest nesting of a formula.
const MAX_DEPTH: usize = 32;

/// What is wrong with a formula, and where.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("at character {}: {message}", .place + 1)]
pub struct ExpressionError {
    /// Characters before the fault.
    pub place: usize,
    /// What is wrong.
    pub message: String,
}

/// The functions of the language and how many arguments each takes.
pub const FUNCTIONS: &[(&str, usize, usize)] = &[
    ("abs", 1, 1),
    ("acos", 1, 1),
    ("asin", 1, 1),
    ("atan", 1, 1),
    ("atan2", 2, 2),
    ("ceil", 1, 1),
    ("clamp", 3, 3),
    ("cos", 1, 1),
    ("degrees", 1, 1),
    ("exp", 1, 1),
    ("floor", 1, 1),
    ("fract", 1, 1),
    ("if", 3, 3),
    ("ln", 1, 1),
    ("log10", 1, 1),
    ("max", 2, 8),
    ("min", 2, 8),
    ("mix", 3, 3),
    ("mod", 2, 2),
    ("noise", 1, 1),
    ("pow", 2, 2),
    ("radians", 1, 1),
    ("random", 1, 1),
    ("round", 1, 1),
    ("sign", 1, 1),
    ("sin", 1, 1),
    ("smoothstep", 3, 3),
    ("sqrt", 1, 1),
    ("step", 2, 2),
    ("tan", 1, 1),
];

/// The names that stand for a number.
pub const NAMES: &[&str] = &["time", "frame", "fps", "pi", "tau"];

/// What a formula may ask for besides its references.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Moment {
    /// Seconds since the first frame.
    pub time: f64,
    /// Frame of the shot.
    pub frame: f64,
    /// Frames a second.
    pub fps: f64,
}

/// A formula, ready to be evaluated.
#[derive(Clone)]
pub struct Expression {
    compiled: Arc<(Slab, Instruction)>,
    /// The text between braces, in order of appearance.
    pub references: Vec<Reference>,
}

/// A reference to another parameter.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reference {
    /// Characters before it.
    pub place: usize,
    /// What stands between the braces.
    pub text: String,
}

impl std::fmt::Debug for Expression {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Expression").field("references", &self.references).finish_non_exhaustive()
    }
}

#[derive(Clone, Copy, PartialEq)]
enum Open {
    Group,
    Call { function: usize, place: usize, arguments: usize },
}

impl Expression {
    /// Parses a formula.
    ///
    /// # Errors
    /// [`ExpressionError`] with the place of the first fault.
    pub fn parse(text: &str) -> Result<Self, ExpressionError> {
        let fail = |place: usize, message: &str| ExpressionError { place, message: message.to_owned() };
        let characters: Vec<char> = text.chars().collect();
        if characters.len() > MAX_LENGTH {
            return Err(fail(MAX_LENGTH, &format!("a formula has at most {MAX_LENGTH} characters")));
        }
        let (plain, references) = checked(&characters)?;
        let mut slab = Slab::new();
        let parser = Parser { expr_len_limit: 4 * MAX_LENGTH, expr_depth_limit: MAX_DEPTH };
        let end = characters.len();
        let index = parser.parse(&plain, &mut slab.ps).map_err(|error| match error {
            fasteval::Error::TooDeep => fail(end, "it is nested too deeply"),
            error => fail(end, &format!("this is not a formula ({error})")),
        })?;
        let instruction = index.from(&slab.ps).compile(&slab.ps, &mut slab.cs);
        Ok(Self { compiled: Arc::new((slab, instruction)), references })
    }

    /// Its value; `values` are those of its references. May not be finite.
    pub fn evaluate(&self, moment: Moment, values: &[f64]) -> f64 {
        self.evaluate_with(moment, values, &mut noise)
    }

    /// Its value in a shot that goes round: each noise fades, by `weights`, from its value at
    /// `moment` into the one at `before`, a round earlier.
    pub(crate) fn evaluate_periodic(
        &self,
        moment: Moment,
        before: Moment,
        weights: [f64; 2],
        values: &[f64],
    ) -> f64 {
        if weights[1] == 0.0 {
            return self.evaluate(moment, values);
        }
        let mut earlier = Vec::new();
        self.evaluate_with(before, values, &mut |x| {
            let value = noise(x);
            earlier.push(value);
            value
        });
        // The noises of a formula come in the same order at both moments.
        let mut earlier = earlier.into_iter();
        self.evaluate_with(moment, values, &mut |x| {
            let now = noise(x);
            earlier.next().map_or(now, |before| (weights[0] * now + weights[1] * before).clamp(-1.0, 1.0))
        })
    }

    fn evaluate_with(&self, moment: Moment, values: &[f64], noise: &mut dyn FnMut(f64) -> f64) -> f64 {
        let (slab, instruction) = &*self.compiled;
        let mut names = |name: &str, a: Vec<f64>| -> Option<f64> {
            Some(match (name, a.as_slice()) {
                ("noise", &[x]) => noise(x),
                ("time", _) => moment.time,
                ("frame", _) => moment.frame,
                ("fps", _) => moment.fps,
                ("pi", _) => std::f64::consts::PI,
                ("tau", _) => std::f64::consts::TAU,
                (_, &[a]) => function1(name, a)?,
                (_, &[a, b]) => function2(name, a, b)?,
                (_, &[a, b, c]) => function3(name, a, b, c)?,
                _ => *values.get(name.strip_prefix("_r")?.parse::<usize>().ok()?)?,
            })
        };
        instruction.eval(slab, &mut names).unwrap_or(f64::NAN)
    }
}

fn function1(name: &str, a: f64) -> Option<f64> {
    Some(match name {
        "degrees" => a.to_degrees(),
        "exp" => a.exp(),
        "fract" => a - a.floor(),
        "ln" => a.ln(),
        "log10" => a.log10(),
        "radians" => a.to_radians(),
        "random" => random(a),
        "sqrt" => a.sqrt(),
        _ => return None,
    })
}

fn function2(name: &str, a: f64, b: f64) -> Option<f64> {
    Some(match name {
        "atan2" => a.atan2(b),
        "mod" => a.rem_euclid(b),
        "pow" => a.powf(b),
        "step" => f64::from(u8::from(b >= a)),
        _ => return None,
    })
}

fn function3(name: &str, a: f64, b: f64, c: f64) -> Option<f64> {
    Some(match name {
        "clamp" => a.max(b).min(c),
        "if" if a != 0.0 => b,
        "if" => c,
        "mix" => a + (b - a) * c,
        "smoothstep" => {
            let s = ((c - a) / (b - a)).clamp(0.0, 1.0);
            s * s * (3.0 - 2.0 * s)
        }
        _ => return None,
    })
}

/// A number in 0–1 that depends on the whole part of `seed`.
pub fn random(seed: f64) -> f64 {
    // SplitMix64 (G. Steele et al., *Fast splittable pseudorandom number generators*, 2014).
    let mut z = (seed.floor() as i64 as u64).wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    (z ^ (z >> 31)) as f64 / u64::MAX as f64
}

/// Smooth noise of one number in −1–1, 0 at whole numbers (K. Perlin,
/// *Improving noise*, 2002).
pub fn noise(x: f64) -> f64 {
    let cell = x.floor();
    let s = x - cell;
    let slope = |cell: f64| 4.0 * random(cell) - 2.0;
    let fade = s * s * s * (s * (s * 6.0 - 15.0) + 10.0);
    let (a, b) = (slope(cell) * s, slope(cell + 1.0) * (s - 1.0));
    a + (b - a) * fade
}

/// Goes over the words of a formula: each in its place, every name known, every
/// function with its number of arguments. Gives the text with names that the
/// library takes for the references.
fn checked(text: &[char]) -> Result<(String, Vec<Reference>), ExpressionError> {
    let fail = |place: usize, message: String| ExpressionError { place, message };
    let mut plain = String::with_capacity(text.len());
    let mut references: Vec<Reference> = Vec::new();
    let mut open: Vec<(Open, usize)> = Vec::new();
    // Whether a value is expected next, rather than an operator.
    let mut wants_value = true;
    let mut at = 0;
    while let Some(&c) = text.get(at) {
        let start = at;
        at += 1;
        let run = |from: usize, test: fn(char) -> bool| {
            text[from..].iter().position(|&c| !test(c)).map_or(text.len(), |n| from + n)
        };
        let value = |wants: bool| -> Result<(), ExpressionError> {
            if wants { Ok(()) } else { Err(fail(start, "an operator is missing before this".to_owned())) }
        };
        match c {
            _ if c.is_whitespace() => plain.push(' '),
            '0'..='9' | '.' => {
                value(wants_value)?;
                at = run(start, |c| c.is_ascii_digit() || c == '.');
                let number: String = text[start..at].iter().collect();
                if number.parse::<f64>().is_err() {
                    return Err(fail(start, format!("{number} is not a number")));
                }
                plain.push_str(&number);
                wants_value = false;
                if text.get(at).is_some_and(|c| c.is_alphabetic() || *c == '_') {
                    return Err(fail(at, "an operator is missing before this".to_owned()));
                }
            }
            'a'..='z' | 'A'..='Z' | '_' => {
                value(wants_value)?;
                at = run(start, |c| c.is_ascii_alphanumeric() || c == '_');
                let name: String = text[start..at].iter().collect();
                let next = run(at, char::is_whitespace);
                let called = text.get(next) == Some(&'(');
                let function = FUNCTIONS.iter().position(|(known, ..)| *known == name);
                match (function, NAMES.contains(&name.as_str())) {
                    (Some(function), _) if called => {
                        open.push((Open::Call { function, place: start, arguments: 1 }, next));
                        plain.push_str(&name);
                        plain.push('(');
                        at = next + 1;
                    }
                    (Some(_), _) => {
                        return Err(fail(start, format!("{name} is a function; write {name}(…)")));
                    }
                    (None, true) => {
                        plain.push_str(&name);
                        wants_value = false;
                    }
                    (None, false) => {
                        return Err(fail(
                            start,
                            format!(
                                "{name} is not known here; another element's value is written {{Element.value}}"
                            ),
                        ));
                    }
                }
            }
            '{' => {
                value(wants_value)?;
                let Some(length) = text[at..].iter().position(|&c| c == '}') else {
                    return Err(fail(start, "the closing } is missing".to_owned()));
                };
                let inside: String = text[at..at + length].iter().collect();
                at += length + 1;
                plain.push_str(&format!("_r{}", references.len()));
                references.push(Reference { place: start, text: inside.trim().to_owned() });
                wants_value = false;
            }
            '(' => {
                value(wants_value)?;
                open.push((Open::Group, start));
                plain.push('(');
            }
            ',' | ')' => {
                if wants_value {
                    return Err(fail(start, "a value is missing before this".to_owned()));
                }
                match (c, open.last_mut()) {
                    (',', Some((Open::Call { arguments, .. }, _))) => {
                        *arguments += 1;
                        wants_value = true;
                    }
                    (',', _) => {
                        return Err(fail(
                            start,
                            "a comma stands only between a function's arguments".to_owned(),
                        ));
                    }
                    (_, None) => return Err(fail(start, "there is no ( for this".to_owned())),
                    (_, Some((Open::Group, _))) => {
                        open.pop();
                    }
                    (_, Some((Open::Call { function, place, arguments }, _))) => {
                        let (name, least, most) = FUNCTIONS[*function];
                        if !(least..=most).contains(arguments) {
                            let wanted =
                                if least == most { least.to_string() } else { format!("{least} to {most}") };
                            return Err(fail(
                                *place,
                                format!("{name} takes {wanted} arguments, not {arguments}"),
                            ));
                        }
                        open.pop();
                    }
                }
                plain.push(c);
            }
            '-' | '+' if wants_value => {
                if start > 0
                    && matches!(text[..start].iter().rev().find(|c| !c.is_whitespace()), Some('-' | '+'))
                {
                    return Err(fail(start, "two signs in a row; use brackets".to_owned()));
                }
                plain.push(c);
            }
            '+' | '-' | '*' | '/' | '%' | '^' | '<' | '>' | '=' | '!' | '&' | '|' => {
                let two: String = text[start..(start + 2).min(text.len())].iter().collect();
                let operator = match two.as_str() {
                    "<=" | ">=" | "==" | "!=" | "&&" | "||" => two.as_str(),
                    _ if matches!(c, '=' | '!' | '&' | '|') => {
                        return Err(fail(start, format!("{c} is not an operator; there are == != && ||")));
                    }
                    _ => &two[..1],
                };
                if wants_value {
                    return Err(fail(start, "a value is missing before this".to_owned()));
                }
                at = start + operator.len();
                plain.push_str(operator);
                wants_value = true;
            }
            _ => return Err(fail(start, format!("{c} has no meaning here"))),
        }
    }
    if let Some((_, place)) = open.last() {
        return Err(fail(*place, "the closing ) is missing".to_owned()));
    }
    if wants_value {
        return Err(fail(text.len(), "a value is missing at the end".to_owned()));
    }
    Ok((plain, references))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn value(text: &str) -> f64 {
        Expression::parse(text).unwrap().evaluate(Moment { time: 0.5, frame: 13.0, fps: 24.0 }, &[7.0, -1.0])
    }

    #[rstest]
    #[case("1 + 2 * 3", 7.0)]
    #[case("2 ^ 3 ^ 2", 512.0)]
    #[case("7 / 2 - 1", 2.5)]
    #[case("-time * 4", -2.0)]
    #[case("frame / fps", 13.0 / 24.0)]
    #[case("sin(pi / 2) + cos(tau)", 2.0)]
    #[case("clamp(5, 0, 2) + min(3, max(1, 2)) + 1", 5.0)]
    #[case("if(frame > 12, 10, 20)", 10.0)]
    #[case("if(frame <= 12 || time == 0.5, 1, 0)", 1.0)]
    #[case("{Block.position.y} * {Other.friction}", -7.0)]
    #[case("smoothstep(0, 1, 0.5) + mix(2, 4, 0.25) + step(1, 0)", 3.0)]
    #[case("mod(-1, 3) + fract(-0.25) + round(1.6) + floor(-0.5)", 3.75)]
    #[case("sqrt(16) + ln(exp(2)) + log10(1000) + pow(2, 0.5) ^ 2", 11.0)]
    #[case("degrees(pi) + radians(0) + abs(-3) + sign(-2) + ceil(0.1)", 183.0)]
    fn a_formula_has_its_value(#[case] text: &str, #[case] expected: f64) {
        assert!((value(text) - expected).abs() < 1e-12, "{text} is {}", value(text));
    }

    #[rstest]
    #[case("1 + ", 4, "missing at the end")]
    #[case("1 + * 2", 4, "a value is missing before")]
    #[case("2 time", 2, "operator is missing")]
    #[case("2time", 1, "operator is missing")]
    #[case("1 + wobble", 4, "wobble is not known")]
    #[case("1 + noize(3)", 4, "noize is not known")]
    #[case("sin(time", 3, "closing )")]
    #[case("2 * sin time", 4, "sin is a function")]
    #[case("clamp(1, 2)", 0, "3 arguments, not 2")]
    #[case("(1, 2)", 2, "comma")]
    #[case("1)", 1, "no ( for this")]
    #[case("1 = 2", 2, "not an operator")]
    #[case("1 + 1.2.3", 4, "not a number")]
    #[case("{Block.place", 0, "closing }")]
    #[case("3 # 4", 2, "no meaning")]
    #[case("", 0, "a value is missing")]
    #[case("print(1)", 0, "print is not known")]
    fn a_fault_is_told_with_its_place(#[case] text: &str, #[case] place: usize, #[case] message: &str) {
        let error = Expression::parse(text).unwrap_err();
        assert_eq!(error.place, place, "{error}");
        assert!(error.message.contains(message), "{error}");
    }

    #[test]
    fn length_and_depth_are_bounded() {
        assert!(Expression::parse(&"1+".repeat(600)).unwrap_err().message.contains("1000 characters"));
        let deep = format!("{}1{}", "(".repeat(200), ")".repeat(200));
        assert!(Expression::parse(&deep).unwrap_err().message.contains("deeply"));
    }

    #[test]
    fn what_is_not_finite_comes_out_as_it_is() {
        assert!(value("1 / 0").is_infinite() && value("sqrt(-1)").is_nan());
    }

    #[test]
    fn noise_is_smooth_bounded_and_zero_at_whole_numbers() {
        for i in 0..4_000 {
            let x = f64::from(i) * 0.01 - 20.0;
            assert!(noise(x).abs() <= 1.0 && (noise(x + 1e-4) - noise(x)).abs() < 1e-3);
        }
        assert_eq!(noise(7.0), 0.0);
        assert!(random(1.0) != random(2.0) && random(1.0) == random(1.9));
    }
}
