//! Cloth and soft bodies, in implicit steps of second order.
//!
//! A cloth is a triangle mesh with a membrane energy (`membrane.rs`) and a bending energy (`bending.rs`). A soft body is a
//! lattice of cells of an elastic solid (`lattice.rs`, `cell.rs`) that carries its surface (`embedding.rs`). All of a shot are
//! one system: each step is the minimum of inertia and energy (`body.rs`), found by Newton's method with multigrid as
//! preconditioner (`system.rs`, `multigrid.rs`), so that stiffness does not depend on the number of nodes, of substeps
//! or of iterations. Solids are met at their true moving surface (`contact.rs`), surfaces meet themselves and each other
//! (`self_contact.rs`, `truncation.rs`), and air pushes each face (`air.rs`).
//! Free solids are pushed (`contact.rs`), in the step after.

mod active_contacts;
mod air;
mod bending;
mod blocks;
mod body;
mod cell;
mod cell_quadrature;
pub mod check;
mod check_start;
mod contact;
mod contact_pressure;
mod crossing;
mod cutting;
mod dense;
mod discretization;
mod element_maps;
mod embedding;
mod face_tree;
mod fit;
mod forecast;
mod holds;
mod interior;
mod lattice;
mod levels;
mod low_rank;
mod material;
mod matrix;
mod member;
mod membrane;
mod momentum;
mod multigrid;
mod pair;
mod pairs;
mod plasticity;
mod prediction;
mod prepare;
mod pull_back;
mod received;
mod response;
mod scales;
mod self_contact;
mod separating_planes;
mod sheet;
mod skin;
mod start;
mod state;
mod surface_points;
mod system;
mod tangle;
mod tearing;
pub mod timers;
mod torn;
mod truncation;
mod unfolded;
mod waves;

pub use forecast::{DeformableSize, deformable_size};
pub use interior::interior;
pub use waves::WaveCounter;

use crate::colliders::{BodyState, Exchange, Impulse, SurfaceResponse};
use crate::{BlowUp, PrepareError, SavedPart, Solver, Step, Wants};
use body::DeformableBody;
use frames::{Bodies, Frame, MeshState, REST};
use geometry::MovingMesh;
use geometry::topology::{Attribute, AttributeValues, Domain};
use glam::{DVec3, Mat3, Quat, Vec3};
use holds::{Hold, OWN, PartHolds};
use material::Material;
use member::Member;
pub(crate) use prepare::prepare;
use response::{Response, Vertices};
use scales::{ScaledWeights, Scales};
use shot::{
    Element, Id, SurfaceQuantity,
    world::{Pose, World},
};
use state::State;
use std::collections::BTreeMap;
use std::sync::Arc;
use timers::{Phase, timed};

/// Most nodes of all cloths and soft bodies of a shot, and most points of their surfaces.
const MAX_NODES: usize = 300_000;

/// Cloths and soft bodies of a shot.
struct Deformables {
    members: Vec<Member>,
    body: DeformableBody,
    /// The longest preroll of an element, s.
    preroll_s: f32,
    /// How it answers impulses within the last step; none: nobody asked, or it has been used.
    response: Option<Arc<Response>>,
}

impl Deformables {
    /// What holds an element at the step's end: of a node in several pins, the first.
    fn holds<'a>(&mut self, index: usize, step: &Step<'a>, element: &Element) -> PartHolds<'a> {
        let solved = |id: Id, _: f64| step.colliders.solved(id);
        let world = World::new(step.shot, step.sampler, step.acting, &solved);
        let copies = element.count() as u32;
        let frames = holding_frames(&world, element);
        let before = match self.body.state.frames.get(index) {
            Some(before) if before.len() == frames.len() => before.clone(),
            _ => frames.clone(),
        };
        let part = self.body.parts[index].nodes.clone();
        let mut nodes: Vec<Option<Hold>> = vec![None; part.len()];
        let mut centre = None;
        let member = &mut self.members[index];
        let pinned: Vec<Option<Vec<u32>>> =
            member.pinned.iter().map(|list| list.as_ref().map(|list| member.now(list))).collect();
        let pins = element.pins().iter().zip(&pinned).zip(copies..);
        for ((pin, of), number) in pins.filter(|((pin, _), _)| pin.holds) {
            let frame = if pin.to.is_some() { number } else { OWN };
            let hold =
                |weight: f32| Hold { frame, spring: pin.spring.map(|spring| (spring, f64::from(weight))) };
            let mut catch = |node: usize, weight: f32| {
                nodes[node].get_or_insert(hold(weight));
            };
            match (&pin.part, of) {
                (_, Some(list)) => list.iter().for_each(|&p| catch(p as usize, 1.0)),
                (shot::PinnedPart::Centre {}, _) => centre = centre.or(Some(hold(1.0))),
                (shot::PinnedPart::Region(region), _) => {
                    if let Some(weight) = step.weight(*region) {
                        for (node, x) in self.body.state.x[part.clone()].iter().enumerate() {
                            if weight.at(x.as_vec3()) > 0.5 {
                                catch(node, 1.0);
                            }
                        }
                    }
                }
                (shot::PinnedPart::Map(map), _) => {
                    let weights = member.at_nodes(map, element, step);
                    // A spring holds by the weight, a hard pin where that is over ½.
                    let least = if pin.spring.is_some() { 0.0 } else { 0.5 };
                    let over = weights.iter().enumerate().filter(|(_, weight)| **weight > least);
                    over.for_each(|(node, weight)| catch(node, *weight));
                }
                _ => {}
            }
        }
        let colliders = step.colliders;
        let surface = |pin: &shot::Pin| {
            let solid = colliders.of(pin.to?).next()?;
            (solid.deforms() && !solid.is_deformable()).then_some(solid)
        };
        let surfaces = (0..copies).map(|_| None).chain(element.pins().iter().map(surface)).collect();
        PartHolds { frames, before, surfaces, copies, nodes, centre }
    }

    /// The vertices of each element.
    fn vertices(&self) -> Vec<(Id, Vertices)> {
        let of = |(member, part): (&Member, &discretization::Part)| {
            let point = |p: &u32| (part.points.start + *p as usize) as u32;
            (member.element, member.shown.point_of.iter().map(point).collect())
        };
        self.members.iter().zip(&self.body.parts).map(of).collect()
    }

    /// The mean position of an element's nodes.
    fn middle(&self, index: usize) -> DVec3 {
        mean(&self.body.state.x[self.body.parts[index].nodes.clone()])
    }
}

