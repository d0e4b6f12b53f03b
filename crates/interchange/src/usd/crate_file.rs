//! The binary form of USD (`usdc`, a *crate file*): reading within bounds.
//!
//! A crate file has a table of sections: tokens, strings, fields, sets of fields,
//! paths and specs (USD Core Specification 1.0.1, §16.3). Values are read on
//! demand; nothing that a file says is allocated before it is checked against
//! the bytes that there are.

use super::value::{Arc, UsdValue};
use std::collections::HashMap;

/// Largest number of tokens, fields, paths and specs, each.
const MAX_ENTRIES: usize = 4 << 20;
/// Most bytes of all paths.
const MAX_PATH_BYTES: usize = 256 << 20;
/// LZ4 packs no more than this into one byte.
const MAX_LZ4_RATIO: usize = 255;
/// Least number of values of an array that is packed; the library's writer packs from 4 on.
const SHORTEST_PACKED: usize = 16;
const SHORTEST_PACKED_BY_WRITER: usize = 4;
/// Most numbers of one value.
const MAX_NUMBERS: usize = 128 << 20;

/// A value as a field names it: bits for array, inlined and compressed, a type, and a payload.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct ValueRep(u64);

impl ValueRep {
    fn is_array(self) -> bool {
        self.0 >> 63 & 1 == 1
    }

    fn is_inlined(self) -> bool {
        self.0 >> 62 & 1 == 1
    }

    fn is_compressed(self) -> bool {
        self.0 >> 61 & 1 == 1
    }

    fn kind(self) -> u8 {
        (self.0 >> 48) as u8
    }

    fn payload(self) -> usize {
        (self.0 & ((1 << 48) - 1)) as usize
    }
}

/// Types of values that are read, by their numbers in the format.
mod kind {
    pub const BOOL: u8 = 1;
    pub const UCHAR: u8 = 2;
    pub const INT: u8 = 3;
    pub const UINT: u8 = 4;
    pub const INT64: u8 = 5;
    pub const UINT64: u8 = 6;
    pub const HALF: u8 = 7;
    pub const FLOAT: u8 = 8;
    pub const DOUBLE: u8 = 9;
    pub const STRING: u8 = 10;
    pub const TOKEN: u8 = 11;
    pub const ASSET_PATH: u8 = 12;
    pub const TOKEN_LIST_OP: u8 = 32;
    pub const STRING_LIST_OP: u8 = 33;
    pub const PATH_LIST_OP: u8 = 34;
    pub const REFERENCE_LIST_OP: u8 = 35;
    pub const PATH_VECTOR: u8 = 40;
    pub const TOKEN_VECTOR: u8 = 41;
    pub const SPECIFIER: u8 = 42;
    pub const VARIANT_SELECTIONS: u8 = 45;
    pub const TIME_SAMPLES: u8 = 46;
    pub const PAYLOAD: u8 = 47;
    pub const DOUBLE_VECTOR: u8 = 48;
    pub const STRING_VECTOR: u8 = 50;
    pub const BLOCK: u8 = 51;
    pub const PAYLOAD_LIST_OP: u8 = 55;
    pub const TIME_CODE: u8 = 56;
}

