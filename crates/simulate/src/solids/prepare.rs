//! Building the world at the first frame.

use super::contact::PAIR_RULE;
use super::load::Load;
use super::rest::fall_asleep;
use super::{SolidBody, collision, pose, user_data};
use crate::solver::InitialState;
use crate::{PrepareContext, PrepareError};
use frames::Bodies;
use glam::Vec3;
use rapier3d::prelude::*;
use shot::{
    Id, Moves, Solid,
    world::{Pose as Placed, World},
};

/// The bodies of an element in the frame that the shot begins from.
#[derive(Clone, Copy)]
struct InitialBodies<'a> {
    bodies: &'a Bodies,
    velocities: bool,
}

/// Only free bodies begin from a frame, and only if it has all of the element's.
fn initial_bodies<'a>(
    initial_state: Option<InitialState<'a>>,
    element: Id,
    solid: &Solid,
    count: usize,
) -> Option<InitialBodies<'a>> {
    let InitialState { frame, velocities } = initial_state.filter(|_| solid.body.moves == Moves::Free)?;
    let bodies = frame.bodies.get(&element).filter(|bodies| bodies.len() == count)?;
    Some(InitialBodies { bodies, velocities })
}

impl InitialBodies<'_> {
    /// Whether a body is there: one that had broken begins as it is placed.
    fn is_there(&self, copy: usize) -> bool {
        self.bodies.scales.get(copy).is_none_or(|scale| *scale > 0.0)
    }

    fn pose(&self, copy: usize) -> Placed {
        (self.bodies.positions[copy], self.bodies.orientations[copy])
    }

    fn velocity(&self, copy: usize) -> (Vec3, Vec3) {
        if self.velocities {
            (self.bodies.velocities[copy], self.bodies.angular_velocities[copy])
        } else {
            (Vec3::ZERO, Vec3::ZERO)
        }
    }
}

/// What is made of the shape of a copy.
struct Sized {
    smallest_m: f32,
    volume_m3: f32,
    properties: MassProperties,
    collision: collision::Collider,
    area_m2: f32,
}

