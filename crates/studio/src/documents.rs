//! The documents that were read or written last: a revision never changes.

use shot::Shot;
use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};

/// Documents kept.
const KEPT: usize = 8;

/// Documents by shot and revision.
#[derive(Default)]
pub struct Documents(Mutex<VecDeque<(i64, i64, Shot)>>);

impl Documents {
    /// A document, if it is kept.
    pub fn get(&self, shot: i64, revision: i64) -> Option<Shot> {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = kept.iter().position(|(s, r, _)| (*s, *r) == (shot, revision))?;
        let entry = kept.remove(at)?;
        let document = entry.2.clone();
        kept.push_back(entry);
        Some(document)
    }

    /// Keeps a document in place of the one that was asked for longest ago.
    pub fn keep(&self, shot: i64, revision: i64, document: &Shot) {
        let mut kept = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        kept.retain(|(s, r, _)| (*s, *r) != (shot, revision));
        if kept.len() >= KEPT {
            kept.pop_front();
        }
        kept.push_back((shot, revision, document.clone()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_documents_asked_for_last_are_kept() {
        let documents = Documents::default();
        for revision in 1..=KEPT as i64 {
            documents.keep(1, revision, &Shot::empty(&format!("R{revision}")));
        }
        assert_eq!(documents.get(1, 1).unwrap().name, "R1");
        documents.keep(2, 1, &Shot::empty("Other"));
        assert_eq!(documents.get(1, 2), None);
        assert_eq!(
            (documents.get(1, 1).unwrap().name, documents.get(2, 1).unwrap().name),
            ("R1".into(), "Other".into())
        );
    }
}
