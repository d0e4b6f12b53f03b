//! The layout of a frame file: a head with a table of blocks, then the blocks.
//! The head, or one block, is read without the rest.
//!
//! ```text
//! 0   "BRFRAME2"            8 bytes
//! 8   number                u32   all numbers little-endian
//! 12  revision              u32
//! 16  time_s                f64
//! 24  fingerprint           16 bytes
//! 40  blocks                u32
//! 44  length of `measured`  u32
//! 48  table                 36 bytes a block: element u32, part u32, codec u32, count u32,
//!                           offset u64, length u64, CRC-32 of the block u32
//! …   measured              JSON
//! …   checksum              CRC-32 of all before it
//! …   blocks
//! ```

use crate::Header;
use crate::error::DecodeError;
use shot::{Id, fingerprint::Fingerprint};
use std::fs::File;
use std::os::unix::fs::FileExt;

const MAGIC: &[u8; 8] = b"BRFRAME2";
/// Length of what stands before the table.
const HEAD: usize = 48;
const ENTRY: usize = 36;
/// Most blocks of a frame, and bytes of its measurements.
const MAX_BLOCKS: usize = 1 << 16;
const MAX_MEASURED: usize = 64 << 20;
/// Bytes that are read at first: most heads end within them.
const FIRST_READ: usize = 4096;

/// The kind of a part of a frame.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Part {
    Bodies = 1,
    Points = 2,
    Mesh = 3,
}

/// How a block's bytes are packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Codec {
    /// [`crate::bodies`], without scales.
    Bodies = 1,
    /// [`crate::particles`].
    Particles = 2,
    /// [`crate::bodies`], with scales.
    ScaledBodies = 3,
    /// [`crate::impacts`] of the bodies before.
    Impacts = 4,
    /// [`crate::meshes`], whose topology is named by its hash.
    Mesh = 5,
    /// [`crate::topologies`], of the mesh that follows.
    Topology = 6,
}

impl Codec {
    fn read(part: u32, codec: u32) -> Option<(Part, Self)> {
        match (part, codec) {
            (1, 1) => Some((Part::Bodies, Self::Bodies)),
            (1, 3) => Some((Part::Bodies, Self::ScaledBodies)),
            (1, 4) => Some((Part::Bodies, Self::Impacts)),
            (2, 2) => Some((Part::Points, Self::Particles)),
            (3, 5) => Some((Part::Mesh, Self::Mesh)),
            (3, 6) => Some((Part::Mesh, Self::Topology)),
            _ => None,
        }
    }
}

/// An entry of the table.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Block {
    pub element: Id,
    pub part: Part,
    pub codec: Codec,
    /// Bodies, points, vertices…
    pub count: u32,
    offset: u64,
    length: u64,
    checksum: u32,
}

impl Block {
    /// A block whose bytes are still to be written.
    pub fn new(element: Id, part: Part, codec: Codec, count: usize) -> Self {
        Self { element, part, codec, count: count as u32, offset: 0, length: 0, checksum: 0 }
    }
}

/// The head of a frame file.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Table {
    pub header: Header,
    pub blocks: Vec<Block>,
    /// Measurements, as JSON.
    pub measured: Vec<u8>,
    /// Length of the file.
    pub end: u64,
}

/// Bytes of which parts can be read.
pub(crate) trait ReadAt {
    fn length(&self) -> std::io::Result<u64>;
    fn read_at(&self, at: u64, bytes: &mut [u8]) -> std::io::Result<()>;
}

impl ReadAt for &[u8] {
    fn length(&self) -> std::io::Result<u64> {
        Ok(self.len() as u64)
    }

    fn read_at(&self, at: u64, bytes: &mut [u8]) -> std::io::Result<()> {
        let at = usize::try_from(at).unwrap_or(usize::MAX);
        let part = at.checked_add(bytes.len()).and_then(|end| self.get(at..end));
        bytes.copy_from_slice(part.ok_or(std::io::ErrorKind::UnexpectedEof)?);
        Ok(())
    }
}

impl ReadAt for File {
    fn length(&self) -> std::io::Result<u64> {
        Ok(self.metadata()?.len())
    }

