//! Layers: the files that a stage is made of.

use super::crate_file::{CrateFile, MAGIC};
use super::value::UsdValue;
use frames::MAX_SAMPLES;
use openusd::sdf::{AbstractData, Data, Path, Value};

/// How deep the text of a layer may be nested.
const MAX_NESTING: usize = 128;
/// Most statements between two braces, and pairs of braces.
const MAX_STATEMENTS: usize = 20_000;
const MAX_BLOCKS: usize = 100_000;
/// Stack for reading text, bytes: more than its nesting needs.
const STACK: usize = 64 << 20;

/// A layer, as text or as a crate file.
pub(super) enum Layer {
    Text(Data),
    Binary(CrateFile),
}

impl Layer {
    /// Reads a layer, told by its first bytes.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn read(bytes: Vec<u8>) -> Result<Self, String> {
        if bytes.starts_with(MAGIC) {
            return CrateFile::read(bytes).map(Self::Binary);
        }
        if !bytes.starts_with(b"#usda") {
            return Err("is neither text (#usda) nor a crate file of USD".to_owned());
        }
        let text = String::from_utf8(bytes).map_err(|_| "is not a text file")?;
        check_nesting(&text)?;
        // Text is read by recursion: on a stack that is large enough.
        let parse = move || openusd::usda::parse(&text).map_err(|error| format!("{error:#}"));
        let thread = std::thread::Builder::new().stack_size(STACK).spawn(parse);
        let read = thread.map_err(|error| error.to_string())?.join();
        read.unwrap_or_else(|_| Err("cannot be read".to_owned())).map(Self::Text)
    }

    /// Whether there is a prim or a property of a path.
    pub fn has(&self, path: &str) -> bool {
        match self {
            Self::Text(data) => Path::new(path).is_ok_and(|path| data.has_spec(&path)),
            Self::Binary(file) => file.has(path),
        }
    }

    fn text_field<'a>(data: &'a Data, path: &str, field: &str) -> Option<std::borrow::Cow<'a, Value>> {
        data.try_field(&Path::new(path).ok()?, field).ok().flatten()
    }

    /// The value of a field, but of samples.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn field(&self, path: &str, field: &str) -> Result<Option<UsdValue>, String> {
        match self {
            Self::Text(data) => Ok(Self::text_field(data, path, field).map(|value| UsdValue::from(&*value))),
            Self::Binary(file) => file.field(path, field).map_err(|message| format!("{path}: {message}")),
        }
    }

    /// The times of the samples of an attribute, rising.
    ///
    /// # Errors
    /// A sentence on what is wrong with them.
    pub fn times(&self, path: &str) -> Result<Vec<f64>, String> {
        let times = match self {
            Self::Text(data) => match Self::text_field(data, path, "timeSamples").as_deref() {
                Some(Value::TimeSamples(samples)) => samples.iter().map(|(time, _)| *time).collect(),
                _ => Vec::new(),
            },
            Self::Binary(file) => file.times(path).map_err(|message| format!("{path}: {message}"))?,
        };
        if times.len() > MAX_SAMPLES {
            return Err(format!("{path} has {} samples; at most {MAX_SAMPLES}", times.len()));
        }
        if times.iter().any(|time| !time.is_finite()) || times.windows(2).any(|pair| pair[0] >= pair[1]) {
            return Err(format!("{path} has times that do not rise"));
        }
        Ok(times)
    }

    /// The value of a sample, by its place among the times.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn sample(&self, path: &str, index: usize) -> Result<Option<UsdValue>, String> {
        match self {
            Self::Text(data) => Ok(match Self::text_field(data, path, "timeSamples").as_deref() {
                Some(Value::TimeSamples(samples)) => {
                    samples.get(index).map(|(_, value)| UsdValue::from(value))
                }
                _ => None,
            }),
            Self::Binary(file) => file.sample(path, index).map_err(|message| format!("{path}: {message}")),
        }
    }
}

/// Bounds what the reader of text does by recursion, or for each statement anew.
fn check_nesting(text: &str) -> Result<(), String> {
    let mut open: Vec<(u8, usize)> = Vec::new();
    let (mut blocks, mut line) = (0usize, 1usize);
    let bytes = text.as_bytes();
    let mut i = 0;
    while i < bytes.len() {
        match bytes[i] {
            b'\n' => line += 1,
            b'#' => {
                while i + 1 < bytes.len() && bytes[i + 1] != b'\n' {
                    i += 1;
                }
            }
            quote @ (b'"' | b'\'') => {
                // Three quotes hold text of several lines.
                let long = bytes[i..].starts_with(&[quote; 3]);
                let end: &[u8] = if long { &[quote; 3] } else { &[quote] };
                i += end.len();
                while i < bytes.len() && !bytes[i..].starts_with(end) {
                    line += usize::from(bytes[i] == b'\n');
                    i += 1 + usize::from(bytes[i] == b'\\');
                }
                i += end.len() - 1;
            }
            bracket @ (b'{' | b'[' | b'(') => {
                open.push((bracket, 0));
                blocks += usize::from(bracket == b'{');
                if open.len() > MAX_NESTING || blocks > MAX_BLOCKS {
                    return Err(format!(
                        "line {line}: is nested deeper than {MAX_NESTING}, or has more than {MAX_BLOCKS} prims"
                    ));
                }
            }
            b'}' | b']' | b')' => {
                open.pop();
            }
            b'=' => {
                if let Some((b'{', statements)) = open.last_mut() {
                    *statements += 1;
                    if *statements > MAX_STATEMENTS {
                        return Err(format!(
                            "line {line}: has over {MAX_STATEMENTS} statements in one place"
                        ));
                    }
                }
            }
            _ => {}
        }
        i += 1;
    }
    Ok(())
}
