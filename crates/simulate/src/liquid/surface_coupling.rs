//! Cloths and soft bodies in the pressure: their surfaces give way, and take the pressure out on the liquid.
//!
//! A sheet is far lighter than the liquid beside it and may be far stiffer than its mass lets expect, so that a reaction which comes a
//! step late grows without bound. The pressure therefore is solved together with the linear system of the sheet's own implicit step:
//! with G the impulses of a unit of pressure on the surface and R what impulses change the surface's velocity by, the cells' equations
//! gain Gᵀ R G q (C. Batty, F. Bertails and R. Bridson, *A fast variational framework for accurate solid-fluid coupling*, 2007, section
//! 4, with a deformable body in place of a rigid one; A. Robinson-Mosher et al., *Two-way coupling of fluids to rigid and deformable
//! solids and shells*, 2008).
//!
//! The motion of a surface is averaged by mass at the nodes of a lattice as wide as the liquid's cells, with trilinear weights, and each
//! face that the surface closes moves with the nodes around the nearest place of the surface; impulses go the same way back, so that
//! the equations stay symmetric whichever of surface and grid is finer.

use super::boundary::{Boundary, PointVectors, SurfacePoint};
use super::grid::NONE;
use super::solids::{CutCells, face_centre};
use geometry::tiles::{CELLS, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::{BTreeSet, HashMap};

/// Nodes of the lattice around a place, and numbers that go with them.
type Links = [(u32, f32); 8];

/// A face that a surface closes.
struct ClosedFace {
    axis: usize,
    /// 1 − α.
    closed: f32,
    /// Numbers of the liquid cells below and above.
    rows: [u32; 2],
    /// Nodes of the lattice, and their weights.
    nodes: Links,
}

impl ClosedFace {
    fn interpolate(&self, motion: &[Vec3]) -> f32 {
        self.nodes.iter().map(|(node, weight)| weight * motion[*node as usize][self.axis]).sum()
    }
}

/// The eight nodes around a place of the lattice, with trilinear weights.
fn around(place: Vec3) -> impl Iterator<Item = (IVec3, f32)> {
    let first = place.floor();
    let fraction = place - first;
    (0..8).map(move |corner| {
        let by = IVec3::new(corner & 1, corner >> 1 & 1, corner >> 2);
        let weights = Vec3::select(by.cmpeq(IVec3::ONE), fraction, 1.0 - fraction);
        (first.as_ivec3() + by, weights.element_product())
    })
}

/// The surfaces that give way and that the liquid's grid meets.
pub(super) struct SurfaceCoupling<'a> {
    boundary: &'a dyn Boundary,
    faces: Vec<ClosedFace>,
    /// By axis and cell, the place of a closed face in `faces`.
    places: HashMap<(u8, u32), u32>,
    /// By how much the nodes move otherwise than the boundary at first, m/s.
    motion: Vec<Vec3>,
    /// For each body, its points' nodes, each with the part that the point has in the mass of the node.
    points: Vec<(u32, Vec<Links>)>,
    /// ρ Δx³, kg.
    mass: f32,
}

