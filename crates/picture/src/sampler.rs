//! Low-discrepancy points: Sobol' (0, 2)-sequences, shuffled and Owen-scrambled
//! by hashing, padded in pairs of dimensions (B. Burley, *Practical hash-based
//! Owen scrambling*, JCGT 9, 2020).

/// The points of one sample of one pixel.
pub(crate) struct Sampler {
    seed: u32,
    index: u32,
    dimension: u32,
}

impl Sampler {
    pub fn new(pixel: u32, frame: u32, index: u32) -> Self {
        Self { seed: hash(pixel ^ hash(frame)), index, dimension: 0 }
    }

    /// The next two dimensions, each in 0–1.
    pub fn pair(&mut self) -> [f32; 2] {
        self.dimension += 1;
        let seed = hash(self.seed ^ self.dimension.wrapping_mul(0x9e37_79b9));
        let index = scramble(self.index, seed);
        let x = scramble(index.reverse_bits(), hash(seed ^ 0x68bc_21eb));
        let y = scramble(sobol_2(index), hash(seed ^ 0x02e5_be93));
        [unit(x), unit(y)]
    }

    /// The next dimension.
    pub fn one(&mut self) -> f32 {
        self.pair()[0]
    }
}

fn unit(x: u32) -> f32 {
    // The largest float below 1 keeps the interval open.
    ((x >> 8) as f32 * (1.0 / 16_777_216.0)).min(1.0 - f32::EPSILON)
}

/// Second dimension of the Sobol' sequence.
fn sobol_2(mut index: u32) -> u32 {
    let (mut direction, mut result) = (1u32 << 31, 0);
    while index != 0 {
        if index & 1 != 0 {
            result ^= direction;
        }
        index >>= 1;
        direction ^= direction >> 1;
    }
    result
}

/// Nested uniform scramble with the Laine–Karras hash.
fn scramble(x: u32, seed: u32) -> u32 {
    let mut x = x.reverse_bits().wrapping_add(seed);
    for factor in [0x6c50_b47c, 0xb82f_1e52, 0xc7af_e638, 0x8d22_f6e6u32] {
        x ^= x.wrapping_mul(factor);
    }
    x.reverse_bits()
}

/// Integer hash by C. Wellons (*Hash prospector*, 2018).
pub(crate) fn hash(mut x: u32) -> u32 {
    x ^= x >> 16;
    x = x.wrapping_mul(0x21f0_aaad);
    x ^= x >> 15;
    x = x.wrapping_mul(0xd35a_2d97);
    x ^ (x >> 15)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sixteen_points_lie_one_in_each_sixteenth_of_every_kind() {
        // The defining property of a (0, 4, 2)-net.
        let points: Vec<_> = (0..16).map(|i| Sampler::new(7, 1, i).pair()).collect();
        for (columns, rows) in [(16, 1), (8, 2), (4, 4), (2, 8), (1, 16)] {
            let mut seen = [false; 16];
            for [x, y] in &points {
                let cell = (x * columns as f32) as usize * rows + (y * rows as f32) as usize;
                assert!(!std::mem::replace(&mut seen[cell], true), "{columns} by {rows}");
            }
        }
    }
}
