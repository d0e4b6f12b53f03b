//! Disjoint sets that are joined two by two.

/// Sets of the numbers below a count; at first each number is a set of its own (R. Tarjan and J. van Leeuwen, *Worst-case analysis of
/// set union algorithms*, 1984: paths are halved).
#[derive(Clone, Debug)]
pub struct DisjointSets {
    /// Another number of the set, or the number itself.
    parents: Vec<u32>,
}

impl DisjointSets {
    /// So many sets of one number each.
    pub fn new(count: usize) -> Self {
        Self { parents: (0..count as u32).collect() }
    }

    /// The least number in the set of another.
    pub fn root(&mut self, mut of: u32) -> u32 {
        while self.parents[of as usize] != of {
            self.parents[of as usize] = self.parents[self.parents[of as usize] as usize];
            of = self.parents[of as usize];
        }
        of
    }

    /// Makes the sets of two numbers one; whether they were two.
    pub fn join(&mut self, a: u32, b: u32) -> bool {
        let (a, b) = (self.root(a), self.root(b));
        self.parents[a.max(b) as usize] = a.min(b);
        a != b
    }

    /// The root of each number.
    pub fn roots(mut self) -> Vec<u32> {
        (0..self.parents.len() as u32).map(|of| self.root(of)).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_join_and_are_named_by_their_least_number() {
        let mut sets = DisjointSets::new(5);
        assert!(sets.join(1, 3) && sets.join(3, 0) && !sets.join(0, 1));
        assert_eq!(sets.roots(), [0, 0, 2, 0, 4]);
    }
}
