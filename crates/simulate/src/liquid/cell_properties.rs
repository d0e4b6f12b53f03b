//! What a liquid is in each cell, beside its resistance to deformation: the means of its particles.

use super::cell_transfer::to_cells;
use geometry::tiles::Tiles;
use glam::Vec3;

/// What the matter of a particle is, beside its resistance to deformation.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Properties {
    /// Density, kg/m³.
    pub density_kg_m3: f32,
    /// How far the velocity along a solid is that of the solid, 0–1.
    pub wall_friction: f32,
    /// Surface tension σ, N/m.
    pub surface_tension_n_m: f32,
    /// Angle between the surface and a solid, within the liquid, rad.
    pub wetting_angle_rad: f32,
}

impl Default for Properties {
    /// Of water, without surface tension.
    fn default() -> Self {
        Self { density_kg_m3: 1_000.0, wall_friction: 0.0, surface_tension_n_m: 0.0, wetting_angle_rad: 1.0 }
    }
}

/// The properties in all cells.
pub(super) struct CellProperties {
    /// Those where no particle is near, and of all cells if they are the same.
    pub common: Properties,
    /// The sums over the particles of each cell: weights, density, friction, surface tension, and that times the cosine of the wetting
    /// angle; none: all cells have the common ones.
    cells: Option<Vec<[f32; 8]>>,
}

impl CellProperties {
    /// Of particles that each have their own; empty: all have the common ones.
    pub fn new(tiles: &Tiles, positions: &[Vec3], common: Properties, each: &[Properties]) -> Self {
        let values = |i: usize| {
            let Properties { density_kg_m3, wall_friction, surface_tension_n_m, wetting_angle_rad } = each[i];
            let wetting = surface_tension_n_m * wetting_angle_rad.cos();
            [1.0, density_kg_m3, wall_friction, surface_tension_n_m, wetting, 0.0, 0.0, 0.0]
        };
        Self { common, cells: (!each.is_empty()).then(|| to_cells(tiles, positions, values)) }
    }

    /// Whether all cells have the common ones.
    pub fn are_alike(&self) -> bool {
        self.cells.is_none()
    }

    /// The mean of a value of the particles around cells.
    fn mean(&self, cells: impl IntoIterator<Item = Option<usize>>, value: usize, common: f32) -> f32 {
        let Some(all) = &self.cells else { return common };
        let of = |(weight, sum): (f32, f32), cell: usize| (weight + all[cell][0], sum + all[cell][value]);
        let (weight, sum) = cells.into_iter().flatten().fold((0.0, 0.0), of);
        if weight > 0.0 { sum / weight } else { common }
    }

    /// Density at the face between two cells, in common ones.
    #[inline]
    pub fn density(&self, cells: [Option<usize>; 2]) -> f32 {
        if self.cells.is_none() {
            return 1.0;
        }
        self.mean(cells, 1, self.common.density_kg_m3) / self.common.density_kg_m3
    }

    /// The wall friction of the liquid in cells around an edge or a face.
    pub fn wall_friction(&self, cells: impl IntoIterator<Item = Option<usize>>) -> f32 {
        self.mean(cells, 2, self.common.wall_friction)
    }

    /// Whether there is any friction.
    pub fn any_friction(&self) -> bool {
        self.cells.is_some() || self.common.wall_friction > 0.0
    }

    /// The surface tension in a cell, N/m.
    pub fn surface_tension(&self, cell: usize) -> f32 {
        self.mean([Some(cell)], 3, self.common.surface_tension_n_m)
    }

    /// The cosine of the wetting angle around cells.
    pub fn wetting(&self, cells: impl IntoIterator<Item = Option<usize>> + Clone) -> f32 {
        if self.cells.is_none() {
            return self.common.wetting_angle_rad.cos();
        }
        let tension = self.mean(cells.clone(), 3, 0.0);
        if tension > 0.0 { (self.mean(cells, 4, 0.0) / tension).clamp(-1.0, 1.0) } else { 0.0 }
    }

    /// Whether there is surface tension anywhere.
    pub fn any_tension(&self) -> bool {
        match &self.cells {
            None => self.common.surface_tension_n_m > 0.0,
            Some(cells) => cells.iter().any(|cell| cell[3] > 0.0),
        }
    }
}