/// Numbers of a type: how many, and of which scalar. Quaternions are stored x, y, z, w.
fn numeric(kind: u8) -> Option<(usize, Scalar)> {
    use Scalar::{Double, Float, Half, Int, Int64, Uchar, Uint, Uint64};
    Some(match kind {
        kind::BOOL | kind::UCHAR => (1, Uchar),
        kind::INT | kind::SPECIFIER => (1, Int),
        kind::UINT => (1, Uint),
        kind::INT64 => (1, Int64),
        kind::UINT64 => (1, Uint64),
        kind::HALF => (1, Half),
        kind::FLOAT => (1, Float),
        kind::DOUBLE | kind::TIME_CODE => (1, Double),
        // Matrices and quaternions of doubles, then vectors of 2, 3 and 4 as
        // doubles, floats, halves and whole numbers.
        13 => (4, Double),
        14 => (9, Double),
        15 => (16, Double),
        16 => (4, Double),
        17 => (4, Float),
        18 => (4, Half),
        19..=30 => {
            let width = 2 + usize::from(kind - 19) / 4;
            (width, [Double, Float, Half, Int][usize::from(kind - 19) % 4])
        }
        _ => return None,
    })
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Scalar {
    Uchar,
    Int,
    Uint,
    Int64,
    Uint64,
    Half,
    Float,
    Double,
}

impl Scalar {
    fn size(self) -> usize {
        match self {
            Self::Uchar => 1,
            Self::Half => 2,
            Self::Int | Self::Uint | Self::Float => 4,
            Self::Int64 | Self::Uint64 | Self::Double => 8,
        }
    }

    fn read(self, bytes: &[u8]) -> f64 {
        fn of<const N: usize>(bytes: &[u8]) -> [u8; N] {
            bytes[..N].try_into().expect("as many bytes")
        }
        match self {
            Self::Uchar => f64::from(bytes[0]),
            Self::Half => half::f16::from_le_bytes(of(bytes)).to_f64(),
            Self::Int => f64::from(i32::from_le_bytes(of(bytes))),
            Self::Uint => f64::from(u32::from_le_bytes(of(bytes))),
            Self::Float => f64::from(f32::from_le_bytes(of(bytes))),
            Self::Int64 => i64::from_le_bytes(of(bytes)) as f64,
            Self::Uint64 => u64::from_le_bytes(of(bytes)) as f64,
            Self::Double => f64::from_le_bytes(of(bytes)),
        }
    }

    fn write(self, value: f64, out: &mut Vec<u8>) {
        match self {
            Self::Uchar => out.push(value as u8),
            Self::Half => out.extend(half::f16::from_f64(value).to_le_bytes()),
            Self::Int => out.extend((value as i32).to_le_bytes()),
            Self::Uint => out.extend((value as u32).to_le_bytes()),
            Self::Float => out.extend((value as f32).to_le_bytes()),
            Self::Int64 => out.extend((value as i64).to_le_bytes()),
            Self::Uint64 => out.extend((value as u64).to_le_bytes()),
            Self::Double => out.extend(value.to_le_bytes()),
        }
    }

    fn is_whole(self) -> bool {
        matches!(self, Self::Int | Self::Uint | Self::Int64 | Self::Uint64)
    }
}

/// A place in the bytes of a file.
#[derive(Clone, Copy)]
struct Cursor<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Cursor<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], String> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or_else(|| format!("ends within a value at byte {}", self.at))?;
        let taken = &self.bytes[self.at..end];
        self.at = end;
        Ok(taken)
    }

    fn u32(&mut self) -> Result<u32, String> {
        Ok(u32::from_le_bytes(self.take(4)?.try_into().expect("4 bytes")))
    }

    fn u64(&mut self) -> Result<u64, String> {
        Ok(u64::from_le_bytes(self.take(8)?.try_into().expect("8 bytes")))
    }

    /// A count of things that take at least `size` bytes each, or a tenth of a bit packed.
    fn count(&mut self, most: usize) -> Result<usize, String> {
        let count = self.u64()?;
        usize::try_from(count).ok().filter(|count| *count <= most).ok_or_else(|| {
            format!("says that it has {count} entries at byte {}; at most {most}", self.at - 8)
        })
    }

    /// Packed bytes, at most `size` of them.
    fn unpacked(&mut self, size: usize) -> Result<Vec<u8>, String> {
        let packed = self.count(self.bytes.len())?;
        let packed = self.take(packed)?;
        let size = size.min(packed.len().saturating_mul(MAX_LZ4_RATIO) + 64);
        // Before the blocks stands their number, 0 for one without a length of its own.
        let (&chunks, rest) = packed.split_first().ok_or("has an empty packed block")?;
        let mut out = vec![0; size];
        let mut filled = 0;
        let mut cursor = Cursor { bytes: rest, at: 0 };
        for _ in 0..chunks.max(1) {
            let length = if chunks == 0 { rest.len() } else { cursor.u32()? as usize };
            let block = cursor.take(length)?;
            filled += lz4_flex::block::decompress_into(block, &mut out[filled..])
                .map_err(|error| format!("has a block that does not unpack: {error}"))?;
        }
        out.truncate(filled);
        Ok(out)
    }

    /// Whole numbers, packed as differences: a common one, two bits a number for
    /// the size of its difference, and the differences that are not common.
    fn packed_integers(&mut self, count: usize, wide: bool) -> Result<Vec<i64>, String> {
        if count == 0 {
            return Ok(Vec::new());
        }
        let whole = if wide { 8 } else { 4 };
        let codes_size = count.div_ceil(4);
        let data = self.unpacked(whole + codes_size + whole * count)?;
        let mut head = Cursor { bytes: &data, at: 0 };
        let read = |cursor: &mut Cursor, size: usize| -> Result<i64, String> {
            let mut bytes = [0u8; 8];
            let taken = cursor.take(size)?;
            bytes[..size].copy_from_slice(taken);
            // The sign of the highest byte goes on.
            if taken[size - 1] & 0x80 != 0 {
                bytes[size..].fill(0xff);
            }
            Ok(i64::from_le_bytes(bytes))
        };
        let common = read(&mut head, whole)?;
        let codes = head.take(codes_size)?;
        if codes.len() < codes_size {
            return Err("has fewer whole numbers than it says".to_owned());
        }
        let (mut previous, mut list) = (0i64, Vec::with_capacity(count));
        for i in 0..count {
            let code = codes[i / 4] >> (2 * (i % 4)) & 3;
            let difference = if code == 0 { common } else { read(&mut head, (whole >> (3 - code)).max(1))? };
            previous = previous.wrapping_add(difference);
            list.push(if wide { previous } else { i64::from(previous as i32) });
        }
        Ok(list)
    }

    fn index(&mut self) -> Result<usize, String> {
        Ok(self.u32()? as usize)
    }
}

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

    fn value(&self, rep: ValueRep) -> Result<UsdValue, String> {
        let at = self.cursor(rep.payload());
        if let Some((width, scalar)) = numeric(rep.kind()) {
            return self.numbers(rep, at, width, scalar);
        }
        let index = rep.payload() & 0xffff_ffff;
        let items = |mut at: Cursor, read: &dyn Fn(&mut Cursor) -> Result<String, String>| {
            let count = at.count(at.bytes.len() / 4)?;
            (0..count).map(|_| read(&mut at)).collect::<Result<Vec<_>, _>>()
        };
        let token = |at: &mut Cursor| self.token(at.index()?);
        let string = |at: &mut Cursor| self.string(at.index()?);
        let path = |at: &mut Cursor| self.path(at.index()?);
        Ok(match rep.kind() {
            kind::TOKEN if rep.is_array() && rep.payload() == 0 => UsdValue::Tokens(Vec::new()),
            kind::TOKEN if rep.is_array() => UsdValue::Tokens(items(self.array_start(at)?, &token)?),
            kind::TOKEN | kind::ASSET_PATH if rep.is_inlined() => UsdValue::Tokens(vec![self.token(index)?]),
            kind::TOKEN => UsdValue::Tokens(vec![token(&mut { at })?]),
            kind::STRING | kind::ASSET_PATH if rep.is_array() && rep.payload() == 0 => {
                UsdValue::Tokens(Vec::new())
            }
            kind::STRING | kind::ASSET_PATH if rep.is_array() => {
                UsdValue::Tokens(items(self.array_start(at)?, &string)?)
            }
            kind::STRING if rep.is_inlined() => UsdValue::Tokens(vec![self.string(index)?]),
            kind::STRING | kind::ASSET_PATH => UsdValue::Tokens(vec![string(&mut { at })?]),
            kind::TOKEN_VECTOR => UsdValue::Tokens(items(at, &token)?),
            kind::STRING_VECTOR => UsdValue::Tokens(items(at, &string)?),
            kind::PATH_VECTOR => UsdValue::Paths(items(at, &path)?),
            kind::DOUBLE_VECTOR => {
                let mut at = at;
                let count = at.count(at.bytes.len() / 8)?;
                let values =
                    at.take(8 * count)?.chunks_exact(8).map(|bytes| Scalar::Double.read(bytes)).collect();
                UsdValue::Numbers { width: 1, values }
            }
            kind::TOKEN_LIST_OP => UsdValue::Tokens(list_op(at, |at| items(at, &token))?),
            kind::STRING_LIST_OP => UsdValue::Tokens(list_op(at, |at| items(at, &string))?),
            kind::PATH_LIST_OP => UsdValue::Paths(list_op(at, |at| items(at, &path))?),
            kind::REFERENCE_LIST_OP => UsdValue::Arcs(self.arcs(at, true)?),
            kind::PAYLOAD_LIST_OP => UsdValue::Arcs(self.arcs(at, false)?),
            kind::PAYLOAD => UsdValue::Arcs(vec![self.arc(&mut { at }, false)?]),
            kind::VARIANT_SELECTIONS => {
                let mut at = at;
                let count = at.count(at.bytes.len() / 8)?;
                let pair = |_| Ok::<_, String>((string(&mut at)?, string(&mut at)?));
                UsdValue::Selections((0..count).map(pair).collect::<Result<_, _>>()?)
            }
            kind::BLOCK => UsdValue::Blocked,
            _ => UsdValue::Other,
        })
    }

    /// Behind the shape that older files have before the number of an array's values.
    fn array_start<'a>(&self, mut at: Cursor<'a>) -> Result<Cursor<'a>, String> {
        if self.version < (0, 5) {
            at.u32()?;
        }
        Ok(at)
    }

    fn numbers(&self, rep: ValueRep, at: Cursor, width: usize, scalar: Scalar) -> Result<UsdValue, String> {
        let quaternion = (16..=18).contains(&rep.kind());
        let mut values = if rep.is_array() {
            self.array(rep, at, width, scalar, SHORTEST_PACKED)?
        } else if rep.is_inlined() {
            inlined(rep, width, scalar)
        } else {
            let bytes = { at }.take(width * scalar.size())?;
            bytes.chunks_exact(scalar.size()).map(|bytes| scalar.read(bytes)).collect()
        };
        if quaternion {
            // They are stored x, y, z, w, and given w, x, y, z as in text.
            values.chunks_exact_mut(4).for_each(|q| q.rotate_right(1));
        }
        Ok(UsdValue::Numbers { width, values })
    }

    /// An array; one of fewer values than `shortest` is never packed, whatever its bits say.
    fn array(
        &self,
        rep: ValueRep,
        at: Cursor,
        width: usize,
        scalar: Scalar,
        shortest: usize,
    ) -> Result<Vec<f64>, String> {
        if rep.payload() == 0 {
            return Ok(Vec::new());
        }
        let mut at = self.array_start(at)?;
        let count = if self.version < (0, 7) { at.index()? } else { at.count(MAX_NUMBERS)? };
        if count.saturating_mul(width) > MAX_NUMBERS {
            return Err(format!("has an array of {count} values; at most {MAX_NUMBERS} numbers"));
        }
        // Arrays of vectors are never packed.
        let packed = rep.is_compressed() && count >= shortest && width == 1;
        if packed && scalar.is_whole() && self.version >= (0, 5) {
            let unsigned = scalar == Scalar::Uint;
            let list = at.packed_integers(count, scalar.size() == 8)?;
            return Ok(list
                .into_iter()
                .map(|n| if unsigned { f64::from(n as u32) } else { n as f64 })
                .collect());
        }
        if packed && self.version >= (0, 6) {
            // As whole numbers, or as a table with the places in it.
            let code = at.take(1)?[0];
            if code == b'i' {
                return Ok(at.packed_integers(count, false)?.into_iter().map(|n| n as f64).collect());
            }
            if code != b't' {
                return Err(format!("has an array packed in the unknown way {code}"));
            }
            let size = at.index()?;
            let table = at.take(size.saturating_mul(scalar.size()))?;
            let table: Vec<f64> = table.chunks_exact(scalar.size()).map(|bytes| scalar.read(bytes)).collect();
            let places = at.packed_integers(count, false)?;
            let entry = |place: i64| table.get(place as usize).copied();
            return places
                .into_iter()
                .map(entry)
                .collect::<Option<_>>()
                .ok_or_else(|| "has a table that is too short".to_owned());
        }
        let bytes = at.take(count * width * scalar.size())?;
        Ok(bytes.chunks_exact(scalar.size()).map(|bytes| scalar.read(bytes)).collect())
    }

    fn arcs(&self, at: Cursor, is_reference: bool) -> Result<Vec<Arc>, String> {
        let mut at = at;
        let head = at.take(1)?[0];
        let mut kept = Vec::new();
        for bit in LIST_OP_ORDER {
            if head & bit == 0 {
                continue;
            }
            let count = at.count(at.bytes.len() / 8)?;
            for _ in 0..count {
                let arc = self.arc(&mut at, is_reference)?;
                if bit & LIST_OP_TAKEN != 0 {
                    kept.push(arc);
                }
            }
        }
        Ok(kept)
    }

    fn arc(&self, at: &mut Cursor, is_reference: bool) -> Result<Arc, String> {
        let (asset, path) = (self.string(at.index()?)?, self.path(at.index()?)?);
        if is_reference || self.version >= (0, 8) {
            at.take(16)?;
        }
        if is_reference {
            // A dictionary, over which is gone.
            for _ in 0..at.count(at.bytes.len() / 8)? {
                at.index()?;
                at.skip_by_offset()?;
                at.take(8)?;
            }
        }
        Ok(Arc { asset, path })
    }
}

