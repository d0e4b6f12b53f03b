//! Free bodies in the pressure: each is six more unknowns, which the pressure moves at once and which take it out on the liquid
//! (C. Batty, F. Bertails and R. Bridson, *A fast variational framework for accurate solid-fluid coupling*, 2007, section 4).
//!
//! A body with velocity v and angular velocity ω about its centre moves the closed part of a face along an axis by
//! (v + ω × r) · e, and the pressure of the liquid cell beside the face gives the body an impulse along e. With the sums G of ± (1 − α) e and T
//! of ± (1 − α) r × e over the faces of a cell, the cells' equations gain G · (m⁻¹ Σ G q) + T · (I⁻¹ Σ T q), times ρ Δx³.

use super::boundary::{Boundary, FreeBody, PointVectors};
use super::cell_properties::CellProperties;
use super::grid::{NONE, UnknownCells, step};
use super::solids::{CutCells, face_centre};
use super::surface_coupling::SurfaceCoupling;
use geometry::tiles::{CELLS, Tiles, local};
use glam::{IVec3, Vec3};
use std::collections::BTreeMap;

/// Impulse of the pressure on a body in a step, and the change of its motion.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct BodyImpulse {
    /// The body.
    pub body: u32,
    /// Impulse, N s.
    pub impulse: Vec3,
    /// Angular impulse about its centre, N m s.
    pub angular_impulse: Vec3,
    /// Change of its velocity, m/s.
    pub velocity: Vec3,
    /// Change of its angular velocity, rad/s.
    pub angular_velocity: Vec3,
    /// Its centre, m.
    pub centre: Vec3,
}

impl BodyImpulse {
    /// Adds another one on the same body.
    pub fn add(&mut self, other: &Self) {
        self.impulse += other.impulse;
        self.angular_impulse += other.angular_impulse;
        self.velocity += other.velocity;
        self.angular_velocity += other.angular_velocity;
    }

    /// So many times the impulse.
    pub fn scaled(&self, factor: f32) -> Self {
        Self {
            impulse: factor * self.impulse,
            angular_impulse: factor * self.angular_impulse,
            velocity: factor * self.velocity,
            angular_velocity: factor * self.angular_velocity,
            ..*self
        }
    }

    /// What it adds to the velocity of the body at a place, m/s.
    pub fn velocity_at(&self, place: Vec3) -> Vec3 {
        self.velocity + self.angular_velocity.cross(place - self.centre)
    }
}

/// How solids that give way move otherwise than when the grid was cut.
#[derive(Clone)]
pub(super) struct SolidMotion<'a> {
    /// What free bodies have been given.
    pub bodies: Vec<BodyImpulse>,
    surfaces: &'a SurfaceCoupling<'a>,
    /// Of the nodes of the surfaces, m/s.
    nodes: Vec<Vec3>,
    /// What the nodes have been given, N s.
    impulses: Vec<Vec3>,
}

impl<'a> SolidMotion<'a> {
    /// At first.
    pub fn new(surfaces: &'a SurfaceCoupling<'a>) -> Self {
        let nodes = surfaces.motion();
        Self { bodies: Vec::new(), surfaces, impulses: vec![Vec3::ZERO; nodes.len()], nodes }
    }

    /// Without any change.
    pub fn unchanged(&self) -> Self {
        let none = vec![Vec3::ZERO; self.nodes.len()];
        Self { bodies: Vec::new(), surfaces: self.surfaces, impulses: none.clone(), nodes: none }
    }

    /// The velocity of the solid at a face along its axis, m/s.
    #[inline]
    pub fn velocity(&self, tiles: &Tiles, solids: &CutCells, (axis, face): (usize, usize)) -> f32 {
        solids.velocity(axis, face) + self.change(tiles, solids, (axis, face))
    }

    /// By how much the solid at a face moves otherwise along the face's axis, m/s.
    #[inline]
    pub fn change(&self, tiles: &Tiles, solids: &CutCells, (axis, face): (usize, usize)) -> f32 {
        if self.bodies.is_empty() && self.surfaces.is_empty() {
            return 0.0;
        }
        let body = solids.body(axis, face);
        let given = self.bodies.iter().find(|given| Some(given.body) == body);
        let pushed = given.map_or(0.0, |given| given.velocity_at(face_centre(tiles, axis, face))[axis]);
        pushed + self.surface_change((axis, face))
    }

