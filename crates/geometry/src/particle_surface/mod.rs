//! The surface of a liquid from its particles.
//!
//! Around each place the particles within a radius have a weighted mean position; the surface lies where the place is as far from that
//! mean as a particle's radius (Y. Zhu and R. Bridson, *Animating sand as a fluid*, 2005). The neighbourhoods are drawn out along the
//! surface (`kernels.rs`). It is cut out of a sparse grid as a net, so that it is closed wherever it lies (`net.rs`). Only what lies near
//! the surface is computed (`band.rs`).

mod attributes;
mod band;
mod ellipsoid;
mod field;
mod kernels;
mod loops;
mod net;

use crate::tiles::Tiles;
use band::Band;
use field::Field;
use glam::{Vec2, Vec3};
use kernels::Neighbourhoods;

/// Cells that a particle reaches.
const MARGIN: i32 = 4;
/// Most tiles of the grid, which then takes about 8 GB.
const MAX_TILES: usize = 1 << 18;
/// Most that half an axis of a neighbourhood is longer than its reach.
const DRAWN_OUT: f32 = 1.4;
/// No particle.
const NONE: u32 = u32::MAX;

/// How particles make a surface, m.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct ParticleSurface {
    /// Distance of the particles from each other at rest.
    pub size_m: f32,
    /// Distance from a particle alone to its surface.
    pub radius_m: f32,
    /// Distance within which particles count, at most four cells.
    pub reach_m: f32,
    /// Edge of the cells that the surface is cut from.
    pub cell_m: f32,
    /// Most that neighbourhoods are drawn out along the surface, as a ratio of their axes; 1: not at all.
    pub anisotropy: f32,
    /// Least thickness of a film.
    pub film_m: f32,
}

/// The particles of a surface: a column for each quantity.
#[derive(Clone, Copy, Debug, Default)]
pub struct SurfaceParticles<'a> {
    /// Positions, m.
    pub positions: &'a [Vec3],
    /// Velocities.
    pub velocities: &'a [Vec3],
    /// Two values that the surface has the means of around it; empty: none.
    pub values: &'a [Vec2],
}

/// A surface with values of each vertex.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct LiquidMesh {
    /// Positions of the vertices, m.
    pub positions: Vec<Vec3>,
    /// Velocities of the vertices, in the unit of the particles' velocities.
    pub velocities: Vec<Vec3>,
    /// Means of the particles' values.
    pub values: Vec<Vec2>,
    /// The particle whose neighbourhood a vertex lies in most.
    pub nearest: Vec<u32>,
    /// Corners of the triangles, counter-clockwise seen from outside.
    pub triangles: Vec<[u32; 3]>,
}

impl ParticleSurface {
    /// The surface of particles; none if they lie so far apart that the grid would be too large.
    pub fn of(&self, particles: &SurfaceParticles) -> Option<LiquidMesh> {
        let margin_m = MARGIN as f32 * self.cell_m;
        let (reach_m, most_m) = (self.reach_m.min(margin_m), (DRAWN_OUT * self.reach_m).min(margin_m));
        let Self { size_m, radius_m, anisotropy, film_m, .. } = *self;
        let neighbourhoods = Neighbourhoods { size_m, radius_m, reach_m, most_m, anisotropy, film_m };
        let tiles = Tiles::bounded(particles.positions, self.cell_m, MAX_TILES).ok()?;
        let band = Band::new(&tiles, particles.positions, size_m)?;
        let near = band.is_near(&tiles, particles.positions);
        let kernels = neighbourhoods.of(particles.positions, &near)?;
        let field = Field::new(&tiles, &band, &near, &kernels, particles);
        Some(net::net(&tiles, &field))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Mesh, mass_properties};

    fn mesh_of(liquid: LiquidMesh) -> Mesh {
        Mesh { positions: liquid.positions, triangles: liquid.triangles, ..Mesh::default() }
    }

