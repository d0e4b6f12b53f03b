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
pub mod check;
mod contact;
mod contact_pressure;
mod dense;
mod discretization;
mod element_maps;
mod embedding;
mod face_tree;
mod fit;
mod holds;
mod lattice;
mod levels;
mod low_rank;
mod material;
mod matrix;
mod membrane;
mod multigrid;
mod pairs;
mod plasticity;
mod prediction;
mod pull_back;
mod received;
mod scales;
mod self_contact;
mod separating_planes;
mod sheet;
mod skin;
mod start;
mod state;
mod surface_points;
mod system;
mod tearing;
pub mod timers;
mod torn;
mod truncation;

use crate::colliders::{BodyState, Exchange, Impulse};
use crate::{BlowUp, PrepareContext, PrepareError, SavedPart, Solver, Step, Wants};
use body::DeformableBody;
use discretization::{Discretization, Part, ShownMesh};
use element_maps::ElementMaps;
use fit::{nodes_from_points, to_nodes};
use frames::{Bodies, Frame, MeshState, REST};
use geometry::topology::{Attribute, AttributeValues, Domain};
use geometry::{Mesh, MovingMesh, Topology};
use glam::{DVec3, Mat3, Quat, Vec3};
use holds::{Hold, OWN, PartHolds};
use lattice::LatticeError;
use material::Material;
use scales::{ScaledWeights, Scales};
use shot::{
    Element, Id, SurfaceQuantity, System,
    world::{Pose, World},
};
use state::State;
use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use timers::{Phase, timed};
use torn::{Cut, TornMesh};

/// Most nodes of all cloths and soft bodies of a shot, and most points of their surfaces.
const MAX_NODES: usize = 300_000;

/// Cloths and soft bodies of a shot.
struct Deformables {
    members: Vec<Member>,
    body: DeformableBody,
    /// The longest preroll of an element, s.
    preroll_s: f32,
}

/// An element.
struct Member {
    element: Id,
    name: String,
    shown: ShownMesh,
    /// The nodes of each pin whose nodes stay the same, in the whole element.
    pinned: Vec<Option<Vec<u32>>>,
    /// The maps that act on it.
    maps: Option<ElementMaps>,
    /// What is between its nodes, kept where something of the shot tears.
    discretization: Option<Discretization>,
    /// What is needed to tear it; none: it does not tear.
    tearing: Option<Tearing>,
    /// Mean length of its edges, m, and whether its mesh is closed.
    edge_m: f64,
    closed: bool,
}

/// What is needed to tear a sheet.
struct Tearing {
    /// The whole mesh of one copy.
    mesh: Mesh,
    /// The size of each copy.
    sizes: Vec<f32>,
    /// The face of the mesh that each triangle of a body is.
    face_of: Vec<u32>,
    /// The node of the whole element that each node was.
    origins: Vec<u32>,
}

impl Tearing {
    fn is_torn(&self) -> bool {
        (0..).zip(&self.origins).any(|(node, origin): (u32, &u32)| node != *origin)
    }
}

impl Member {
    /// The weights of a map at its nodes.
    fn at_nodes(&mut self, name: &str, element: &Element, step: &Step) -> Vec<f32> {
        let Some(maps) = self.maps.as_mut() else { return Vec::new() };
        let weights = maps.at_nodes(name, element, step);
        match &self.tearing {
            Some(of) if !weights.is_empty() => of.origins.iter().map(|i| weights[*i as usize]).collect(),
            _ => weights,
        }
    }

    /// Its nodes among those of a list of the whole element.
    fn now(&self, list: &[u32]) -> Vec<u32> {
        match &self.tearing {
            None => list.to_vec(),
            Some(of) => {
                let listed: HashSet<u32> = list.iter().copied().collect();
                let origins = (0..).zip(&of.origins);
                origins.filter(|(_, origin)| listed.contains(origin)).map(|(node, _)| node).collect()
            }
        }
    }
}