pub(super) fn world(context: PrepareContext) -> Result<(PhysicsWorld, Vec<SolidBody>), PrepareError> {
    let shot = context.shot;
    let mut world = PhysicsWorld::new();
    let mut members = Vec::new();
    let mut sizes = Vec::new();
    let unsolved = |_: Id, _: f64| -> Option<Placed> { None };
    let standing = World::new(shot, context.sampler, f64::from(shot.timing.first), &unsolved);
    for (element, solid) in shot.solids().filter(|(element, _)| !element.deforms()) {
        let mesh_error = |source| PrepareError::Mesh { element: element.name.clone(), source };
        let of_size = |size: f32| -> Result<Sized, PrepareError> {
            let scaled = Solid { shape: solid.shape.scaled(size), ..solid.clone() };
            let mass = context.meshes.mass(&scaled.shape).map_err(mesh_error)?;
            let mass_kg = context.meshes.mass_kg(&solid.shape, solid.body.weight).map_err(mesh_error)?;
            let mass_kg = mass_kg * size.powi(3);
            let inertia = mass.inertia * (mass_kg / mass.volume);
            Ok(Sized {
                smallest_m: context.meshes.smallest_m(&scaled.shape).map_err(mesh_error)?,
                volume_m3: mass.volume,
                properties: MassProperties::with_inertia_matrix(mass.centre, mass_kg, inertia),
                collision: collision::shape(element, &scaled, context.meshes)?,
                area_m2: context.meshes.wind_area_m2(&scaled.shape).map_err(mesh_error)?,
            })
        };
        // Copies of one size share what is made of their shape.
        let (mut sized, mut made_of) = (of_size(1.0)?, 1.0);
        let smallest_m = sized.smallest_m;
        if solid.body.moves != Moves::Still {
            sizes.push(smallest_m);
        }
        let placements = standing.placements(element);
        let begins = initial_bodies(context.initial_state, element.id, solid, placements.len());
        for (copy, placement) in placements.into_iter().enumerate() {
            let begins = begins.filter(|of| of.is_there(copy));
            let placement = begins.map_or(placement, |of| of.pose(copy));
            let size = element.size_of(copy);
            if size != made_of {
                (sized, made_of) = (of_size(size)?, size);
            }
            let Sized { smallest_m, volume_m3, properties, ref collision, area_m2 } = sized;
            let kind = match solid.body.moves {
                Moves::Still => RigidBodyType::Fixed,
                Moves::Free if solid.body.starts_free() => RigidBodyType::Dynamic,
                Moves::Animated | Moves::Free => RigidBodyType::KinematicPositionBased,
            };
            let at = pose(placement);
            let mut body = RigidBodyBuilder::new(kind)
                .pose(at)
                .allow_fast_rotation(true)
                .additional_mass_properties(properties)
                .ccd_enabled(solid.body.moves != Moves::Still);
            if let Some(of) = begins.filter(|_| solid.body.starts_free()) {
                let (velocity, angular_velocity) = of.velocity(copy);
                body = body.linvel(velocity).angvel(angular_velocity);
            } else if solid.body.starts_free() {
                body = body
                    .linvel(solid.body.launch_velocity.unwrap_or_default())
                    .angvel(solid.body.launch_angular_velocity.unwrap_or_default());
            }
            let collider = ColliderBuilder::new(collision.shape.clone())
                .position(collision.offset)
                .density(0.0)
                .friction(solid.body.friction)
                .friction_combine_rule(PAIR_RULE)
                .restitution(solid.body.restitution)
                .restitution_combine_rule(PAIR_RULE)
                .contact_skin(0.5 * solid.body.margin_m(smallest_m))
                .user_data(user_data(element.id, copy as u32));
            let (handle, collider) = world.insert(body, collider);
            world.bodies[handle].recompute_mass_properties_from_colliders(&world.colliders);
            members.push(SolidBody {
                element: element.id,
                copy: copy as u32,
                handle,
                collider,
                smallest_m,
                area_m2,
                volume_m3,
                scale: size,
                deforms: false,
                surface_motion: None,
                from_particle: false,
                gone: false,
                has_scale: solid.body.breaking_impulse_n_s.is_some() || !element.placed().is_empty(),
                age_s: 0.0,
                slow_s: 0.0,
                animated: kind == RigidBodyType::KinematicPositionBased,
                left: false,
                pushed: Vec3::ZERO,
                load: Load::default(),
                flight: at.into(),
                contacts_turn: at.rotation,
            });
        }
    }
    tune(&mut world.integration_parameters, &mut sizes);
    let length_unit = world.integration_parameters.length_unit;
    for member in &members {
        fall_asleep(&mut world.bodies[member.handle], member.smallest_m, length_unit);
    }
    world.gravity = shot.gravity();
    world.integration_parameters.dt = 1.0 / (shot.timing.fps * shot.physics.substeps as f32);
    Ok((world, members))
}

/// Lengths the solver works with follow the size of the bodies, so that a shot
/// of marbles settles as well as one of crates.
fn tune(parameters: &mut IntegrationParameters, sizes: &mut [f32]) {
    sizes.sort_by(f32::total_cmp);
    let typical = sizes.get(sizes.len() / 2).copied().unwrap_or(1.0).clamp(0.01, 1.0);
    parameters.length_unit = typical;
    parameters.normalized_allowed_linear_error = 0.001;
    parameters.normalized_max_linear_velocity = 5_000.0 / typical;
    // Stiffer than the library's default, as substeps are finer than a game's.
    parameters.contact_softness.natural_frequency = 120.0;
    parameters.static_contact_softness.natural_frequency = 240.0;
    parameters.min_ccd_dt = 1e-5;
    parameters.max_ccd_substeps = 4;
}