/// A crate file of the library's writer, made as the format asks for. The writer
/// stores the names of children and of properties as arrays of tokens, which look
/// the same but for the type that their field tells; and it packs arrays of 4 to
/// 15 numbers, which readers take for unpacked ones.
///
/// # Errors
/// A sentence if the bytes are no crate file.
pub(crate) fn mended(bytes: Vec<u8>) -> Result<Vec<u8>, String> {
    let file = CrateFile::read(bytes)?;
    // Behind the file: the short arrays unpacked, the fields with the types mended, the table.
    let mut added = Vec::new();
    let mut written = HashMap::new();
    let mut bytes = file.bytes.clone();
    let mut fields = Vec::with_capacity(file.fields.len());
    for (token, rep) in &file.fields {
        let lists = ["primChildren", "properties"].contains(&file.tokens[*token].as_str());
        fields.push(match rep.kind() {
            kind::TOKEN if lists && rep.is_array() => {
                ValueRep(u64::from(kind::TOKEN_VECTOR) << 48 | rep.payload() as u64)
            }
            kind::TIME_SAMPLES => {
                let (_, mut values) = file.samples_of(*rep)?;
                for _ in 0..values.count(file.bytes.len() / 8)? {
                    let at = values.at;
                    let value = file.unpacked_if_short(ValueRep(values.u64()?), &mut written, &mut added)?;
                    bytes[at..at + 8].copy_from_slice(&value.0.to_le_bytes());
                }
                *rep
            }
            _ => file.unpacked_if_short(*rep, &mut written, &mut added)?,
        });
    }
    bytes.extend(added);
    let mut table = Cursor { bytes: &file.bytes, at: Cursor { bytes: &file.bytes, at: 16 }.u64()? as usize };
    let mut sections = Vec::new();
    for _ in 0..table.count(64)? {
        sections.push((table.take(16)?.to_vec(), table.u64()?, table.u64()?));
    }
    let of = sections.iter().position(|(name, ..)| name.starts_with(b"FIELDS\0"));
    let of = of.ok_or("has no section FIELDS")?;
    // The names of the fields stay as they are packed.
    let at = sections[of].1 as usize;
    let mut names = Cursor { bytes: &file.bytes, at: at + 8 };
    let packed = names.count(file.bytes.len())?;
    names.take(packed)?;
    let mut section = file.bytes[at..names.at].to_vec();
    let reps: Vec<u8> = fields.iter().flat_map(|rep| rep.0.to_le_bytes()).collect();
    let mut block = vec![0];
    block.extend(lz4_flex::block::compress(&reps));
    section.extend((block.len() as u64).to_le_bytes());
    section.extend(block);
    (sections[of].1, sections[of].2) = (bytes.len() as u64, section.len() as u64);
    bytes.extend(section);
    let table = bytes.len() as u64;
    bytes[16..24].copy_from_slice(&table.to_le_bytes());
    bytes.extend((sections.len() as u64).to_le_bytes());
    for (name, start, size) in sections {
        bytes.extend(name);
        bytes.extend(start.to_le_bytes());
        bytes.extend(size.to_le_bytes());
    }
    Ok(bytes)
}

