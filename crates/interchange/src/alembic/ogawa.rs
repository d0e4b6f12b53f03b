//! Ogawa, the container of Alembic files: groups of groups and data, by their places in the file.

/// A place in the bytes that is a data block, not a group.
const DATA: u64 = 1 << 63;
/// First bytes of a file that was finished: its name, a mark, and its version.
pub(super) const HEAD: &[u8] = b"Ogawa\xff";

/// A child of a group.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Child {
    /// A group, by its place; 0 is an empty one.
    Group(usize),
    /// Data, by its place; 0 is empty.
    Data(usize),
}

/// The bytes of a file.
#[derive(Clone, Copy)]
pub(super) struct Ogawa<'a> {
    bytes: &'a [u8],
}

impl<'a> Ogawa<'a> {
    /// The file and its root.
    ///
    /// # Errors
    /// A sentence if the bytes are no such file, or one that was not finished.
    pub fn open(bytes: &'a [u8]) -> Result<(Self, Vec<Child>), String> {
        if bytes.starts_with(b"\x89HDF") {
            return Err("is of the older, HDF5 kind; Ogawa is read".to_owned());
        }
        if !bytes.starts_with(b"Ogawa") {
            return Err("is no Alembic file".to_owned());
        }
        if !bytes.starts_with(HEAD) {
            return Err("was not written to its end".to_owned());
        }
        let file = Self { bytes };
        let root = file.u64(8)?;
        let root = file.group(Child::Group(usize::try_from(root).unwrap_or(usize::MAX)))?;
        Ok((file, root))
    }

    fn u64(&self, at: usize) -> Result<u64, String> {
        let bytes = at.checked_add(8).and_then(|end| self.bytes.get(at..end));
        let bytes = bytes.ok_or_else(|| format!("is cut short: it has nothing at byte {at}"))?;
        Ok(u64::from_le_bytes(bytes.try_into().expect("8 bytes")))
    }

    /// The children of a group.
    ///
    /// # Errors
    /// A sentence on places outside of the file.
    pub fn group(&self, of: Child) -> Result<Vec<Child>, String> {
        let Child::Group(at) = of else { return Err("has data in place of a group".to_owned()) };
        if at == 0 {
            return Ok(Vec::new());
        }
        let count = self.u64(at)?;
        if count > (self.bytes.len() / 8) as u64 {
            return Err(format!("says that a group at byte {at} has {count} children"));
        }
        (0..count as usize)
            .map(|i| {
                let place = self.u64(at + 8 + 8 * i)?;
                let at = (place & !DATA) as usize;
                Ok(if place & DATA == 0 { Child::Group(at) } else { Child::Data(at) })
            })
            .collect()
    }

    /// The bytes of data.
    ///
    /// # Errors
    /// A sentence on places outside of the file.
    pub fn data(&self, of: Child) -> Result<&'a [u8], String> {
        let Child::Data(at) = of else { return Err("has a group in place of data".to_owned()) };
        if at == 0 {
            return Ok(&[]);
        }
        let size = self.u64(at)?;
        let start = at + 8;
        let end = usize::try_from(size).ok().and_then(|size| start.checked_add(size));
        let bytes = end.and_then(|end| self.bytes.get(start..end));
        bytes.ok_or_else(|| format!("is cut short: {size} bytes at byte {at} go over its end"))
    }
}
