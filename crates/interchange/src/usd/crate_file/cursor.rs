//! The bytes of a crate file, one after the other, and the ways in which numbers are packed in them.

/// LZ4 packs no more than this into one byte.
const MAX_LZ4_RATIO: usize = 255;

/// A place in the bytes of a file.
#[derive(Clone, Copy)]
pub(super) struct Cursor<'a> {
    pub(super) bytes: &'a [u8],
    pub(super) at: usize,
}

impl<'a> Cursor<'a> {
    pub(super) fn take(&mut self, count: usize) -> Result<&'a [u8], String> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or_else(|| format!("ends within a value at byte {}", self.at))?;
        let taken = &self.bytes[self.at..end];
        self.at = end;
        Ok(taken)
    }

    pub(super) fn u32(&mut self) -> Result<u32, String> {
        Ok(u32::from_le_bytes(self.take(4)?.try_into().expect("4 bytes")))
    }

    pub(super) fn u64(&mut self) -> Result<u64, String> {
        Ok(u64::from_le_bytes(self.take(8)?.try_into().expect("8 bytes")))
    }

    /// A count of things that take at least `size` bytes each, or a tenth of a bit packed.
    pub(super) fn count(&mut self, most: usize) -> Result<usize, String> {
        let count = self.u64()?;
        usize::try_from(count).ok().filter(|count| *count <= most).ok_or_else(|| {
            format!("says that it has {count} entries at byte {}; at most {most}", self.at - 8)
        })
    }

    /// Packed bytes, at most `size` of them.
    pub(super) fn unpacked(&mut self, size: usize) -> Result<Vec<u8>, String> {
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
    pub(super) fn packed_integers(&mut self, count: usize, wide: bool) -> Result<Vec<i64>, String> {
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

    pub(super) fn index(&mut self) -> Result<usize, String> {
        Ok(self.u32()? as usize)
    }
}

impl Cursor<'_> {
    /// Goes by the distance that stands here, counted from here.
    pub(super) fn skip_by_offset(&mut self) -> Result<(), String> {
        let from = self.at;
        let offset = self.u64()? as i64;
        let to = i64::try_from(from).ok().and_then(|from| from.checked_add(offset));
        let to =
            to.and_then(|to| usize::try_from(to).ok()).filter(|to| *to > from && *to <= self.bytes.len());
        self.at = to.ok_or_else(|| format!("has a distance at byte {from} that leads out of the file"))?;
        Ok(())
    }
}