impl CrateFile {
    /// A value whose array, if it is a short packed one, is added unpacked.
    fn unpacked_if_short(
        &self,
        rep: ValueRep,
        written: &mut HashMap<u64, ValueRep>,
        added: &mut Vec<u8>,
    ) -> Result<ValueRep, String> {
        let Some((1, scalar)) = numeric(rep.kind()).filter(|_| rep.is_array() && rep.is_compressed()) else {
            return Ok(rep);
        };
        if let Some(known) = written.get(&rep.0) {
            return Ok(*known);
        }
        let at = self.cursor(rep.payload());
        let list = self.array(rep, at, 1, scalar, SHORTEST_PACKED_BY_WRITER)?;
        if list.len() >= SHORTEST_PACKED {
            return Ok(rep);
        }
        // Values start at multiples of 8.
        added.resize((self.bytes.len() + added.len()).next_multiple_of(8) - self.bytes.len(), 0);
        let place = (self.bytes.len() + added.len()) as u64;
        added.extend((list.len() as u64).to_le_bytes());
        list.iter().for_each(|n| scalar.write(*n, added));
        let unpacked = ValueRep(1 << 63 | u64::from(rep.kind()) << 48 | place);
        written.insert(rep.0, unpacked);
        Ok(unpacked)
    }
}

