//! Nodes that a traversal still has to visit.
#![allow(unsafe_code, reason = "a measured kernel")]

use std::mem::MaybeUninit;

/// Seven siblings a level of a tree of 2³¹ leaves.
const DEPTH: usize = 128;

/// Links with their distances. Its memory is not cleared first, which would
/// take as long as a short walk.
pub struct Stack {
    entries: [MaybeUninit<(u32, f32)>; DEPTH],
    /// All below are written.
    len: usize,
}

impl Stack {
    #[inline(always)]
    pub fn new() -> Self {
        Self { entries: [const { MaybeUninit::uninit() }; DEPTH], len: 0 }
    }

    #[inline(always)]
    pub fn len(&self) -> usize {
        self.len
    }

    /// Puts an entry among those from `base` on, the farther ones deeper.
    #[inline(always)]
    pub fn insert(&mut self, base: usize, entry: (u32, f32)) {
        let mut at = self.len;
        while at > base {
            // SAFETY: `at - 1` is below `len`.
            let below = unsafe { self.entries[at - 1].assume_init() };
            if below.1 >= entry.1 {
                break;
            }
            self.entries[at] = MaybeUninit::new(below);
            at -= 1;
        }
        self.entries[at] = MaybeUninit::new(entry);
        self.len += 1;
    }

    #[inline(always)]
    pub fn pop(&mut self) -> Option<(u32, f32)> {
        self.len = self.len.checked_sub(1)?;
        // SAFETY: all below what `len` was are written.
        Some(unsafe { self.entries[self.len].assume_init() })
    }
}