    const PLAIN: ParticleSurface = ParticleSurface {
        size_m: 0.02,
        radius_m: 0.01,
        reach_m: 0.04,
        cell_m: 0.02,
        anisotropy: 1.0,
        film_m: 0.0,
    };

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
        let surface =
            ParticleSurface { radius_m: 0.5 * spacing, reach_m: 2.0 * spacing, cell_m: spacing, ..PLAIN };
        let liquid = surface
            .of(&SurfaceParticles { positions: &positions, velocities: &velocities, values: &[] })
            .unwrap();
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
        let surface = ParticleSurface { radius_m: 0.01, reach_m: 0.03, cell_m: 0.008, ..PLAIN };
        let of = |positions: &[Vec3]| {
            let velocities = &vec![Vec3::ZERO; positions.len()];
            surface.of(&SurfaceParticles { positions, velocities, values: &[] }).unwrap()
        };
        let mesh = mesh_of(of(&[Vec3::new(5.0, 0.003, -0.1)]));
        assert!(mesh.is_closed() && mesh.positions.len() > 8);
        assert!(of(&[]).triangles.is_empty());
    }

    #[test]
    fn drawn_out_neighbourhoods_make_a_filled_ball_rounder_and_keep_its_volume() {
        let spacing = 0.05;
        for radius in [0.35f32, 1.0] {
            let positions = crate::fill(&crate::primitive::sphere(radius, 96), spacing);
            let velocities = vec![Vec3::ZERO; positions.len()];
            let of = |anisotropy: f32| {
                let (radius_m, reach_m, cell_m) = (0.6 * spacing, 2.2 * spacing, 0.75 * spacing);
                let surface =
                    ParticleSurface { size_m: spacing, radius_m, reach_m, cell_m, anisotropy, film_m: 0.0 };
                let mesh = surface.of(&SurfaceParticles {
                    positions: &positions,
                    velocities: &velocities,
                    values: &[],
                });
                let mesh = mesh_of(mesh.unwrap());
                let volume = mass_properties(&mesh).unwrap().volume
                    / (4.0 / 3.0 * std::f32::consts::PI * radius.powi(3));
                let n = mesh.positions.len() as f32;
                let mean = mesh.positions.iter().map(|p| p.length()).sum::<f32>() / n;
                let rough =
                    (mesh.positions.iter().map(|p| (p.length() - mean).powi(2)).sum::<f32>() / n).sqrt();
                (volume, rough / spacing)
            };
            let (plain, drawn) = (of(1.0), of(4.0));
            assert!(drawn.1 < 0.87 * plain.1, "{radius}: {drawn:?}, {plain:?}");
            for (volume, _) in [plain, drawn] {
                assert!((volume - 1.0).abs() < 0.03, "{radius}: {volume}");
            }
        }
    }

    /// Particles at low-discrepancy places (M. Roberts, 2018), thin enough that drops, bridges and holes meet.
    fn scattered(count: u32, size: f32) -> Mesh {
        let place = |i: u32| {
            Vec3::from([0.819_172_5f32, 0.671_043_6, 0.549_700_5].map(|step| (0.5 + step * i as f32).fract()))
        };
        let positions: Vec<Vec3> = (0..count).map(place).collect();
        let velocities = vec![Vec3::ZERO; positions.len()];
        let surface = ParticleSurface {
            size_m: size,
            radius_m: 0.6 * size,
            reach_m: 2.0 * size,
            cell_m: 0.5 * size,
            anisotropy: 3.0,
            film_m: 0.8 * size,
        };
        let particles = SurfaceParticles { positions: &positions, velocities: &velocities, values: &[] };
        mesh_of(surface.of(&particles).unwrap())
    }

    /// Triangles that face against the mean of the normals at their corners.
    fn folded_of(mesh: &Mesh) -> usize {
        let normal = |t: &[u32; 3]| {
            let [a, b, c] = t.map(|v| mesh.positions[v as usize]);
            (b - a).cross(c - a)
        };
        let mut normals = vec![Vec3::ZERO; mesh.positions.len()];
        mesh.triangles.iter().for_each(|t| t.iter().for_each(|v| normals[*v as usize] += normal(t)));
        let is_folded = |t: &&[u32; 3]| normal(t).dot(t.iter().map(|v| normals[*v as usize]).sum()) < 0.0;
        mesh.triangles.iter().filter(is_folded).count()
    }

    #[test]
    fn scattered_particles_have_a_surface_with_two_triangles_at_each_edge_of_which_hardly_any_fold_over() {
        let mesh = scattered(3_000, 0.05);
        assert!(mesh.triangles.len() > 10_000, "{}", mesh.triangles.len());
        let faces = crate::weld::faces_at_edges(&mesh.triangles);
        assert!(faces.values().all(|count| *count == 2));
        let folded = folded_of(&mesh);
        assert!(folded * 1_000 <= mesh.triangles.len(), "{folded} of {}", mesh.triangles.len());
    }

    #[test]
    fn no_triangle_of_a_smoothed_surface_is_folded_over_once_it_is_unfolded() {
        let mut folded = 0;
        for (count, size) in [(3_000, 0.045), (20_000, 0.026), (20_000, 0.022)] {
            let mut mesh = scattered(count, size);
            let smoothing = crate::Smoothing::of_closed(&mesh.triangles, mesh.positions.len());
            mesh.positions = smoothing.apply(&mesh.positions, 2);
            folded += folded_of(&mesh);
            smoothing.unfold(&mut mesh.triangles, &mut mesh.positions);
            let faces = crate::weld::faces_at_edges(&mesh.triangles);
            assert!(faces.values().all(|count| *count == 2));
            assert_eq!(folded_of(&mesh), 0);
        }
        assert!(folded > 50, "{folded}");
    }
}
