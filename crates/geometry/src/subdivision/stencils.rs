//! New vertices as weighted sums of old ones.

use glam::Vec3;

/// Rows of weights.
#[derive(Clone, Debug, Default)]
pub(super) struct Stencils {
    /// Where each row begins, and where the last ends.
    starts: Vec<u32>,
    entries: Vec<(u32, f32)>,
}

impl Stencils {
    pub fn with_room(rows: usize, entries: usize) -> Self {
        let mut starts = Vec::with_capacity(rows + 1);
        starts.push(0);
        Self { starts, entries: Vec::with_capacity(entries) }
    }

    /// Adds to the weight of a vertex in the row at hand.
    pub fn add(&mut self, vertex: u32, weight: f32) {
        let from = *self.starts.last().expect("there is a start") as usize;
        match self.entries[from..].iter_mut().find(|(of, _)| *of == vertex) {
            Some((_, sum)) => *sum += weight,
            None => self.entries.push((vertex, weight)),
        }
    }

    /// Adds a vertex that the row at hand does not have yet.
    pub fn push(&mut self, vertex: u32, weight: f32) {
        self.entries.push((vertex, weight));
    }

    /// Multiplies the weights of the row at hand.
    pub fn scale(&mut self, factor: f32) {
        if factor == 1.0 {
            return;
        }
        let from = *self.starts.last().expect("there is a start") as usize;
        self.entries[from..].iter_mut().for_each(|(_, weight)| *weight *= factor);
    }

    pub fn end_row(&mut self) {
        self.starts.push(self.entries.len() as u32);
    }

    pub fn apply(&self, old: &[Vec3]) -> Vec<Vec3> {
        let row = |ends: &[u32]| {
            let row = &self.entries[ends[0] as usize..ends[1] as usize];
            row.iter().fold(Vec3::ZERO, |sum, &(vertex, weight)| sum + old[vertex as usize] * weight)
        };
        self.starts.windows(2).map(row).collect()
    }
}