impl<'a> SurfaceCoupling<'a> {
    /// `number` gives the equation of each liquid cell, `density` is that of the liquid, kg/m³.
    pub fn new(
        tiles: &Tiles,
        solids: &CutCells,
        number: &[u32],
        boundary: &'a dyn Boundary,
        density: f32,
    ) -> Self {
        let mut coupling = Self {
            boundary,
            faces: Vec::new(),
            places: HashMap::new(),
            motion: Vec::new(),
            points: Vec::new(),
            mass: density * tiles.cell_m.powi(3),
        };
        if !solids.any_body {
            return coupling;
        }
        let of_tile = |tile: usize| {
            let cells = tile * CELLS..(tile + 1) * CELLS;
            let each = cells.flat_map(|cell| (0..3).map(move |axis| (axis, cell)));
            each.filter(move |_| solids.any_in(tile)).filter_map(|(axis, cell)| {
                let body = solids.body(axis, cell)?;
                (!boundary.surface_points(body).is_empty()).then_some((axis, cell, body))
            })
        };
        let closed: Vec<(usize, usize, u32)> =
            (0..tiles.len()).into_par_iter().flat_map_iter(of_tile).collect();
        let inverse = 1.0 / tiles.cell_m;
        let mut nodes: HashMap<(u32, IVec3), u32> = HashMap::new();
        let mut masses: Vec<f32> = Vec::new();
        for body in closed.iter().map(|(.., body)| *body).collect::<BTreeSet<_>>() {
            let mut add = |point: &SurfacePoint| {
                let mut links = [(0, 0.0); 8];
                for (link, (at, weight)) in links.iter_mut().zip(around(point.position * inverse)) {
                    let node = *nodes.entry((body, at)).or_insert(masses.len() as u32);
                    masses.resize(masses.len().max(node as usize + 1), 0.0);
                    masses[node as usize] += weight * point.mass_kg;
                    *link = (node, weight * point.mass_kg);
                }
                links
            };
            let links = boundary.surface_points(body).iter().map(&mut add).collect();
            coupling.points.push((body, links));
        }
        for (node, part) in coupling.points.iter_mut().flat_map(|(_, links)| links).flatten() {
            *part /= masses[*node as usize].max(f32::MIN_POSITIVE);
        }
        coupling.motion = vec![Vec3::ZERO; masses.len()];
        let changes = |(body, _): &(u32, _)| {
            (*body, boundary.surface_points(*body).iter().map(|point| point.change).collect())
        };
        let changes: PointVectors = coupling.points.iter().map(changes).collect();
        coupling.motion = coupling.means(&changes);
        let face = |&(axis, cell, body): &(usize, usize, u32)| {
            let on = boundary.nearest(body, face_centre(tiles, axis, cell))?;
            let mut links = [(0, 0.0); 8];
            for (link, (at, weight)) in links.iter_mut().zip(around(on * inverse)) {
                if let Some(node) = nodes.get(&(body, at)).filter(|node| masses[**node as usize] > 0.0) {
                    *link = (*node, weight);
                }
            }
            let sum: f32 = links.iter().map(|(_, weight)| weight).sum();
            if sum <= 0.0 {
                return None;
            }
            links.iter_mut().for_each(|(_, weight)| *weight /= sum);
            let below = tiles.cell(cell / CELLS, local(cell % CELLS) - IVec3::AXES[axis]);
            let rows = [below.map_or(NONE, |below| number[below]), number[cell]];
            let closed = 1.0 - solids.open(axis, cell);
            Some(((axis as u8, cell as u32), ClosedFace { axis, closed, rows, nodes: links }))
        };
        let faces: Vec<_> = closed.par_iter().with_min_len(64).filter_map(face).collect();
        for (place, (key, face)) in (0..).zip(faces) {
            coupling.places.insert(key, place);
            coupling.faces.push(face);
        }
        coupling
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.faces.is_empty()
    }

    /// By how much the nodes move otherwise than the boundary at first, m/s.
    pub fn motion(&self) -> Vec<Vec3> {
        self.motion.clone()
    }

    /// By how much a face that a surface closes moves otherwise than the boundary, m/s, if the nodes do by `motion`.
    pub fn velocity(&self, motion: &[Vec3], (axis, cell): (usize, usize)) -> Option<f32> {
        if self.faces.is_empty() {
            return None;
        }
        let place = self.places.get(&(axis as u8, cell as u32))?;
        Some(self.faces[*place as usize].interpolate(motion))
    }

    /// The means at the nodes of what the points of bodies have.
    fn means(&self, of_points: &PointVectors) -> Vec<Vec3> {
        let mut means = vec![Vec3::ZERO; self.motion.len()];
        for (body, values) in of_points {
            let links = self.points.iter().find(|(of, _)| of == body).map(|(_, links)| links);
            for (links, value) in links.into_iter().flatten().zip(values) {
                links.iter().for_each(|(node, part)| means[*node as usize] += *part * *value);
            }
        }
        means
    }

