//! The surface of a liquid from its particles.
//!
//! Around each place the particles within a radius have a weighted mean position; the surface lies where the place is as far from that
//! mean as a particle's radius (Y. Zhu and R. Bridson, *Animating sand as a fluid*, 2005). It is cut out of a sparse grid as a net with a
//! vertex in each cell that the surface passes through (S. Gibson, *Constrained elastic surface nets*, 1998), so that it is
//! closed wherever it lies.

use crate::tiles::{CELLS, Padded, SIDE, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// Cells beside a tile that its particles reach.
const MARGIN: i32 = 3;
/// Most tiles of the grid, which then takes about 8 GB.
const MAX_TILES: usize = 1 << 18;
/// Marks a cell without a vertex.
const NONE: u32 = u32::MAX;

/// Lengths by which particles make a surface, m.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ParticleSurface {
    /// Distance from a particle alone to its surface.
    pub radius_m: f32,
    /// Distance within which particles count, at most three cells.
    pub reach_m: f32,
    /// Edge of the cells that the surface is cut from.
    pub cell_m: f32,
}

/// A surface with the velocity of each vertex.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LiquidMesh {
    /// Positions of the vertices, m.
    pub positions: Vec<Vec3>,
    /// Velocities of the vertices, in the unit of the particles' velocities.
    pub velocities: Vec<Vec3>,
    /// Corners of the triangles, counter-clockwise seen from outside.
    pub triangles: Vec<[u32; 3]>,
}

/// Weighted sums over the particles around a node.
#[derive(Clone, Copy, Default)]
struct Sums {
    weight: f32,
    /// Of the ways from the node to the particles, m.
    way: Vec3,
    velocity: Vec3,
}

impl Sums {
    fn add(&mut self, other: &Self) {
        self.weight += other.weight;
        self.way += other.way;
        self.velocity += other.velocity;
    }
}

impl ParticleSurface {
    /// The surface of particles with velocities; none if they lie so far apart that the grid would be too large.
    pub fn of(&self, positions: &[Vec3], velocities: &[Vec3]) -> Option<LiquidMesh> {
        let tiles = Tiles::bounded(positions, self.cell_m, MAX_TILES).ok()?;
        let sums = self.sums(&tiles, positions, velocities);
        let distance = |sums: &Sums| match sums.weight {
            weight if weight > 1e-9 => (sums.way / weight).length() - self.radius_m,
            _ => self.cell_m,
        };
        let distances: Vec<f32> = sums.par_iter().with_min_len(CELLS).map(distance).collect();
        Some(self.net(&tiles, &distances, &sums))
    }

    /// The sums at the lowest corner of each cell.
    fn sums(&self, tiles: &Tiles, positions: &[Vec3], velocities: &[Vec3]) -> Vec<Sums> {
        let reach = self.reach_m.min(MARGIN as f32 * self.cell_m);
        let most = reach / self.cell_m;
        let give = |tile: usize, out: &mut Padded<Sums>| {
            for i in tiles.points_in(tile).iter().map(|i| *i as usize) {
                let at = tiles.within(tile, positions[i]);
                let low = (at - most).ceil().as_ivec3().max(IVec3::splat(-MARGIN));
                let high = (at + most).floor().as_ivec3().min(IVec3::splat(SIDE + MARGIN - 1));
                for z in low.z..=high.z {
                    for y in low.y..=high.y {
                        for x in low.x..=high.x {
                            let node = IVec3::new(x, y, z);
                            let way = (at - node.as_vec3()) * self.cell_m;
                            let closeness = 1.0 - way.length_squared() / (reach * reach);
                            if closeness > 0.0 {
                                let weight = closeness * closeness * closeness;
                                let velocity = velocities[i] * weight;
                                out.at(node).add(&Sums { weight, way: way * weight, velocity });
                            }
                        }
                    }
                }
            }
        };
        tiles.sums(MARGIN, Sums::default(), give, Sums::add)
    }

