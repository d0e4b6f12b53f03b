//! The sections of a crate file.

use super::cursor::Cursor;
use super::value_rep::ValueRep;
use super::{MAX_ENTRIES, MAX_PATH_BYTES};
use std::collections::HashMap;

pub(super) fn read_tokens(mut at: Cursor) -> Result<Vec<String>, String> {
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

pub(super) fn read_strings(mut at: Cursor, tokens: usize) -> Result<Vec<usize>, String> {
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

pub(super) fn read_fields(mut at: Cursor, tokens: usize) -> Result<Vec<(usize, ValueRep)>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let names = places(&mut at, count, tokens, "fields", "tokens")?;
    let reps = at.unpacked(8 * count)?;
    if reps.len() != 8 * count {
        return Err(format!("says that it has {count} fields, but has {}", reps.len() / 8));
    }
    let rep = |bytes: &[u8]| ValueRep(u64::from_le_bytes(bytes.try_into().expect("8 bytes")));
    Ok(names.into_iter().zip(reps.chunks_exact(8).map(rep)).collect())
}

pub(super) fn read_sets(mut at: Cursor, fields: usize) -> Result<Vec<Option<usize>>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let list = at.packed_integers(count, false)?;
    let sets: Vec<Option<usize>> =
        list.into_iter().map(|n| u32::try_from(n).ok().map(|n| n as usize)).collect();
    within(&sets.iter().flatten().copied().collect::<Vec<_>>(), fields, "sets", "fields")?;
    Ok(sets)
}

/// The tree of paths: each entry is a path's place, its last part as a token
/// (negative: a property), and whether a child and a sibling follow.
pub(super) fn read_paths(mut at: Cursor, tokens: &[String]) -> Result<Vec<String>, String> {
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

pub(super) fn read_specs(
    mut at: Cursor,
    paths: &[String],
    sets: usize,
) -> Result<HashMap<String, usize>, String> {
    let count = at.count(MAX_ENTRIES)?;
    let of = places(&mut at, count, paths.len(), "specs", "paths")?;
    let fields = places(&mut at, count, sets, "specs", "sets of fields")?;
    Ok(of.into_iter().map(|path| paths[path].clone()).zip(fields).collect())
}
