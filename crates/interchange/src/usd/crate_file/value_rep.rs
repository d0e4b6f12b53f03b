//! Values as the fields of a crate file name them, and the types of numbers.

/// A value as a field names it: bits for array, inlined and compressed, a type, and a payload.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct ValueRep(pub(super) u64);

impl ValueRep {
    pub(super) fn is_array(self) -> bool {
        self.0 >> 63 & 1 == 1
    }

    pub(super) fn is_inlined(self) -> bool {
        self.0 >> 62 & 1 == 1
    }

    pub(super) fn is_compressed(self) -> bool {
        self.0 >> 61 & 1 == 1
    }

    pub(super) fn kind(self) -> u8 {
        (self.0 >> 48) as u8
    }

    pub(super) fn payload(self) -> usize {
        (self.0 & ((1 << 48) - 1)) as usize
    }
}

/// Types of values that are read, by their numbers in the format.
pub(super) mod kind {
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
pub(super) fn numeric(kind: u8) -> Option<(usize, Scalar)> {
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
pub(super) enum Scalar {
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
    pub(super) fn size(self) -> usize {
        match self {
            Self::Uchar => 1,
            Self::Half => 2,
            Self::Int | Self::Uint | Self::Float => 4,
            Self::Int64 | Self::Uint64 | Self::Double => 8,
        }
    }

    pub(super) fn read(self, bytes: &[u8]) -> f64 {
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

    pub(super) fn write(self, value: f64, out: &mut Vec<u8>) {
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

    pub(super) fn is_whole(self) -> bool {
        matches!(self, Self::Int | Self::Uint | Self::Int64 | Self::Uint64)
    }
}