/// First bytes of a crate file.
pub(super) const MAGIC: &[u8] = b"PXR-USDC";

/// The parts of a list operation in their order, by the bits that tell of them.
const LIST_OP_ORDER: [u8; 6] = [1 << 1, 1 << 2, 1 << 5, 1 << 6, 1 << 3, 1 << 4];
/// Those whose items are taken: explicit, added, prepended and appended ones.
const LIST_OP_TAKEN: u8 = 1 << 1 | 1 << 2 | 1 << 5 | 1 << 6;

impl Cursor<'_> {
    /// Goes by the distance that stands here, counted from here.
    fn skip_by_offset(&mut self) -> Result<(), String> {
        let from = self.at;
        let offset = self.u64()? as i64;
        let to = i64::try_from(from).ok().and_then(|from| from.checked_add(offset));
        let to =
            to.and_then(|to| usize::try_from(to).ok()).filter(|to| *to > from && *to <= self.bytes.len());
        self.at = to.ok_or_else(|| format!("has a distance at byte {from} that leads out of the file"))?;
        Ok(())
    }
}

/// The items of a list operation that are taken. Each list is a count and an index for each item.
fn list_op<T>(mut at: Cursor, read: impl Fn(Cursor) -> Result<Vec<T>, String>) -> Result<Vec<T>, String> {
    let head = at.take(1)?[0];
    let mut kept = Vec::new();
    for bit in LIST_OP_ORDER {
        if head & bit != 0 {
            let list = read(at)?;
            at.take(8 + 4 * list.len())?;
            if bit & LIST_OP_TAKEN != 0 {
                kept.extend(list);
            }
        }
    }
    Ok(kept)
}

