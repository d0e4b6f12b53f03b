//! The particles of one element: a column for each quantity, rows in the order of birth.

use crate::PrepareError;
use crate::colliders::Collider;
use crate::liquid::{RELAXED, Symmetric};
use bytemuck::Pod;
use geometry::SurfacePlace;
use glam::{Mat3, Quat, Vec2, Vec3};
use serde::{Deserialize, Serialize};
use shot::Id;
use shot::world::Pose;
use std::collections::BTreeMap;
use std::io::{self, Write};

/// The columns that not all particle sets have.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ParticleColumns {
    /// They have turns and spins.
    pub turning: bool,
    /// Map weight at birth.
    pub weighing: bool,
    /// UV at birth.
    pub with_uv: bool,
    /// They are a liquid.
    pub liquid: bool,
    /// They are an elastic liquid.
    pub elastic: bool,
}

/// Particles of one element. Every column has one entry each, but those of [`ParticleColumns`].
#[derive(Clone, Debug, Default)]
pub struct ParticleSet {
    /// Numbers in the order of birth, rising.
    pub ids: Vec<u32>,
    /// x, m.
    pub positions: Vec<Vec3>,
    /// v, m/s.
    pub velocities: Vec<Vec3>,
    /// Diameter, m.
    pub sizes: Vec<f32>,
    /// 1 / m, 1/kg.
    pub inverse_masses: Vec<f32>,
    /// C A, m².
    pub drag_areas: Vec<f32>,
    /// The world's second of birth.
    pub born_s: Vec<f32>,
    /// The world's second of death; endless for none.
    pub ends_s: Vec<f32>,
    /// No still body is nearer to the surface of the ball, m.
    pub clearances: Vec<f32>,
    /// Events that have acted, one bit each.
    pub done: Vec<u32>,
    /// Orientations; empty if none is other than the identity.
    pub orientations: Vec<Quat>,
    /// Angular velocities, rad/s; empty if all are 0.
    pub angular_velocities: Vec<Vec3>,
    /// Map weights at birth; empty without a map.
    pub weights: Vec<f32>,
    /// UVs at birth; empty if they carry none.
    pub uvs: Vec<Vec2>,
    /// Gradients of the velocity of a liquid, 1/s; empty if it is none.
    pub gradients: Vec<Mat3>,
    /// Elastic deformations of a liquid, as left Cauchy–Green tensors; empty if it is not elastic.
    pub deformations: Vec<Symmetric>,
    /// Pressure of a liquid in the last substep of a frame, Pa; empty or too short where there was none yet. It acts on nothing, but
    /// a frame without substeps shows that of the frame before.
    pub pressures: Vec<f32>,
    /// Everything that is not a column.
    pub rest: Rest,
}

/// State of a set beside its columns.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Rest {
    /// Number of the next particle.
    pub next_id: u32,
    /// Where the element stood at the last substep's end.
    pub stood: Option<(Vec3, Quat)>,
    /// Pose of the emitting curve in the last substep.
    pub curve_stood: Option<(Vec3, Quat)>,
    /// How many of evenly spread places were asked for.
    pub spread: u32,
    /// How many the schedule has given.
    pub given: u64,
    /// Born and gone since the last frame.
    pub born: u32,
    /// Gone since the last frame.
    pub gone: u32,
    /// Particles that stick to a body, by id.
    pub stuck: BTreeMap<u32, Stuck>,
    /// Particles that leave a trail: by id and event, the fraction of the next particle due.
    pub trails: BTreeMap<(u32, u32), f32>,
}

/// Where a particle sticks.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct Stuck {
    /// The body's element.
    pub element: Id,
    /// Which copy.
    pub copy: u32,
    /// Position in the body's frame, m.
    pub position: Vec3,
    /// Orientation in the body's frame.
    pub orientation: Quat,
    /// The face and its corners' weights, if the body changes its shape: position and orientation are then in the face's frame.
    pub face: Option<(u32, [f32; 3])>,
}