/// Makes the solver, if the system has a cloth or a soft body.
pub(crate) fn prepare(
    context: PrepareContext,
    system: &System,
) -> Result<Option<Box<dyn Solver>>, PrepareError> {
    let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
    let world = World::new(context.shot, context.sampler, f64::from(context.shot.timing.first), &unsolved);
    let (mut members, mut made): (Vec<Member>, Vec<Discretization>) = (Vec::new(), Vec::new());
    let (mut x, mut v, mut frames) = (Vec::new(), Vec::new(), Vec::new());
    let (mut nodes, mut points) = (0, 0);
    for element in system.elements.iter().filter_map(|id| context.shot.element(*id)) {
        let poses = world.placements(element);
        let most = MAX_NODES - nodes.max(points);
        let Some(Discretized { discretization, shown, edge_m, closed, maps, pinned, tearing }) =
            discretized(context, element, poses.len(), most)?
        else {
            continue;
        };
        let mut own_x = discretization.placed(&poses);
        let launch = element.as_solid().and_then(|solid| solid.body.launch_velocity).unwrap_or_default();
        let mut own_v = vec![launch.as_dvec3(); own_x.len()];
        begin(context, element.id, &discretization, &shown, &mut own_x, &mut own_v);
        (nodes, points) = (nodes + discretization.len(), points + discretization.embedding.len());
        made.push(discretization);
        let member = Member {
            element: element.id,
            name: element.name.clone(),
            shown,
            pinned,
            maps,
            discretization: None,
            tearing,
            edge_m,
            closed,
        };
        x.extend(own_x);
        v.extend(own_v);
        frames.push(holding_frames(&world, element));
        members.push(member);
    }
    if members.is_empty() {
        return Ok(None);
    }
    let (all, parts) = together(made.iter().zip(&members).map(|(made, of)| (made, of.edge_m, of.closed)));
    if members.iter().any(|member| member.tearing.is_some()) {
        members.iter_mut().zip(made).for_each(|(member, made)| member.discretization = Some(made));
    }
    let mut body = DeformableBody::new(all, parts, x, v);
    body.state.frames = frames;
    // What begins from a frame has come to it already.
    let preroll_s = match context.initial_state {
        Some(_) => 0.0,
        None => {
            let all = members.iter().filter_map(|member| context.shot.element(member.element));
            all.map(Element::preroll_s).fold(0.0, f32::max)
        }
    };
    Ok(Some(Box::new(Deformables { members, body, preroll_s })))
}

/// Several elements as one, and the part that each has; each with the mean length of its edges, m, and whether it is closed.
fn together<'a>(of: impl Iterator<Item = (&'a Discretization, f64, bool)>) -> (Discretization, Vec<Part>) {
    let (mut all, mut parts) = (Discretization::default(), Vec::new());
    for (discretization, edge_m, closed) in of {
        let (nodes, points, faces) = (all.len(), all.embedding.len(), all.faces.len());
        parts.push(Part {
            nodes: nodes..nodes + discretization.len(),
            points: points..points + discretization.embedding.len(),
            faces: faces..faces + discretization.faces.len(),
            first_body: all.bodies,
            edge_m,
            closed,
        });
        all.append(discretization);
    }
    (all, parts)
}

/// What an element is at rest, in all its copies.
struct Discretized {
    discretization: Discretization,
    shown: ShownMesh,
    /// Mean length of the edges, m.
    edge_m: f64,
    /// Whether its mesh is closed.
    closed: bool,
    maps: Option<ElementMaps>,
    /// The nodes of each pin whose nodes stay the same.
    pinned: Vec<Option<Vec<u32>>>,
    tearing: Option<Tearing>,
}

/// What an element is at rest, in so many copies; none if it does not deform. At most so many nodes and points.
fn discretized(
    context: PrepareContext,
    element: &Element,
    copies: usize,
    most: usize,
) -> Result<Option<Discretized>, PrepareError> {
    let too_much = |count: usize, of: &str, cure: &str| PrepareError::TooMuch {
        element: element.name.clone(),
        what: format!("{count} {of}; at most {most} here: give it longer {cure}"),
    };
    let missing = |source| PrepareError::Mesh { element: element.name.clone(), source };
    let Some(mesh) = context.meshes.deforming(element, most / copies.max(1)).map_err(missing)? else {
        return Ok(None);
    };
    let mesh =
        mesh.map_err(|each| too_much(each.saturating_mul(copies), "points of its surface", "edges"))?;
    let mut face_of = Vec::new();
    let (discretization, shown, edge_m) = match element.as_soft() {
        None => {
            let (sheet, shown, edge_m, faces) = sheet::torn_sheet(TornMesh::new(&mesh));
            face_of = faces;
            (sheet, shown, edge_m)
        }
        Some(soft) => lattice::lattice(&mesh, f64::from(soft.cell_m)).map_err(|error| match error {
            LatticeError::TooMany(cells) => too_much(cells, "cells", "cells"),
            LatticeError::NotClosed => PrepareError::Unfit {
                element: element.name.clone(),
                what: "it is open, so that it has no inside to fill; close its surface, or make it cloth"
                    .to_owned(),
            },
        })?,
    };
    for (count, of, cure) in [
        (discretization.len(), "nodes", "cells"),
        (discretization.embedding.len(), "points of its surface", "edges"),
    ] {
        if count.saturating_mul(copies) > most {
            return Err(too_much(count.saturating_mul(copies), of, cure));
        }
    }
    let maps = ElementMaps::new(element, &mesh, &discretization, context.meshes);
    let points = discretization.embedding.len();
    let shown = shown.times(copies, points);
    let closed = mesh.is_closed();
    let of_one = discretization.pinned(element.pins(), edge_m);
    let nodes = discretization.len() as u32;
    let pinned = of_one.into_iter().map(|of_one| {
        let of_one = of_one?;
        Some((0..copies as u32).flat_map(|copy| of_one.iter().map(move |p| p + copy * nodes)).collect())
    });
    let pinned = pinned.collect();
    let sizes: Vec<f32> = (0..copies).map(|copy| element.size_of(copy)).collect();
    let discretization = discretization.copies(sizes.iter().copied());
    let tears = element.as_cloth().is_some_and(|cloth| cloth.tear_strain.is_some())
        || element.channels.contains_key("kind.solid.cloth.tear_strain");
    let origins = (0..discretization.len() as u32).collect();
    let tearing = tears.then_some(Tearing { mesh, sizes, face_of, origins });
    Ok(Some(Discretized { discretization, shown, edge_m, closed, maps, pinned, tearing }))
}