    /// By how much a surface that gives way moves otherwise at a face along its axis, m/s.
    #[inline]
    pub fn surface_change(&self, face: (usize, usize)) -> f32 {
        self.surfaces.velocity(&self.nodes, face).unwrap_or(0.0)
    }

    /// Adds impulses to those of the same bodies.
    pub fn add_impulses(&mut self, more: Vec<BodyImpulse>) {
        for of in more {
            match self.bodies.iter_mut().find(|sum| sum.body == of.body) {
                Some(sum) => sum.add(&of),
                None => self.bodies.push(of),
            }
        }
    }

    /// Adds so much of the changes of another one.
    pub fn add_scaled(&mut self, other: &Self, factor: f32) {
        self.add_impulses(other.bodies.iter().map(|of| of.scaled(factor)).collect());
        let pairs = [(&mut self.nodes, &other.nodes), (&mut self.impulses, &other.impulses)];
        for (sums, values) in pairs {
            sums.iter_mut().zip(values).for_each(|(sum, value)| *sum += factor * *value);
        }
    }

    /// Adds what the pressure `q` at the walls does to bodies and surfaces.
    pub fn add_pressure(&mut self, coupling: &Coupling, q: &[f32]) {
        self.add_impulses(coupling.impulses(q));
        self.push_surfaces(q);
    }

    /// Adds what the pressure `q` does to bodies and surfaces as the equations have it, linearly in `q`.
    pub fn add_pressure_in_equations(&mut self, coupling: &Coupling, q: &[f32]) {
        self.add_impulses(coupling.impulses_of(q, false));
        self.push_surfaces(q);
    }

    fn push_surfaces(&mut self, q: &[f32]) {
        if !self.surfaces.is_empty() {
            let impulses = self.surfaces.impulses(q);
            let changes = self.surfaces.response(&impulses);
            self.nodes.iter_mut().zip(changes).for_each(|(motion, change)| *motion += change);
            self.impulses.iter_mut().zip(impulses).for_each(|(sum, impulse)| *sum += impulse);
        }
    }

    /// What the points of surfaces have been given, N s.
    pub fn surface_impulses(&self) -> PointVectors {
        self.surfaces.on_points(&self.impulses)
    }
}

/// A liquid cell beside a body.
struct CellTerms {
    /// Where the value of the cell lies in a column.
    row: u32,
    /// Sum of ± (1 − α) e.
    along: Vec3,
    /// Sum of ± (1 − α) r × e, m.
    about: Vec3,
    /// How far tension there draws the body, 0–1.
    pull: f32,
}

/// The way from the centre of a liquid cell to the wall of a body beyond a closed face. Along it the pressure goes on as it came
/// from the cell on the other side, so that a body is borne by the volume that it displaces, wherever its wall lies in a cell.
struct ToWall {
    /// Where the values of the cell and of that on its other side lie in a column.
    rows: [u32; 2],
    /// The way, in cells, times ± (1 − α) e and ± (1 − α) r × e.
    along: Vec3,
    about: Vec3,
    /// How far tension there draws the body, 0–1.
    pull: f32,
}

/// A pressure as a body takes it: liquid that slips comes off a body rather than draws it along.
fn taken(q: f32, pull: f32) -> f64 {
    f64::from(q.max(0.0) + pull * q.min(0.0))
}

/// The free bodies, and the surfaces that give way, that liquid touches.
pub(super) struct Coupling<'a> {
    surfaces: &'a SurfaceCoupling<'a>,
    bodies: Vec<(u32, FreeBody, Vec<CellTerms>)>,
    /// By body, in their order.
    walls: Vec<Vec<ToWall>>,
    /// ρ Δx³, kg.
    mass: f32,
}