impl Stuck {
    /// At a position and with an orientation at the substep's end.
    pub fn to(body: &Collider, position: Vec3, orientation: Quat) -> Self {
        let (element, copy) = (body.now.element, body.now.copy);
        if let Some(place) = body.place(position, false)
            && let Some((_, turned)) = body.at_place(&place, false)
        {
            let (orientation, face) = (turned.inverse() * orientation, Some((place.triangle, place.weights)));
            return Self { element, copy, position: place.offset, orientation, face };
        }
        let (origin, turned) = body.now.pose;
        let position = turned.inverse() * (position - origin);
        Self { element, copy, position, orientation: turned.inverse() * orientation, face: None }
    }

    /// Position and orientation at the substep's end; none: the face is no longer there.
    pub fn at(&self, body: &Collider) -> Option<Pose> {
        let (position, turned) = match self.face {
            None => (body.now.pose.0 + body.now.pose.1 * self.position, body.now.pose.1),
            Some((triangle, weights)) => {
                body.at_place(&SurfacePlace { triangle, weights, offset: self.position }, false)?
            }
        };
        Some((position, turned * self.orientation))
    }
}

/// Initial state of a particle.
#[derive(Clone, Copy, Debug)]
pub struct Newborn {
    pub position: Vec3,
    pub velocity: Vec3,
    pub size_m: f32,
    pub mass_kg: f32,
    pub drag_area_m2: f32,
    pub born_s: f32,
    pub ends_s: f32,
    pub orientation: Quat,
    pub angular_velocity: Vec3,
    pub weight: f32,
    pub uv: Vec2,
}

impl ParticleSet {
    pub fn len(&self) -> usize {
        self.ids.len()
    }

    /// Row of the particle with an id.
    pub fn find(&self, id: u32) -> Option<usize> {
        self.ids.binary_search(&id).ok()
    }

    pub fn push(&mut self, newborn: &Newborn, columns: ParticleColumns) -> u32 {
        let id = self.rest.next_id;
        self.rest.next_id += 1;
        self.rest.born += 1;
        self.ids.push(id);
        self.positions.push(newborn.position);
        self.velocities.push(newborn.velocity);
        self.sizes.push(newborn.size_m);
        self.inverse_masses.push(1.0 / newborn.mass_kg);
        self.drag_areas.push(newborn.drag_area_m2);
        self.born_s.push(newborn.born_s);
        self.ends_s.push(newborn.ends_s);
        self.clearances.push(0.0);
        self.done.push(0);
        if columns.turning {
            self.orientations.push(newborn.orientation);
            self.angular_velocities.push(newborn.angular_velocity);
        }
        if columns.weighing {
            self.weights.push(newborn.weight);
        }
        if columns.with_uv {
            self.uvs.push(newborn.uv);
        }
        if columns.liquid {
            self.gradients.push(Mat3::ZERO);
        }
        if columns.elastic {
            self.deformations.push(RELAXED);
        }
        id
    }

    /// The pressures, if it is a liquid: 0 where there was none yet.
    pub fn pressures_now(&self) -> Vec<f32> {
        let mut pressures = self.pressures.clone();
        pressures.resize(if self.gradients.is_empty() { 0 } else { self.len() }, 0.0);
        pressures
    }

    /// Removes the marked rows and keeps the order of the others.
    pub fn remove(&mut self, marked: &[bool]) {
        let gone = marked.iter().filter(|&&m| m).count();
        if gone == 0 {
            return;
        }
        self.rest.gone += gone as u32;
        keep(&mut self.ids, marked);
        let ids = &self.ids;
        let stays = |id: &u32| ids.binary_search(id).is_ok();
        self.rest.stuck.retain(|id, _| stays(id));
        self.rest.trails.retain(|(id, _), _| stays(id));
        keep(&mut self.positions, marked);
        keep(&mut self.velocities, marked);
        keep(&mut self.sizes, marked);
        keep(&mut self.inverse_masses, marked);
        keep(&mut self.drag_areas, marked);
        keep(&mut self.born_s, marked);
        keep(&mut self.ends_s, marked);
        keep(&mut self.clearances, marked);
        keep(&mut self.done, marked);
        if !self.orientations.is_empty() {
            keep(&mut self.orientations, marked);
            keep(&mut self.angular_velocities, marked);
        }
        if !self.weights.is_empty() {
            keep(&mut self.weights, marked);
        }
        if !self.uvs.is_empty() {
            keep(&mut self.uvs, marked);
        }
        if !self.pressures.is_empty() {
            self.pressures.resize(marked.len(), 0.0);
            keep(&mut self.pressures, marked);
        }
        if !self.gradients.is_empty() {
            keep(&mut self.gradients, marked);
        }
        if !self.deformations.is_empty() {
            keep(&mut self.deformations, marked);
        }
    }

