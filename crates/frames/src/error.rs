//! Errors of decoding.

use thiserror::Error;

/// Why bytes are not a frame.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum DecodeError {
    /// The file ends early or does not begin as a frame does.
    #[error("not a frame file: {0}")]
    NotAFrame(&'static str),
    /// The bytes were changed after they were written.
    #[error("the frame file is damaged: its checksum does not match")]
    Damaged,
}