impl<'a> Coupling<'a> {
    /// Of the liquid `cells`.
    pub fn new(
        surfaces: &'a SurfaceCoupling<'a>,
        tiles: &Tiles,
        solids: &CutCells,
        cells: &UnknownCells,
        boundary: &impl Boundary,
        properties: &CellProperties,
    ) -> Self {
        let mut bodies: BTreeMap<u32, (FreeBody, Vec<CellTerms>, Vec<ToWall>)> = BTreeMap::new();
        for (row, cell) in cells.iter().filter(|_| solids.any_body) {
            let (tile, at) = (cell / CELLS, local(cell % CELLS));
            let pull = properties.wall_friction([Some(cell)]);
            for side in 0..6 {
                let (axis, above) = (side / 2, side % 2 == 1);
                let face = if above { tiles.cell(tile, at + IVec3::AXES[axis]) } else { Some(cell) };
                let Some((face, body)) = face.and_then(|face| Some((face, solids.body(axis, face)?))) else {
                    continue;
                };
                let Some(free) = boundary.free_body(body) else { continue };
                let direction = if above { Vec3::AXES[axis] } else { -Vec3::AXES[axis] };
                let along = direction * (1.0 - solids.open(axis, face));
                let about = (face_centre(tiles, axis, face) - free.centre).cross(along);
                let (_, list, walls) = bodies.entry(body).or_insert_with(|| (free, Vec::new(), Vec::new()));
                let other = tiles.cell(tile, at - step(side)).map(|other| cells.number[other]);
                if let Some(other) = other.filter(|other| *other != NONE)
                    && solids.open(axis, face) <= 0.0
                {
                    let way = solids.volume(cell) - 0.5;
                    let (along, about) = (along * way, about * way);
                    walls.push(ToWall { rows: [row as u32, other], along, about, pull });
                }
                match list.last_mut().filter(|last| last.row == row as u32) {
                    Some(last) => (last.along, last.about) = (last.along + along, last.about + about),
                    None => list.push(CellTerms { row: row as u32, along, about, pull }),
                }
            }
        }
        let mut walls = Vec::new();
        let part = |(body, (free, list, own))| {
            walls.push(own);
            (body, free, list)
        };
        let bodies = bodies.into_iter().map(part).collect();
        Self { surfaces, bodies, walls, mass: properties.common.density_kg_m3 * tiles.cell_m.powi(3) }
    }

    /// What the pressure `q` at the walls gives the bodies.
    pub fn impulses(&self, q: &[f32]) -> Vec<BodyImpulse> {
        self.impulses_of(q, true)
    }

    /// What the pressure `q` gives the bodies: as the equations have it, or with its rise up to the walls.
    fn impulses_of(&self, q: &[f32], at_walls: bool) -> Vec<BodyImpulse> {
        let of = |((body, free, list), walls): (&(u32, FreeBody, Vec<CellTerms>), &Vec<ToWall>)| {
            let (mut impulse, mut angular) = (glam::DVec3::ZERO, glam::DVec3::ZERO);
            for CellTerms { row, along, about, pull } in list {
                let q = taken(q[*row as usize], if at_walls { *pull } else { 1.0 });
                impulse += along.as_dvec3() * q;
                angular += about.as_dvec3() * q;
            }
            for ToWall { rows, along, about, pull } in walls.iter().filter(|_| at_walls) {
                let [own, other] = rows.map(|row| taken(q[row as usize], *pull));
                impulse += along.as_dvec3() * (own - other);
                angular += about.as_dvec3() * (own - other);
            }
            let (impulse, angular) = (impulse.as_vec3() * self.mass, angular.as_vec3() * self.mass);
            BodyImpulse {
                body: *body,
                impulse,
                angular_impulse: angular,
                velocity: impulse * free.inverse_mass,
                angular_velocity: free.inverse_inertia * angular,
                centre: free.centre,
            }
        };
        self.bodies.iter().zip(&self.walls).map(of).collect()
    }

    /// Whether liquid touches any.
    pub fn is_any(&self) -> bool {
        !self.bodies.is_empty() || !self.surfaces.is_empty()
    }

    /// What bodies and surfaces add to the rows of the equations.
    pub fn rows(&self, q: &[f32]) -> Vec<(u32, f32)> {
        let given = self.impulses_of(q, false);
        let each = self.bodies.iter().zip(&given).flat_map(|((.., list), given)| {
            list.iter().map(|CellTerms { row, along, about, .. }| {
                (*row, along.dot(given.velocity) + about.dot(given.angular_velocity))
            })
        });
        each.chain(self.surfaces.rows(q)).collect()
    }

    /// What the bodies add to the diagonal: a column of that length.
    pub fn diagonal(&self, column_len: usize) -> Vec<f32> {
        let mut diagonal = vec![0.0; column_len];
        for (_, free, list) in &self.bodies {
            for CellTerms { row, along, about, .. } in list {
                let turned = about.dot(free.inverse_inertia * *about);
                diagonal[*row as usize] += self.mass * (free.inverse_mass * along.length_squared() + turned);
            }
        }
        diagonal
    }
}