    fn read_at(&self, at: u64, bytes: &mut [u8]) -> std::io::Result<()> {
        self.read_exact_at(bytes, at)
    }
}

const SHORT: DecodeError = DecodeError::NotAFrame("it ends early");

fn read(source: &impl ReadAt, at: u64, length: usize) -> Result<Vec<u8>, DecodeError> {
    let mut bytes = vec![0; length];
    source.read_at(at, &mut bytes).map_err(|_| SHORT)?;
    Ok(bytes)
}

impl Table {
    /// The bytes of a frame file.
    pub fn write(header: &Header, measured: &[u8], blocks: Vec<(Block, Vec<u8>)>) -> Vec<u8> {
        let mut offset = HEAD + ENTRY * blocks.len() + measured.len() + 4;
        let mut out = Vec::with_capacity(offset + blocks.iter().map(|(_, block)| block.len()).sum::<usize>());
        out.extend_from_slice(MAGIC);
        out.extend_from_slice(&header.number.to_le_bytes());
        out.extend_from_slice(&header.revision.to_le_bytes());
        out.extend_from_slice(&header.time_s.to_le_bytes());
        out.extend_from_slice(&header.fingerprint.0);
        out.extend_from_slice(&(blocks.len() as u32).to_le_bytes());
        out.extend_from_slice(&(measured.len() as u32).to_le_bytes());
        for (block, bytes) in &blocks {
            for value in [block.element.0, block.part as u32, block.codec as u32, block.count] {
                out.extend_from_slice(&value.to_le_bytes());
            }
            out.extend_from_slice(&(offset as u64).to_le_bytes());
            out.extend_from_slice(&(bytes.len() as u64).to_le_bytes());
            out.extend_from_slice(&crc32fast::hash(bytes).to_le_bytes());
            offset += bytes.len();
        }
        out.extend_from_slice(measured);
        out.extend_from_slice(&crc32fast::hash(&out).to_le_bytes());
        blocks.iter().for_each(|(_, bytes)| out.extend_from_slice(bytes));
        out
    }

    /// The head of a frame file, whose checksum is right and whose length is as
    /// the table says.
    ///
    /// # Errors
    /// [`DecodeError`] if the bytes do not begin as a frame file does, are
    /// damaged, or too few or too many.
    pub fn read(source: &impl ReadAt) -> Result<Self, DecodeError> {
        let length = source.length().map_err(|_| SHORT)?;
        let mut bytes = read(source, 0, length.min(FIRST_READ as u64) as usize)?;
        if bytes.len() < HEAD || &bytes[..8] != MAGIC {
            return Err(DecodeError::NotAFrame("it does not begin with BRFRAME2"));
        }
        let (count, measured) = (u32_at(&bytes, 40) as usize, u32_at(&bytes, 44) as usize);
        if count > MAX_BLOCKS || measured > MAX_MEASURED {
            return Err(DecodeError::NotAFrame("its head is too large"));
        }
        let end = HEAD + ENTRY * count + measured + 4;
        if end as u64 > length {
            return Err(SHORT);
        }
        if end > bytes.len() {
            bytes = read(source, 0, end)?;
        }
        let (head, sum) = bytes[..end].split_last_chunk::<4>().ok_or(SHORT)?;
        if crc32fast::hash(head) != u32::from_le_bytes(*sum) {
            return Err(DecodeError::Damaged);
        }
        let mut blocks = Vec::with_capacity(count);
        let mut next = end as u64;
        for entry in head[HEAD..HEAD + ENTRY * count].chunks_exact(ENTRY) {
            let value = |i: usize| u32_at(entry, 4 * i);
            let long = |at: usize| u64::from_le_bytes(entry[at..at + 8].try_into().expect("8 bytes"));
            let (part, codec) = Codec::read(value(1), value(2))
                .ok_or(DecodeError::NotAFrame("it holds a block of an unknown kind"))?;
            let (offset, length) = (long(16), long(24));
            if offset != next {
                return Err(DecodeError::NotAFrame("a part lies outside its place"));
            }
            next = next.checked_add(length).ok_or(SHORT)?;
            let (element, count, checksum) = (Id(value(0)), value(3), value(8));
            blocks.push(Block { element, part, codec, count, offset, length, checksum });
        }
        if next != length {
            return Err(DecodeError::NotAFrame("it is not as long as its table says"));
        }
        let header = Header {
            number: u32_at(head, 8),
            revision: u32_at(head, 12),
            time_s: f64::from_le_bytes(head[16..24].try_into().expect("8 bytes")),
            fingerprint: Fingerprint(head[24..40].try_into().expect("16 bytes")),
        };
        let measured = head[HEAD + ENTRY * count..].to_vec();
        Ok(Self { header, blocks, measured, end: length })
    }