/// Takes positions and velocities from the frame that the shot begins from, if that has the same mesh.
fn begin(
    context: PrepareContext,
    element: Id,
    discretization: &Discretization,
    shown: &ShownMesh,
    x: &mut [DVec3],
    v: &mut [DVec3],
) {
    let Some(initial) = context.initial_state else { return };
    let (Some(mesh), Some(bodies)) = (initial.frame.meshes.get(&element), initial.frame.bodies.get(&element))
    else {
        return;
    };
    if mesh.positions.len() != shown.point_of.len() || bodies.is_empty() {
        return;
    }
    let (position, orientation) = (bodies.positions[0], bodies.orientations[0]);
    let mut points = vec![(DVec3::ZERO, DVec3::ZERO); discretization.embedding.len()];
    for (vertex, &point) in shown.point_of.iter().enumerate() {
        let own = mesh.velocities.get(vertex).copied().unwrap_or_default();
        points[point as usize] = (
            (position + orientation * mesh.positions[vertex]).as_dvec3(),
            (bodies.velocities[0] + orientation * own).as_dvec3(),
        );
    }
    let (positions, velocities): (Vec<DVec3>, Vec<DVec3>) = points.into_iter().unzip();
    let (found, moving) = if discretization.cells.is_empty() {
        (to_nodes(discretization, &positions), to_nodes(discretization, &velocities))
    } else {
        (nodes_from_points(discretization, &positions), nodes_from_points(discretization, &velocities))
    };
    x.copy_from_slice(&found);
    match initial.velocities {
        true => v.copy_from_slice(&moving),
        false => v.fill(DVec3::ZERO),
    }
}

impl Deformables {
    /// What holds an element at the step's end: of a node in several pins, the first.
    fn holds(&mut self, index: usize, step: &Step, element: &Element) -> PartHolds {
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
        PartHolds { frames, before, copies, nodes, centre }
    }

    /// Parts what is stretched further than it bears.
    fn tear(&mut self, step: &Step) {
        if step.dt <= 0.0 || !self.members.iter().any(|member| member.tearing.is_some()) {
            return;
        }
        let mut cuts = self.body.state.cuts.clone();
        cuts.resize(self.body.discretization.bodies as usize, Vec::new());
        let (mut any, mut from_triangle) = (false, 0);
        let mut room = MAX_NODES.saturating_sub(self.body.discretization.len());
        for i in 0..self.members.len() {
            let own = self.members[i].discretization.as_ref().map_or(0, |of| of.triangles.len());
            let first_triangle = from_triangle;
            from_triangle += own;
            let element = step.shot.element(self.members[i].element);
            let Some(cloth) = element.and_then(Element::as_cloth) else { continue };
            let (Some(element), Some(strain)) = (element, cloth.tear_strain) else { continue };
            let weights = cloth.tear_map.as_ref().map(|map| self.members[i].at_nodes(map, element, step));
            let Some(tearing) = &self.members[i].tearing else { continue };
            let DeformableBody { discretization, parts, state, scales, .. } = &self.body;
            let part = &parts[i];
            let each = tearing.face_of.len();
            for (copy, nodes) in discretization.nodes_by_body(part).enumerate() {
                let start = nodes.start as u32;
                let of_body = first_triangle + copy * each..first_triangle + (copy + 1) * each;
                let local = |of: &membrane::Triangle| membrane::Triangle {
                    points: of.points.map(|p| p - start),
                    ..*of
                };
                let triangles: Vec<membrane::Triangle> =
                    discretization.triangles[of_body.clone()].iter().map(local).collect();
                let length = |i: usize| scales.triangles.get(of_body.start + i).map_or(1.0, |of| of.length);
                let limit = |node: u32| {
                    let at = nodes.start + node as usize;
                    let weight =
                        weights.as_ref().map_or(1.0, |weights| weights[at - part.nodes.start].max(0.0));
                    // What a pin holds stays whole, as the pin holds both parts.
                    if state.held[at].is_some() { f64::INFINITY } else { f64::from(strain / weight) }
                };
                for split in tearing::splits(&triangles, &state.x[nodes.clone()], length, limit) {
                    if room == 0 {
                        break;
                    }
                    room -= 1;
                    let faces = split.triangles.iter().map(|i| tearing.face_of[*i]).collect();
                    let body = part.first_body as usize + copy;
                    cuts[body].push(Cut { point: split.node, faces });
                    any = true;
                }
            }
        }
        if any {
            let before = std::mem::take(&mut self.body.state);
            let (nodes, points) =
                self.cut_open(cuts, &before.cuts).expect("cuts of the present meshes fit them");
            let state = before.with_more(&nodes, &points);
            let pressure = self.body.pressure.with_more(&points);
            let impulses = std::mem::take(&mut self.body.impulses);
            self.take_up(state);
            (self.body.pressure, self.body.impulses) = (pressure, impulses);
        }
    }

