//! Crate files of the library's writer, made as the format asks for.

use super::cursor::Cursor;
use super::value_rep::{ValueRep, kind, numeric};
use super::{CrateFile, SHORTEST_PACKED, SHORTEST_PACKED_BY_WRITER};
use std::collections::HashMap;

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::usd::value::UsdValue;
    use openusd::sdf::{self, FieldKey, SpecType, Value};
    use openusd::usdc::CrateWriter;
    use rstest::rstest;

    /// A file of the library's writer with an attribute of two values, at two times.
    fn written(first: Value, second: Value) -> Vec<u8> {
        let mut data = sdf::Data::new();
        data.create_spec(sdf::Path::abs_root(), SpecType::PseudoRoot);
        let prim = sdf::path("/Net").unwrap();
        data.create_spec(prim.clone(), SpecType::Prim);
        let spec = data.create_spec(prim.append_property("counts").unwrap(), SpecType::Attribute);
        spec.add(FieldKey::Default, first.clone());
        spec.add(FieldKey::TimeSamples, Value::TimeSamples(vec![(1.0, first), (2.0, second)]));
        let mut out = std::io::Cursor::new(Vec::new());
        CrateWriter::write(&data, &mut out).unwrap();
        out.into_inner()
    }

    fn numbers(value: Option<UsdValue>) -> Vec<f64> {
        value.unwrap().numbers().unwrap()
    }

    #[rstest]
    fn arrays_of_any_length_are_read_as_they_were_written(
        #[values(0, 1, 3, 4, 5, 15, 16, 17, 300)] n: usize,
    ) {
        let list: Vec<i32> = (0..n as i32).map(|i| (i * 7919) % 1013 - 500).collect();
        let other: Vec<i32> = list.iter().map(|i| 3 - i).collect();
        let bytes = written(Value::IntVec(list.clone()), Value::IntVec(other.clone()));
        let file = CrateFile::read(mended(bytes).unwrap()).unwrap();
        let as_numbers = |list: &[i32]| list.iter().map(|i| f64::from(*i)).collect::<Vec<_>>();
        assert_eq!(numbers(file.field("/Net.counts", "default").unwrap()), as_numbers(&list));
        assert_eq!(file.times("/Net.counts").unwrap(), [1.0, 2.0]);
        assert_eq!(numbers(file.sample("/Net.counts", 1).unwrap()), as_numbers(&other));
        assert!(file.sample("/Net.counts", 2).unwrap_err().contains("has 2 samples"));
    }

    #[test]
    fn a_file_that_is_cut_anywhere_is_refused_or_read() {
        let bytes = mended(written(Value::IntVec((0..40).collect()), Value::FloatVec(vec![0.5; 9]))).unwrap();
        let mut refused = 0;
        for end in 0..bytes.len() {
            match CrateFile::read(bytes[..end].to_vec()) {
                Err(_) => refused += 1,
                Ok(file) => drop(file.field("/Net.counts", "default")),
            }
        }
        // The table stands at the end.
        assert_eq!(refused, bytes.len());
    }
}