    /// The bytes of a block, if its checksum is right.
    ///
    /// # Errors
    /// [`DecodeError::Damaged`], or that the file ends early.
    pub fn block(&self, source: &impl ReadAt, block: &Block) -> Result<Vec<u8>, DecodeError> {
        // The table was checked against the length of the file.
        let bytes = read(source, block.offset, block.length as usize)?;
        if crc32fast::hash(&bytes) == block.checksum { Ok(bytes) } else { Err(DecodeError::Damaged) }
    }

    /// The first bytes of a block, whose checksum is not looked at.
    ///
    /// # Errors
    /// That the block is shorter.
    pub fn start<const N: usize>(&self, source: &impl ReadAt, block: &Block) -> Result<[u8; N], DecodeError> {
        let mut bytes = [0; N];
        if block.length < N as u64 {
            return Err(SHORT);
        }
        source.read_at(block.offset, &mut bytes).map_err(|_| SHORT)?;
        Ok(bytes)
    }

    /// Whether all blocks are as they were written.
    ///
    /// # Errors
    /// As of [`Table::block`].
    pub fn check(&self, source: &impl ReadAt) -> Result<(), DecodeError> {
        self.blocks.iter().try_for_each(|block| self.block(source, block).map(drop))
    }
}

pub(crate) fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().expect("4 bytes"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn file() -> Vec<u8> {
        let header = Header { number: 38, revision: 12, time_s: 1.5, fingerprint: Fingerprint([9; 16]) };
        let block = |id| Block::new(Id(id), Part::Bodies, Codec::Bodies, 1);
        Table::write(&header, b"{}", vec![(block(3), vec![1, 2, 3]), (block(4), vec![4; 9000])])
    }

    #[test]
    fn the_head_is_read_without_the_blocks() {
        struct Head(Vec<u8>, u64);
        impl ReadAt for Head {
            fn length(&self) -> std::io::Result<u64> {
                Ok(self.1)
            }
            fn read_at(&self, at: u64, bytes: &mut [u8]) -> std::io::Result<()> {
                assert!(at + bytes.len() as u64 <= FIRST_READ as u64, "only the first page is read");
                (&self.0[..]).read_at(at, bytes)
            }
        }
        let bytes = file();
        let table = Table::read(&Head(bytes[..FIRST_READ].to_vec(), bytes.len() as u64)).unwrap();
        assert_eq!((table.header.number, table.header.time_s, table.blocks.len()), (38, 1.5, 2));
        assert_eq!(table.measured, b"{}");
    }

    #[test]
    fn a_block_is_read_alone_and_damage_in_another_is_not_seen() {
        let mut bytes = file();
        let last = bytes.len() - 1;
        bytes[last] ^= 1;
        let table = Table::read(&&bytes[..]).unwrap();
        assert_eq!(table.block(&&bytes[..], &table.blocks[0]).unwrap(), [1, 2, 3]);
        assert_eq!(table.block(&&bytes[..], &table.blocks[1]), Err(DecodeError::Damaged));
        assert_eq!(table.check(&&bytes[..]), Err(DecodeError::Damaged));
    }

    /// Numbers that lie about sizes are found before anything of that size is allocated.
    #[rstest]
    #[case(40, u32::MAX)]
    #[case(44, u32::MAX)]
    #[case(40, 60_000)]
    fn a_head_that_lies_about_its_sizes_is_refused(#[case] at: usize, #[case] value: u32) {
        let mut bytes = file();
        bytes[at..at + 4].copy_from_slice(&value.to_le_bytes());
        assert!(Table::read(&&bytes[..]).is_err());
    }
}