/// The frames that take held places along: those of an element's copies, and for each pin that of the solid that it is to.
fn holding_frames(world: &World, element: &Element) -> Vec<Pose> {
    let own = world.placements(element);
    let of_pin = |pin: &shot::Pin| {
        let to = pin.to.and_then(|to| world.shot().element(to));
        to.and_then(|to| world.placements(to).first().copied()).unwrap_or(own[0])
    };
    own.iter().copied().chain(element.pins().iter().map(of_pin)).collect()
}

fn mean(list: &[DVec3]) -> DVec3 {
    list.iter().fold(DVec3::ZERO, |sum, x| sum + *x) / list.len().max(1) as f64
}

impl Solver for Deformables {
    fn step(&mut self, step: &Step) -> Result<(), BlowUp> {
        let (mut materials, mut holds) = (Vec::new(), Vec::new());
        let mut scaled: Vec<ScaledWeights> = Vec::new();
        for i in 0..self.members.len() {
            let found = step.shot.element(self.members[i].element);
            let made = found.and_then(|element| Some((element, Material::of(element, f64::from(step.dt))?)));
            let Some((element, material)) = made else { return Ok(()) };
            holds.push(self.holds(i, step, element));
            materials.push(material);
            let member = &mut self.members[i];
            let mut by = ScaledWeights::new();
            if member.maps.is_some() {
                let each = element.scaled().iter();
                by.extend(each.map(|scaled| (scaled, member.at_nodes(&scaled.map, element, step))));
            }
            scaled.push(by);
        }
        let Self { members, body, .. } = self;
        let scales = Scales::new(&body.discretization, &body.parts, &materials, &scaled);
        // Within the pool, where many small parallel loops cost little.
        let mut stepped = || body.step(step, &materials, &holds, scales.clone());
        timed(Phase::Step, || rayon::scope(|_| stepped())).map_err(|(part, what)| BlowUp {
            frame: step.frame_number(),
            element: members[part].element,
            name: members[part].name.clone(),
            what: what.to_owned(),
        })?;
        self.tear(step);
        Ok(())
    }

    fn pose(&self, element: Id) -> Option<Pose> {
        let index = self.members.iter().position(|member| member.element == element)?;
        Some((self.middle(index).as_vec3(), Quat::IDENTITY))
    }

    fn has_bodies(&self) -> bool {
        true
    }

    fn deforms(&self) -> bool {
        true
    }

    fn bodies(&self, shot: &shot::Shot, out: &mut Vec<BodyState>) {
        for (i, member) in self.members.iter().enumerate() {
            let Some(solid) = shot.element(member.element).and_then(Element::as_solid) else { continue };
            let centre = self.middle(i).as_vec3();
            out.push(BodyState {
                element: member.element,
                copy: 0,
                // In place of the pose the vertices move.
                pose: (Vec3::ZERO, Quat::IDENTITY),
                scale: 1.0,
                centre,
                velocity: Vec3::ZERO,
                angular_velocity: Vec3::ZERO,
                by_load: Vec3::ZERO,
                inverse_mass: 0.0,
                inverse_inertia: Mat3::ZERO,
                still: false,
                friction: solid.body.friction,
                restitution: solid.body.restitution,
            });
        }
    }

    fn response(&mut self) -> Option<Arc<dyn SurfaceResponse>> {
        self.response = Response::new(&self.body, self.vertices()).map(Arc::new);
        self.response.clone().map(|response| response as _)
    }

