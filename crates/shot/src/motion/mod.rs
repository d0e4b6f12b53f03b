//! What changes with time: channels of keys or formulas on an element's
//! values, and the [`Sampler`] that gives a shot as it is at a frame.

mod channel;
mod clock;
mod elapsed;
pub mod expression;
mod fit;
mod performance;
mod period;
mod sampler;
mod value;

pub use channel::{Channel, Handle, Interpolation, Key, Outside};
pub use elapsed::Elapsed;
pub use performance::{Performance, Within};
pub use period::PeriodicElapsed;
pub use sampler::{NotFinite, Sampler};
pub use value::Value;

/// The plain name of a value by its path: `position` for `placement.position_m`.
pub fn short_name(path: &str) -> &str {
    const UNITS: [&str; 13] =
        ["_n_s_m", "_kg_m3", "_m_s2", "_m_s", "_n_s", "_rad", "_mm", "_kg", "_n", "_s", "_m", "_1_s", "_m3"];
    // A point goes by the name of its list.
    let words = path.rsplit('.').map(|word| word.split('[').next().unwrap_or(word));
    let last = words.clone().find(|word| !word.bytes().all(|b| b.is_ascii_digit())).unwrap_or(path);
    UNITS.iter().find_map(|unit| last.strip_suffix(unit)).unwrap_or(last)
}

/// A path and the part of the value it means: `placement.position_m[1]` is part 1.
pub(crate) fn split_part(path: &str) -> (&str, Option<usize>) {
    let Some((whole, rest)) = path.rsplit_once('[') else { return (path, None) };
    match rest.strip_suffix(']').and_then(|part| part.parse().ok()) {
        Some(part) => (whole, Some(part)),
        None => (path, None),
    }
}
