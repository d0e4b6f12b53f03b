//! Errors of decoding, and of run folders.

use std::io;
use std::path::PathBuf;
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

/// Why a run folder could not be read or written.
#[derive(Debug, Error)]
pub enum RunError {
    /// The file system refused.
    #[error("{path}: {source}")]
    Io {
        /// The file or folder.
        path: PathBuf,
        /// Message of the system.
        source: io::Error,
    },
    /// A frame's file is not one, or is damaged.
    #[error("{path}: {source}")]
    Frame {
        /// The file.
        path: PathBuf,
        /// The fault.
        source: DecodeError,
    },
    /// The manifest cannot be read.
    #[error("{path}: not a run's manifest: {message}")]
    Manifest {
        /// The file.
        path: PathBuf,
        /// The fault.
        message: String,
    },
    /// A frame is not there.
    #[error("frame {frame} is not computed")]
    Missing {
        /// The frame.
        frame: u32,
    },
    /// Another bake writes to the folder.
    #[error("{path}: another bake is writing to this run; stop it or name another folder")]
    InUse {
        /// The folder.
        path: PathBuf,
    },
}