    /// The whole set as bytes.
    pub fn save(&self, out: &mut dyn Write) -> io::Result<()> {
        let rest = postcard::to_stdvec(&self.rest).expect("it serialises");
        out.write_all(&(rest.len() as u64).to_le_bytes())?;
        out.write_all(&rest)?;
        let columns = [
            column(&self.ids),
            column(&self.positions),
            column(&self.velocities),
            column(&self.sizes),
            column(&self.inverse_masses),
            column(&self.drag_areas),
            column(&self.born_s),
            column(&self.ends_s),
            column(&self.clearances),
            column(&self.done),
            column(&self.orientations),
            column(&self.angular_velocities),
            column(&self.weights),
            column(&self.uvs),
            column(&self.gradients),
            column(&self.deformations),
            column(&self.pressures),
        ];
        for (length, bytes) in columns {
            out.write_all(&(length as u64).to_le_bytes())?;
            out.write_all(bytes)?;
        }
        Ok(())
    }

    /// What [`ParticleSet::save`] gave, from the front of `bytes`.
    pub fn restore(bytes: &mut &[u8]) -> Result<Self, PrepareError> {
        let broken = || PrepareError::State("it ends early".to_owned());
        let (length, after) = bytes.split_first_chunk::<8>().ok_or_else(broken)?;
        let length = usize::try_from(u64::from_le_bytes(*length)).map_err(|_| broken())?;
        let (rest, after) = after.split_at_checked(length).ok_or_else(broken)?;
        let rest = postcard::from_bytes(rest).map_err(|error| PrepareError::State(error.to_string()))?;
        *bytes = after;
        Ok(Self {
            rest,
            ids: take(bytes)?,
            positions: take(bytes)?,
            velocities: take(bytes)?,
            sizes: take(bytes)?,
            inverse_masses: take(bytes)?,
            drag_areas: take(bytes)?,
            born_s: take(bytes)?,
            ends_s: take(bytes)?,
            clearances: take(bytes)?,
            done: take(bytes)?,
            orientations: take(bytes)?,
            angular_velocities: take(bytes)?,
            weights: take(bytes)?,
            uvs: take(bytes)?,
            gradients: take(bytes)?,
            deformations: take(bytes)?,
            pressures: take(bytes)?,
        })
    }
}

impl ParticleSet {
    /// The same particles with the columns that the shot now needs. A column that was
    /// missing gets its neutral value.
    ///
    /// # Errors
    /// [`PrepareError::State`] if a column with values other than the neutral one would be lost, or columns differ in length.
    pub fn with_columns(mut self, columns: ParticleColumns) -> Result<Self, PrepareError> {
        let n = self.ids.len();
        let lengths = [
            self.positions.len(),
            self.velocities.len(),
            self.sizes.len(),
            self.inverse_masses.len(),
            self.drag_areas.len(),
            self.born_s.len(),
            self.ends_s.len(),
            self.clearances.len(),
            self.done.len(),
        ];
        if lengths.iter().any(|&length| length != n) {
            return Err(PrepareError::State("its columns differ in length".to_owned()));
        }
        fit(&mut self.orientations, n, columns.turning, Quat::IDENTITY)?;
        fit(&mut self.angular_velocities, n, columns.turning, Vec3::ZERO)?;
        fit(&mut self.weights, n, columns.weighing, 1.0)?;
        fit(&mut self.uvs, n, columns.with_uv, Vec2::ZERO)?;
        fit(&mut self.gradients, n, columns.liquid, Mat3::ZERO)?;
        fit(&mut self.deformations, n, columns.elastic, RELAXED)?;
        Ok(self)
    }
}

fn fit<T: Copy + PartialEq>(
    column: &mut Vec<T>,
    n: usize,
    wanted: bool,
    neutral: T,
) -> Result<(), PrepareError> {
    match (wanted, column.len()) {
        (true, length) if length == n => Ok(()),
        (true, 0) => {
            column.resize(n, neutral);
            Ok(())
        }
        (false, _) if column.iter().all(|value| *value == neutral) => {
            column.clear();
            Ok(())
        }
        _ => Err(PrepareError::State("it has other columns".to_owned())),
    }
}

