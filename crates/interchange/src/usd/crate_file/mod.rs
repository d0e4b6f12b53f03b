//! The binary form of USD (`usdc`, a *crate file*): reading within bounds.
//!
//! A crate file has a table of sections: tokens, strings, fields, sets of fields,
//! paths and specs (USD Core Specification 1.0.1, §16.3). Values are read on
//! demand; nothing that a file says is allocated before it is checked against
//! the bytes that there are.

mod cursor;
mod mending;
mod sections;
mod value_rep;
mod values;

use super::value::UsdValue;
use cursor::Cursor;
pub(crate) use mending::mended;
use sections::{read_fields, read_paths, read_sets, read_specs, read_strings, read_tokens};
use std::collections::HashMap;
use value_rep::{ValueRep, kind};

/// Largest number of tokens, fields, paths and specs, each.
const MAX_ENTRIES: usize = 4 << 20;
/// Most bytes of all paths.
const MAX_PATH_BYTES: usize = 256 << 20;
/// Least number of values of an array that is packed; the library's writer packs from 4 on.
const SHORTEST_PACKED: usize = 16;
const SHORTEST_PACKED_BY_WRITER: usize = 4;
/// Most numbers of one value: three for each of twelve million vertices.
const MAX_NUMBERS: usize = 36_000_000;

/// First bytes of a crate file.
pub(super) const MAGIC: &[u8] = b"PXR-USDC";
/// A crate file.
#[derive(Debug)]
pub(super) struct CrateFile {
    bytes: Vec<u8>,
    version: (u8, u8),
    tokens: Vec<String>,
    /// Strings, as tokens.
    strings: Vec<usize>,
    fields: Vec<(usize, ValueRep)>,
    /// Fields of the sets one after the other; none ends a set.
    sets: Vec<Option<usize>>,
    paths: Vec<String>,
    /// The first of the fields of each spec, by path.
    specs: HashMap<String, usize>,
}

impl CrateFile {
    /// Reads the structure of a file.
    ///
    /// # Errors
    /// A sentence on what is wrong with the file.
    pub fn read(bytes: Vec<u8>) -> Result<Self, String> {
        let mut head = Cursor { bytes: &bytes, at: 8 };
        if !bytes.starts_with(MAGIC) {
            return Err("is no USD crate file".to_owned());
        }
        let version = head.take(8)?;
        let version = (version[0], version[1]);
        if version < (0, 4) || version.0 > 0 {
            let (major, minor) = version;
            return Err(format!("is a crate file of version {major}.{minor}; 0.4 and later are read"));
        }
        let mut table = Cursor { bytes: &bytes, at: usize::try_from(head.u64()?).unwrap_or(usize::MAX) };
        if table.at > bytes.len() {
            return Err("is cut short: its table lies beyond its end".to_owned());
        }
        let mut sections = HashMap::new();
        for _ in 0..table.count(64)? {
            let name = table.take(16)?;
            let name = String::from_utf8_lossy(name).trim_end_matches('\0').to_owned();
            let (start, _) = (table.u64()?, table.u64()?);
            sections.insert(name, usize::try_from(start).unwrap_or(usize::MAX).min(bytes.len()));
        }
        let section = |name: &str| {
            let at = *sections.get(name).ok_or_else(|| format!("has no section {name}"))?;
            Ok::<_, String>(Cursor { bytes: &bytes, at })
        };
        let tokens = read_tokens(section("TOKENS")?)?;
        let strings = read_strings(section("STRINGS")?, tokens.len())?;
        let fields = read_fields(section("FIELDS")?, tokens.len())?;
        let sets = read_sets(section("FIELDSETS")?, fields.len())?;
        let paths = read_paths(section("PATHS")?, &tokens)?;
        let specs = read_specs(section("SPECS")?, &paths, sets.len())?;
        Ok(Self { bytes, version, tokens, strings, fields, sets, paths, specs })
    }

    /// Whether there is a spec of a path.
    pub fn has(&self, path: &str) -> bool {
        self.specs.contains_key(path)
    }

    fn rep(&self, path: &str, field: &str) -> Option<ValueRep> {
        let first = *self.specs.get(path)?;
        let set = self.sets[first..].iter().map_while(|field| *field);
        set.map(|index| &self.fields[index]).find(|(token, _)| self.tokens[*token] == field).map(|of| of.1)
    }

    /// The value of a field; times and values of samples are read by [`Self::times`] and [`Self::sample`].
    ///
    /// # Errors
    /// A sentence on what is wrong with the value.
    pub fn field(&self, path: &str, field: &str) -> Result<Option<UsdValue>, String> {
        self.rep(path, field).map(|rep| self.value(rep)).transpose()
    }

    /// The times of the samples of an attribute.
    ///
    /// # Errors
    /// A sentence on what is wrong with them.
    pub fn times(&self, path: &str) -> Result<Vec<f64>, String> {
        let Some((times, _)) = self.samples(path)? else { return Ok(Vec::new()) };
        match self.value(times)? {
            UsdValue::Numbers { values, .. } => Ok(values),
            _ => Err(format!("{path} has times that are no numbers")),
        }
    }

    /// The value of one of the samples of an attribute, by its place among the times.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn sample(&self, path: &str, index: usize) -> Result<Option<UsdValue>, String> {
        let Some((_, mut values)) = self.samples(path)? else { return Ok(None) };
        let count = values.count(values.bytes.len() / 8)?;
        if index >= count {
            return Err(format!("{path} has {count} samples, but more times"));
        }
        values.take(8 * index)?;
        self.value(ValueRep(values.u64()?)).map(Some)
    }

    /// The times of an attribute's samples, and where their values stand.
    fn samples(&self, path: &str) -> Result<Option<(ValueRep, Cursor<'_>)>, String> {
        self.rep(path, "timeSamples").map(|rep| self.samples_of(rep)).transpose()
    }

    fn samples_of(&self, rep: ValueRep) -> Result<(ValueRep, Cursor<'_>), String> {
        if rep.kind() != kind::TIME_SAMPLES || rep.is_inlined() {
            return Err(format!("has samples of type {}", rep.kind()));
        }
        let mut at = self.cursor(rep.payload());
        at.skip_by_offset()?;
        let times = ValueRep(at.u64()?);
        at.skip_by_offset()?;
        Ok((times, at))
    }

    fn cursor(&self, at: usize) -> Cursor<'_> {
        Cursor { bytes: &self.bytes, at: at.min(self.bytes.len()) }
    }

    fn token(&self, index: usize) -> Result<String, String> {
        self.tokens
            .get(index)
            .cloned()
            .ok_or_else(|| format!("names token {index}, but has {}", self.tokens.len()))
    }

    fn string(&self, index: usize) -> Result<String, String> {
        let token = self.strings.get(index).ok_or_else(|| format!("names string {index}"))?;
        self.token(*token)
    }

    fn path(&self, index: usize) -> Result<String, String> {
        self.paths
            .get(index)
            .cloned()
            .ok_or_else(|| format!("names path {index}, but has {}", self.paths.len()))
    }
}