/// A value in the bits of its payload: a small scalar as it is, a double as a
/// float, a vector as whole numbers of 8 bits, a matrix by its diagonal.
fn inlined(rep: ValueRep, width: usize, scalar: Scalar) -> Vec<f64> {
    let bytes = (rep.payload() as u64).to_le_bytes();
    match width {
        1 if scalar == Scalar::Double => vec![Scalar::Float.read(&bytes)],
        1 if scalar == Scalar::Int64 => vec![Scalar::Int.read(&bytes)],
        1 if scalar == Scalar::Uint64 => vec![Scalar::Uint.read(&bytes)],
        1 => vec![scalar.read(&bytes)],
        2 if scalar == Scalar::Half => bytes.chunks_exact(2).take(2).map(|half| scalar.read(half)).collect(),
        _ if (13..=15).contains(&rep.kind()) => {
            let side = usize::from(rep.kind() - 13) + 2;
            let entry = |i: usize| {
                if i.is_multiple_of(side + 1) { f64::from(bytes[i / (side + 1)] as i8) } else { 0.0 }
            };
            (0..width).map(entry).collect()
        }
        _ => bytes[..width].iter().map(|byte| f64::from(*byte as i8)).collect(),
    }
}

fn read_tokens(mut at: Cursor) -> Result<Vec<String>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let size = at.count(MAX_PATH_BYTES)?;
    let text = at.unpacked(size)?;
    let text = std::str::from_utf8(&text).map_err(|_| "has tokens that are no text")?;
    let tokens: Vec<String> = text.split_terminator('\0').map(str::to_owned).collect();
    if tokens.len() < count {
        return Err(format!("says that it has {count} tokens, but has {}", tokens.len()));
    }
    Ok(tokens)
}

fn read_strings(mut at: Cursor, tokens: usize) -> Result<Vec<usize>, String> {
    let count = at.count((at.bytes.len() / 4).min(MAX_ENTRIES))?;
    let list = (0..count).map(|_| at.index()).collect::<Result<Vec<_>, _>>()?;
    within(&list, tokens, "strings", "tokens")?;
    Ok(list)
}