fn keep<T: Copy>(column: &mut Vec<T>, marked: &[bool]) {
    let Some(mut to) = marked.iter().position(|&m| m) else { return };
    for from in to + 1..marked.len() {
        if !marked[from] {
            column[to] = column[from];
            to += 1;
        }
    }
    column.truncate(to);
}

/// The length of a column, and its bytes.
fn column<T: Pod>(column: &[T]) -> (usize, &[u8]) {
    (column.len(), bytemuck::cast_slice(column))
}

fn take<T: Pod>(bytes: &mut &[u8]) -> Result<Vec<T>, PrepareError> {
    let broken = || PrepareError::State("it ends early".to_owned());
    let (length, after) = bytes.split_first_chunk::<8>().ok_or_else(broken)?;
    let length = (u64::from_le_bytes(*length) as usize).checked_mul(size_of::<T>()).ok_or_else(broken)?;
    let (column, after) = after.split_at_checked(length).ok_or_else(broken)?;
    *bytes = after;
    Ok(bytemuck::pod_collect_to_vec(column))
}

#[cfg(test)]
mod tests {
    use super::*;

    const TURNING: ParticleColumns =
        ParticleColumns { turning: true, weighing: false, with_uv: false, liquid: false, elastic: false };

    fn newborn(x: f32) -> Newborn {
        Newborn {
            position: Vec3::X * x,
            velocity: Vec3::Y,
            size_m: 0.1,
            mass_kg: 2.0,
            drag_area_m2: 0.3,
            born_s: 0.0,
            ends_s: f32::INFINITY,
            orientation: Quat::IDENTITY,
            angular_velocity: Vec3::ZERO,
            weight: 0.5,
            uv: Vec2::ZERO,
        }
    }

    #[test]
    fn those_that_stay_keep_their_order_and_numbers() {
        let mut set = ParticleSet::default();
        (0..6).for_each(|i| {
            set.push(&newborn(i as f32), TURNING);
        });
        set.remove(&[true, false, true, false, false, true]);
        assert_eq!(set.ids, [1, 3, 4]);
        assert_eq!(set.positions.iter().map(|p| p.x).collect::<Vec<_>>(), [1.0, 3.0, 4.0]);
        assert_eq!((set.find(3), set.find(2), set.push(&newborn(9.0), TURNING)), (Some(1), None, 6));
    }

    #[test]
    fn columns_that_are_asked_for_later_have_their_neutral_values() {
        let mut set = ParticleSet::default();
        (0..3).for_each(|i| {
            set.push(&newborn(i as f32), ParticleColumns::default());
        });
        let all = ParticleColumns { weighing: true, ..TURNING };
        let fitted = set.with_columns(all).unwrap();
        assert_eq!(
            (&fitted.orientations[..], &fitted.weights[..]),
            (&[Quat::IDENTITY; 3][..], &[1.0; 3][..])
        );
        // Neutral columns may go again, others not.
        let mut bare = fitted.clone().with_columns(ParticleColumns::default()).unwrap();
        assert!(bare.orientations.is_empty());
        bare.positions.pop();
        assert!(bare.with_columns(all).is_err());
        let turned = ParticleSet { angular_velocities: vec![Vec3::X; 3], ..fitted };
        assert!(turned.with_columns(ParticleColumns::default()).is_err());
    }

    #[test]
    fn a_saved_swarm_comes_back_whole() {
        let mut set = ParticleSet::default();
        (0..5).for_each(|i| {
            set.push(&newborn(i as f32), ParticleColumns { weighing: true, ..ParticleColumns::default() });
        });
        set.rest.given = 17;
        let mut bytes = Vec::new();
        set.save(&mut bytes).unwrap();
        let back = ParticleSet::restore(&mut &bytes[..]).unwrap();
        assert_eq!((&back.ids, &back.positions, back.rest.given), (&set.ids, &set.positions, 17));
        assert_eq!((back.weights.len(), back.orientations.len()), (5, 0));
        for cut in 0..bytes.len() {
            assert!(ParticleSet::restore(&mut &bytes[..cut]).is_err());
        }
    }
}