    fn shapes(&self) -> BTreeMap<Id, Arc<MovingMesh>> {
        let DeformableBody { discretization, parts, state, .. } = &self.body;
        let points = discretization.embedding.all(&state.x);
        let of = |(member, part): (&Member, &discretization::Part)| {
            let at = |p: &u32| points[part.points.start + *p as usize].as_vec3();
            let positions: Vec<Vec3> = member.shown.point_of.iter().map(at).collect();
            let topology = member.shown.topology.clone();
            (member.element, Arc::new(MovingMesh { topology, positions, velocities: Vec::new() }))
        };
        self.members.iter().zip(parts).map(of).collect()
    }

    fn take_exchange(&mut self) -> Exchange {
        Exchange { impulses: std::mem::take(&mut self.body.impulses), ..Exchange::default() }
    }

    fn receive(&mut self, _: &shot::Shot, exchange: &Exchange) {
        let of = |impulse: &Impulse| {
            let part = self.members.iter().position(|member| member.element == impulse.element)?;
            Some((part, *impulse))
        };
        let impulses: Vec<(usize, Impulse)> = exchange.impulses.iter().filter_map(of).collect();
        if !impulses.is_empty() {
            self.body.receive(&impulses);
        }
        let is_own = |id: &Id| self.members.iter().any(|member| member.element == *id);
        if exchange.loads.keys().any(is_own)
            && let Some(response) = self.response.take()
        {
            self.body.take_load(&response, &exchange.loads);
        }
    }

    fn preroll_s(&self) -> Option<f32> {
        (self.preroll_s > 0.0).then_some(self.preroll_s)
    }

    fn wants(&self) -> Wants {
        Wants { bodies: true, ..Wants::default() }
    }

    fn write(&mut self, frame: &mut Frame) {
        let DeformableBody { discretization, parts, state, .. } = &self.body;
        let (points, velocities) =
            (discretization.embedding.all(&state.x), discretization.embedding.all(&state.v));
        let pressures = self.body.pressure.mean(self.body.surface.areas());
        for (i, (member, part)) in self.members.iter().zip(parts).enumerate() {
            let (middle, velocity) = (self.middle(i), mean(&state.v[part.nodes.clone()]));
            let mut bodies = Bodies::default();
            bodies.push(middle.as_vec3(), Quat::IDENTITY, velocity.as_vec3(), Vec3::ZERO);
            frame.bodies.insert(member.element, bodies);
            let of = member.shown.point_of.iter().map(|p| part.points.start + *p as usize);
            let pressure = |all: &Vec<f32>| {
                let values: Vec<f32> = of.clone().map(|p| all[p]).collect();
                values.iter().any(|value| *value > 0.0).then(|| Attribute {
                    name: SurfaceQuantity::Pressure.name().to_owned(),
                    domain: Domain::Vertex,
                    values: AttributeValues::Scalars(values),
                })
            };
            let mut attributes: Vec<Attribute> = pressures.as_ref().and_then(pressure).into_iter().collect();
            // A torn mesh is no longer that which the shape gives.
            if member.tearing.as_ref().is_some_and(|tearing| tearing.is_torn()) {
                let rest = |p: usize| discretization.embedding.at(p as u32, &discretization.rest).as_vec3();
                let values = AttributeValues::Vectors(of.clone().map(rest).collect());
                attributes.push(Attribute { name: REST.to_owned(), domain: Domain::Vertex, values });
            }
            let mesh = MeshState {
                topology: member.shown.topology.clone(),
                attributes,
                positions: of.clone().map(|p| (points[p] - middle).as_vec3()).collect(),
                velocities: of.map(|p| (velocities[p] - velocity).as_vec3()).collect(),
            };
            frame.meshes.insert(member.element, mesh);
        }
    }

    fn save(&self) -> SavedPart {
        let elements: Vec<Id> = self.members.iter().map(|member| member.element).collect();
        let saved = (elements, self.body.state.clone());
        Box::new(move || postcard::to_stdvec(&saved).expect("the state of cloth serialises"))
    }

    fn restore(&mut self, bytes: Option<&[u8]>) -> Result<(), PrepareError> {
        let unfit = |what: &str| PrepareError::State(what.to_owned());
        let bytes = bytes.ok_or_else(|| unfit("it has no cloth or soft body"))?;
        let (elements, state): (Vec<Id>, State) =
            postcard::from_bytes(bytes).map_err(|error| PrepareError::State(error.to_string()))?;
        let same = elements.iter().eq(self.members.iter().map(|member| &member.element));
        let others = || unfit("it has other cloths or soft bodies");
        if !same {
            return Err(others());
        }
        if !state.cuts.is_empty() {
            if !self.members.iter().any(|member| member.tearing.is_some()) {
                return Err(others());
            }
            let cuts = state.cuts.clone();
            self.cut_open(cuts, &[]).ok_or_else(others)?;
            let count: usize =
                self.members.iter().filter_map(|of| Some(of.discretization.as_ref()?.len())).sum();
            if count != state.x.len() || state.v.len() != count {
                return Err(others());
            }
            self.take_up(state);
        } else {
            self.body.state = state;
        }
        if self.body.state.fits(&self.body.discretization) { Ok(()) } else { Err(others()) }
    }
}