    /// The impulses of the pressure `q` on the nodes, N s.
    pub fn impulses(&self, q: &[f32]) -> Vec<Vec3> {
        let mut impulses = vec![Vec3::ZERO; self.motion.len()];
        for face in &self.faces {
            let [below, above] = face.rows.map(|row| if row == NONE { 0.0 } else { q[row as usize] });
            let impulse = self.mass * face.closed * (below - above);
            for (node, weight) in face.nodes {
                impulses[node as usize][face.axis] += weight * impulse;
            }
        }
        impulses
    }

    /// The impulses on the points that impulses on the nodes are, N s.
    pub fn on_points(&self, impulses: &[Vec3]) -> PointVectors {
        let of = |links: &Links| {
            links.iter().fold(Vec3::ZERO, |sum, (node, part)| sum + *part * impulses[*node as usize])
        };
        self.points.iter().map(|(body, links)| (*body, links.iter().map(of).collect())).collect()
    }

    /// What impulses on the nodes, N s, change the nodes' velocities by, m/s.
    pub fn response(&self, impulses: &[Vec3]) -> Vec<Vec3> {
        self.means(&self.boundary.surface_changes(&self.on_points(impulses)))
    }

    /// What the surfaces add to the rows of the equations.
    pub fn rows(&self, q: &[f32]) -> Vec<(u32, f32)> {
        if self.faces.is_empty() {
            return Vec::new();
        }
        let changes = self.response(&self.impulses(q));
        let of_face = |face: &ClosedFace| {
            let way = face.closed * face.interpolate(&changes);
            [(face.rows[0], way), (face.rows[1], -way)]
        };
        let each = self.faces.iter().flat_map(of_face);
        each.filter(|(row, _)| *row != NONE).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::liquid::solids::{StillBodyCache, cut_cells};

    const CELL_M: f32 = 0.1;
    /// A square sheet of so many points to a side, a third of a cell apart.
    const SIDE_POINTS: usize = 24;
    const SPACING_M: f32 = CELL_M / 3.0;
    const POINT_KG: f32 = 0.002;

    /// A level sheet at some height, of loose points.
    struct Sheet {
        height_m: f32,
        points: Vec<SurfacePoint>,
    }

    impl Sheet {
        fn at(height_m: f32) -> Self {
            let point = |i: usize| {
                let [x, z] = [i % SIDE_POINTS, i / SIDE_POINTS].map(|k| (k as f32 + 0.5) * SPACING_M);
                let position = Vec3::new(x, height_m, z);
                SurfacePoint { position, mass_kg: POINT_KG, change: Vec3::new(0.0, 0.3 * x, 0.0) }
            };
            Self { height_m, points: (0..SIDE_POINTS * SIDE_POINTS).map(point).collect() }
        }
    }

    impl Boundary for Sheet {
        fn bodies_in(&self, _: Vec3, _: Vec3) -> [Vec<u32>; 2] {
            [Vec::new(), vec![0]]
        }
        fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
            (place.y - self.height_m).abs() - 0.625 * CELL_M
        }
        fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
            Vec3::ZERO
        }
        fn surface_points(&self, _: u32) -> &[SurfacePoint] {
            &self.points
        }
        fn surface_changes(&self, impulses: &PointVectors) -> PointVectors {
            let by_mass = |of: &Vec<Vec3>| of.iter().map(|impulse| *impulse / POINT_KG).collect();
            impulses.iter().map(|(body, of)| (*body, by_mass(of))).collect()
        }
        fn nearest(&self, _: u32, place: Vec3) -> Option<Vec3> {
            let most = SIDE_POINTS as f32 * SPACING_M;
            Some(Vec3::new(place.x.clamp(0.0, most), self.height_m, place.z.clamp(0.0, most)))
        }
    }

    /// Calls `of` with the coupling of a sheet in the middle of a block of eight cells to a side, of which each cell is liquid, and with
    /// the number of cells.
    fn with_coupling(height_m: f32, of: impl Fn(&SurfaceCoupling, &Tiles, usize)) {
        let sheet = Sheet::at(height_m);
        let centres: Vec<Vec3> = (0..CELLS).map(|cell| (local(cell).as_vec3() + 0.5) * CELL_M).collect();
        let tiles = Tiles::new(&centres, CELL_M);
        let liquid = vec![1.0; tiles.cells()];
        let solids = cut_cells(&tiles, &liquid, &sheet, &mut StillBodyCache::default());
        let number: Vec<u32> = (0..tiles.cells() as u32).collect();
        of(&SurfaceCoupling::new(&tiles, &solids, &number, &sheet, 1_000.0), &tiles, tiles.cells());
    }

    /// The level faces that the sheet closes away from its edges.
    fn inner_faces(coupling: &SurfaceCoupling, tiles: &Tiles) -> Vec<usize> {
        let level = coupling.places.keys().filter(|(axis, _)| *axis == 1).map(|(_, cell)| *cell as usize);
        let is_inner = |cell: &usize| {
            let at = face_centre(tiles, 1, *cell);
            (0.2..0.6).contains(&at.x) && (0.2..0.6).contains(&at.z)
        };
        level.filter(is_inner).collect()
    }

    fn pressures(cells: usize, seed: u32) -> Vec<f32> {
        let random = |i: u32| (i.wrapping_mul(seed) >> 8) as f32 / (1 << 24) as f32 - 0.5;
        (1..=cells as u32).map(random).collect()
    }

    fn product(coupling: &SurfaceCoupling, q: &[f32], other: &[f32]) -> f64 {
        let rows = coupling.rows(q).into_iter();
        rows.map(|(row, value)| f64::from(value) * f64::from(other[row as usize])).sum()
    }

    #[test]
    fn what_a_surface_adds_is_symmetric_and_never_negative_wherever_it_lies() {
        for height_m in [0.35, 0.4, 0.47] {
            with_coupling(height_m, |coupling, _, cells| {
                let [a, b] = [0x9E37_79B9, 0x85EB_CA6B].map(|seed| pressures(cells, seed));
                let [ab, ba] = [product(coupling, &a, &b), product(coupling, &b, &a)];
                let size = (product(coupling, &a, &a) * product(coupling, &b, &b)).sqrt();
                assert!(size > 0.0 && (ab - ba).abs() < 1e-4 * size, "{height_m}: {ab} {ba} of {size}");
            });
        }
    }

    #[test]
    fn impulses_reach_the_points_whole() {
        with_coupling(0.41, |coupling, _, cells| {
            let nodes = coupling.impulses(&pressures(cells, 0x9E37_79B9));
            let given: Vec3 = nodes.iter().sum();
            let taken: Vec3 = coupling.on_points(&nodes).iter().flat_map(|(_, points)| points).sum();
            assert!(given.distance(taken) < 1e-3 * given.length(), "{given} {taken}");
        });
    }

    #[test]
    fn a_pressure_on_one_side_accelerates_a_loose_sheet_by_its_mass() {
        with_coupling(0.4, |coupling, tiles, cells| {
            // As much in all cells below.
            let below = |cell: usize| tiles.corner(cell / CELLS).y + local(cell % CELLS).y < 4;
            let q: Vec<f32> = (0..cells).map(|cell| if below(cell) { 0.2 } else { 0.0 }).collect();
            let changes = coupling.response(&coupling.impulses(&q));
            // q ρ Δx is the impulse on an area.
            let exact = 0.2 * 1_000.0 * CELL_M / (POINT_KG / (SPACING_M * SPACING_M));
            let mut seen = 0;
            for cell in inner_faces(coupling, tiles) {
                let found = coupling.velocity(&changes, (1, cell)).unwrap();
                assert!((found / exact - 1.0).abs() < 0.05, "{found} of {exact}");
                seen += 1;
            }
            assert!(seen >= 16, "{seen}");
        });
    }

    #[test]
    fn faces_move_as_the_sheet_does_at_first() {
        with_coupling(0.4, |coupling, tiles, _| {
            let motion = coupling.motion();
            let mut seen = 0;
            for cell in inner_faces(coupling, tiles) {
                let at = face_centre(tiles, 1, cell);
                let found = coupling.velocity(&motion, (1, cell)).unwrap();
                assert!((found - 0.3 * at.x).abs() < 0.003, "{found} at {at}");
                seen += 1;
            }
            assert!(seen >= 16, "{seen}");
        });
    }
}
