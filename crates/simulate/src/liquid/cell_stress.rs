//! What resists deformation in the cells: μ̂ = μ Δt / (ρ Δx²) and the elastic stress σ̂ = σ Δt / (ρ Δx).

use super::cell_transfer::to_cells;
use super::rheology::{Resistance, Rheologies, Symmetric};
use geometry::tiles::{CELLS, Tiles};
use glam::Vec3;
use rayon::prelude::*;

/// Most that the weight of the elastic stress at an edge exceeds the volume of liquid at a face beside.
pub(super) const MAX_PUSH: f32 = 2.0;
/// Least μ̂ that is computed: below, the grid itself damps more.
const LEAST_VISCOSITY: f32 = 1e-3;

/// What resists deformation in the cells.
pub(super) enum CellStress {
    /// The same viscosity μ̂ everywhere.
    Viscosity(f32),
    /// The sums over the particles of each cell: weights, μ̂ and σ̂.
    Each(Vec<[f32; 8]>),
}

impl CellStress {
    /// That of particles which are alike and not elastic.
    pub fn alike(viscosity_pa_s: f32, density_kg_m3: f32, cell_m: f32, dt: f32) -> Self {
        Self::Viscosity(viscosity_pa_s * dt / (density_kg_m3 * cell_m * cell_m))
    }

    /// That of particles one by one, with the elastic deformation of each, if they are elastic.
    pub fn of_particles(
        tiles: &Tiles,
        positions: &[Vec3],
        rheologies: &Rheologies,
        deformations: &[Symmetric],
        density_kg_m3: f32,
        dt: f32,
    ) -> Self {
        let push = dt / (density_kg_m3 * tiles.cell_m);
        let resist = push / tiles.cell_m;
        Self::Each(to_cells(tiles, positions, |i| {
            let rheology = rheologies.of(i);
            let Some(b) = deformations.get(i) else {
                return [1.0, rheology.viscosity_pa_s * resist, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0];
            };
            let implicit = implicit_part(rheology.stiffness_pa * push * push * density_kg_m3);
            let Resistance { stress, viscosity_pa_s } = rheology.resistance(b, dt, implicit);
            let [xx, yy, zz, xy, xz, yz] = stress.map(|value| value * push);
            [1.0, viscosity_pa_s * resist, xx, yy, zz, xy, xz, yz]
        }))
    }

    /// Whether there is none worth computing.
    pub fn is_none(&self) -> bool {
        matches!(self, Self::Viscosity(viscosity) if *viscosity <= LEAST_VISCOSITY)
    }

    /// Whether there can be elastic stress.
    pub fn can_be_elastic(&self) -> bool {
        matches!(self, Self::Each(_))
    }

    /// The greatest μ̂.
    pub fn greatest(&self) -> f32 {
        match self {
            Self::Viscosity(viscosity) => *viscosity,
            Self::Each(cells) => {
                let of = |cell: &[f32; 8]| if cell[0] > 0.0 { cell[1] / cell[0] } else { 0.0 };
                cells.par_iter().with_min_len(CELLS).map(of).reduce(|| 0.0, f32::max)
            }
        }
    }

    /// μ̂ in a cell.
    pub fn viscosity(&self, cell: usize) -> f32 {
        self.of(cell)[0]
    }

    /// μ̂ and the components of σ̂ in a cell.
    pub fn of(&self, cell: usize) -> [f32; 7] {
        match self {
            Self::Viscosity(viscosity) => [*viscosity, 0.0, 0.0, 0.0, 0.0, 0.0, 0.0],
            Self::Each(cells) => {
                let [weight, values @ ..] = cells[cell];
                let scale = if weight > 0.0 { 1.0 / weight } else { 0.0 };
                values.map(|value| value * scale)
            }
        }
    }
}

/// How far the elastic stress that grows in a step counts in it, from G Δt² / (ρ Δx²): none where waves of shear pass less than a
/// cell, one half where they pass many, as stability has it (12 w G Δt² / (ρ Δx²) (1 − 2 θ) ≤ 4 where the weight w over the volume is
/// 2), and a little more.
fn implicit_part(waves: f32) -> f32 {
    const MARGIN: f32 = 0.05;
    (0.5 - 1.0 / (6.0 * MAX_PUSH * waves.max(1e-6))).max(0.0) + MARGIN
}
