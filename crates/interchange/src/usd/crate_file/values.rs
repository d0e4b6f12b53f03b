//! Values of a crate file, read on demand.

use super::cursor::Cursor;
use super::value_rep::{Scalar, ValueRep, kind, numeric};
use super::{CrateFile, MAX_NUMBERS, SHORTEST_PACKED};
use crate::usd::value::{Arc, UsdValue};

/// The parts of a list operation in their order, by the bits that tell of them.
const LIST_OP_ORDER: [u8; 6] = [1 << 1, 1 << 2, 1 << 5, 1 << 6, 1 << 3, 1 << 4];
/// Those whose items are taken: explicit, added, prepended and appended ones.
const LIST_OP_TAKEN: u8 = 1 << 1 | 1 << 2 | 1 << 5 | 1 << 6;

impl CrateFile {
    pub(super) fn value(&self, rep: ValueRep) -> Result<UsdValue, String> {
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
    pub(super) fn array(
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