    /// The net around the nodes with negative distances.
    fn net(&self, tiles: &Tiles, distances: &[f32], sums: &[Sums]) -> LiquidMesh {
        let node = |tile: usize, at: IVec3| tiles.cell(tile, at);
        let corner = |i: i32| IVec3::new(i & 1, i >> 1 & 1, i >> 2);
        // The vertex of a cell: the mean of where its edges are crossed.
        let vertex = |cell: usize| -> Option<(Vec3, Vec3)> {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let mut values = [self.cell_m; 8];
            let (mut weight, mut velocity) = (0.0, Vec3::ZERO);
            for i in 0..8 {
                if let Some(node) = node(tile, at + corner(i)) {
                    values[i as usize] = distances[node];
                    weight += sums[node].weight;
                    velocity += sums[node].velocity;
                }
            }
            let (mut sum, mut count) = (Vec3::ZERO, 0.0);
            for a in 0..8usize {
                for b in [a | 1, a | 2, a | 4].into_iter().filter(|b| *b != a) {
                    let (from, to) = (values[a], values[b]);
                    if (from < 0.0) != (to < 0.0) {
                        let (p, q) = (corner(a as i32).as_vec3(), corner(b as i32).as_vec3());
                        sum += p.lerp(q, from / (from - to));
                        count += 1.0;
                    }
                }
            }
            (count > 0.0).then(|| {
                let place = (tiles.corner(tile) + at).as_vec3() + sum / count;
                (place * self.cell_m, velocity / weight.max(1e-9))
            })
        };
        let found: Vec<Option<(Vec3, Vec3)>> =
            (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(vertex).collect();
        let mut number = vec![NONE; found.len()];
        let mut mesh = LiquidMesh::default();
        for (cell, (position, velocity)) in found.iter().enumerate().filter_map(|(i, of)| Some((i, (*of)?))) {
            number[cell] = mesh.positions.len() as u32;
            mesh.positions.push(position);
            mesh.velocities.push(velocity);
        }
        // A square for each edge between nodes that is crossed, through the cells around it.
        let (number, node) = (&number, &node);
        let squares = |cell: usize| {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            (0..3).filter_map(move |axis| {
                let inside = distances[cell] < 0.0;
                let beyond =
                    node(tile, at + IVec3::AXES[axis]).map_or(self.cell_m, |node| distances[node]) < 0.0;
                if inside == beyond {
                    return None;
                }
                let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
                let around = [IVec3::ZERO, -b, -b - c, -c].map(|by| node(tile, at + by));
                let [p, q, r, s] = around.map(|cell| cell.map_or(NONE, |cell| number[cell]));
                if [p, q, r, s].contains(&NONE) {
                    return None;
                }
                Some(if inside { [p, q, r, s] } else { [p, s, r, q] })
            })
        };
        let all: Vec<[u32; 4]> =
            (0..tiles.cells()).into_par_iter().with_min_len(CELLS).flat_map_iter(squares).collect();
        let at = |v: u32| mesh.positions[v as usize];
        // Along the shorter diagonal.
        let halves =
            |[p, q, r, s]: [u32; 4]| match at(p).distance_squared(at(r)) <= at(q).distance_squared(at(s)) {
                true => [[p, q, r], [p, r, s]],
                false => [[q, r, s], [q, s, p]],
            };
        mesh.triangles = all.into_iter().flat_map(halves).collect();
        mesh
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, mass_properties};

    fn mesh_of(liquid: LiquidMesh) -> Mesh {
        Mesh { positions: liquid.positions, triangles: liquid.triangles, ..Mesh::default() }
    }

    fn ball(radius: f32, spacing: f32, middle: Vec3) -> Vec<Vec3> {
        let n = (radius / spacing).ceil() as i32;
        let mut all = Vec::new();
        for z in -n..=n {
            for y in -n..=n {
                for x in -n..=n {
                    let at = Vec3::new(x as f32, y as f32, z as f32) * spacing;
                    if at.length() <= radius {
                        all.push(middle + at);
                    }
                }
            }
        }
        all
    }

    #[test]
    fn a_ball_of_particles_has_a_closed_round_surface_that_faces_out() {
        let (spacing, radius, middle) = (0.02, 0.2, Vec3::new(1.3, -0.7, 0.4));
        let positions = ball(radius, spacing, middle);
        let velocities = vec![Vec3::new(0.0, -2.0, 1.0); positions.len()];
        let surface = ParticleSurface { radius_m: 0.5 * spacing, reach_m: 2.0 * spacing, cell_m: spacing };
        let liquid = surface.of(&positions, &velocities).unwrap();
        assert!(liquid.velocities.iter().all(|v| v.distance(Vec3::new(0.0, -2.0, 1.0)) < 1e-4));
        let mesh = mesh_of(liquid);
        assert!(mesh.is_closed());
        let volume = mass_properties(&mesh).unwrap().volume;
        let exact = positions.len() as f32 * spacing.powi(3);
        assert!((volume / exact - 1.0).abs() < 0.06, "{volume} of {exact}");
        for position in &mesh.positions {
            assert!((position.distance(middle) - radius).abs() < 1.2 * spacing);
        }
    }

    #[test]
    fn one_particle_is_a_drop() {
        let surface = ParticleSurface { radius_m: 0.01, reach_m: 0.03, cell_m: 0.008 };
        let mesh = mesh_of(surface.of(&[Vec3::new(5.0, 0.003, -0.1)], &[Vec3::ZERO]).unwrap());
        assert!(mesh.is_closed() && mesh.positions.len() > 8);
        assert!(surface.of(&[], &[]).unwrap().triangles.is_empty());
    }
}