    /// Makes the members anew that have other cuts than `known`, and puts `cuts` into the state. For each node and each
    /// point, the one that it was; none if the cuts are not those of these meshes.
    fn cut_open(&mut self, cuts: Vec<Vec<Cut>>, known: &[Vec<Cut>]) -> Option<(Vec<u32>, Vec<u32>)> {
        let (mut nodes, mut points) = (Vec::new(), Vec::new());
        for (member, part) in self.members.iter_mut().zip(&self.body.parts) {
            let first = part.first_body as usize;
            let (Some(tearing), Some(_)) = (&mut member.tearing, cuts.get(first)) else {
                nodes.extend(part.nodes.start as u32..part.nodes.end as u32);
                points.extend(part.points.start as u32..part.points.end as u32);
                continue;
            };
            let whole = TornMesh::new(&tearing.mesh).origins.len() as u32;
            let (mut made, mut topologies, mut point_of) =
                (Discretization::default(), Vec::new(), Vec::new());
            tearing.origins.clear();
            let mut before = part.nodes.start as u32;
            for (copy, size) in tearing.sizes.iter().enumerate() {
                let own = cuts.get(first + copy)?;
                let torn = TornMesh::with_cuts(&tearing.mesh, own)?;
                tearing.origins.extend(torn.origins.iter().map(|p| p + copy as u32 * whole));
                // The nodes that were there before, and for each new one that of which it is a part.
                let had = known.get(first + copy).map_or(0, Vec::len);
                let mut from: Vec<u32> = (0..whole + had as u32).collect();
                for cut in own.get(had..)? {
                    from.push(*from.get(cut.point as usize)?);
                }
                nodes.extend(from.iter().map(|node| node + before));
                points.extend(
                    from.iter()
                        .map(|point| point + before - part.nodes.start as u32 + part.points.start as u32),
                );
                before += whole + had as u32;
                let offset = made.len() as u32;
                let (sheet, shown, _, _) = sheet::torn_sheet(torn);
                made.append(&sheet.copies(std::iter::once(*size)));
                point_of.extend(shown.point_of.iter().map(|p| p + offset));
                topologies.push(shown.topology);
            }
            let topology = match &topologies[..] {
                [only] => only.clone(),
                all => Arc::new(Topology::joined(&all.iter().map(|of| &**of).collect::<Vec<_>>())),
            };
            member.shown = ShownMesh { topology, point_of };
            member.discretization = Some(made);
        }
        self.body.state.cuts = cuts;
        Some((nodes, points))
    }

    /// Goes on with the members as they are, in a state; its cuts are those that the members have.
    fn take_up(&mut self, state: State) {
        let cuts = std::mem::take(&mut self.body.state.cuts);
        let of = |member: &'_ Member| -> Option<(Discretization, f64, bool)> {
            Some((member.discretization.clone()?, member.edge_m, member.closed))
        };
        let made: Vec<_> = self.members.iter().filter_map(of).collect();
        let (all, parts) = together(made.iter().map(|(made, edge_m, closed)| (made, *edge_m, *closed)));
        self.body = DeformableBody::new(all, parts, state.x.clone(), state.v.clone());
        self.body.state = State { cuts, ..state };
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
                inverse_mass: 0.0,
                inverse_inertia: Mat3::ZERO,
                still: false,
                friction: solid.body.friction,
                restitution: solid.body.restitution,
            });
        }
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