fn within(list: &[usize], count: usize, of: &str, among: &str) -> Result<(), String> {
    match list.iter().find(|index| **index >= count) {
        Some(index) => Err(format!("has {of} that name {index} of its {count} {among}")),
        None => Ok(()),
    }
}

/// Packed places, each within `count`.
fn places(at: &mut Cursor, length: usize, count: usize, of: &str, among: &str) -> Result<Vec<usize>, String> {
    let list: Vec<usize> =
        at.packed_integers(length, false)?.into_iter().map(|n| n as u32 as usize).collect();
    within(&list, count, of, among)?;
    Ok(list)
}

fn read_fields(mut at: Cursor, tokens: usize) -> Result<Vec<(usize, ValueRep)>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let names = places(&mut at, count, tokens, "fields", "tokens")?;
    let reps = at.unpacked(8 * count)?;
    if reps.len() != 8 * count {
        return Err(format!("says that it has {count} fields, but has {}", reps.len() / 8));
    }
    let rep = |bytes: &[u8]| ValueRep(u64::from_le_bytes(bytes.try_into().expect("8 bytes")));
    Ok(names.into_iter().zip(reps.chunks_exact(8).map(rep)).collect())
}

fn read_sets(mut at: Cursor, fields: usize) -> Result<Vec<Option<usize>>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let list = at.packed_integers(count, false)?;
    let sets: Vec<Option<usize>> =
        list.into_iter().map(|n| u32::try_from(n).ok().map(|n| n as usize)).collect();
    within(&sets.iter().flatten().copied().collect::<Vec<_>>(), fields, "sets", "fields")?;
    Ok(sets)
}

/// The tree of paths: each entry is a path's place, its last part as a token
/// (negative: a property), and whether a child and a sibling follow.
fn read_paths(mut at: Cursor, tokens: &[String]) -> Result<Vec<String>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let encoded = at.count(MAX_ENTRIES)?;
    let indices = places(&mut at, encoded, count, "a tree of paths", "paths")?;
    let parts = at.packed_integers(encoded, false)?;
    let jumps = at.packed_integers(encoded, false)?;
    let mut paths = vec![String::new(); count];
    let mut bytes = 0;
    // Entries to go on from, with the path above them. An entry is gone through once.
    let mut pending = if encoded > 0 { vec![(0usize, None::<usize>)] } else { Vec::new() };
    let mut seen = vec![false; encoded];
    while let Some((mut entry, mut above)) = pending.pop() {
        loop {
            let known = seen.get_mut(entry).filter(|seen| !**seen);
            *known.ok_or("has a tree of paths that goes round or out of its bounds")? = true;
            let place = indices[entry];
            let path = match above {
                None => "/".to_owned(),
                Some(above) => {
                    let part = parts[entry];
                    let token =
                        tokens.get(part.unsigned_abs() as usize).ok_or("has a path of an unknown token")?;
                    let above: &str = &paths[above];
                    match part < 0 {
                        true => format!("{above}.{token}"),
                        false if token.starts_with('{') || above.ends_with('/') => format!("{above}{token}"),
                        false if above.ends_with('}') => format!("{above}{token}"),
                        false => format!("{above}/{token}"),
                    }
                }
            };
            bytes += path.len();
            if bytes > MAX_PATH_BYTES {
                return Err(format!("has paths of more than {} MB", MAX_PATH_BYTES >> 20));
            }
            paths[place] = path;
            let jump = jumps[entry];
            let (child, sibling) = (jump > 0 || jump == -1, jump >= 0);
            match (child, sibling) {
                (true, _) => {
                    if sibling {
                        let next = entry.saturating_add(jump as usize);
                        pending.push((next, above));
                    }
                    above = Some(place);
                }
                (false, true) => {}
                (false, false) => break,
            }
            entry += 1;
        }
    }
    Ok(paths)
}

fn read_specs(mut at: Cursor, paths: &[String], sets: usize) -> Result<HashMap<String, usize>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let of = places(&mut at, count, paths.len(), "specs", "paths")?;
    let fields = places(&mut at, count, sets, "specs", "sets of fields")?;
    Ok(of.into_iter().map(|path| paths[path].clone()).zip(fields).collect())
}
