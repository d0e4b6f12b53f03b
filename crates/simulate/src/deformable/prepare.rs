//! The solver of a shot: its cloths and soft bodies at rest, and where they begin.

use super::body::DeformableBody;
use super::discretization::{Discretization, Part, ShownMesh};
use super::element_maps::ElementMaps;
use super::fit::{nodes_from_points, to_nodes};
use super::lattice::{self, LatticeError};
use super::member::{Member, Tearing};
use super::sheet;
use super::torn::TornMesh;
use super::{Deformables, MAX_NODES, holding_frames};
use crate::{PrepareContext, PrepareError, Solver};
use glam::DVec3;
use shot::{
    Element, Id, System,
    world::{Pose, World},
};

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
    Ok(Some(Box::new(Deformables { members, body, preroll_s, response: None })))
}

/// Several elements as one, and the part that each has; each with the mean length of its edges, m, and whether it is closed.
pub(super) fn together<'a>(
    of: impl Iterator<Item = (&'a Discretization, f64, bool)>,
) -> (Discretization, Vec<Part>) {
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
pub(super) struct Discretized {
    pub discretization: Discretization,
    shown: ShownMesh,
    /// Mean length of the edges, m.
    pub edge_m: f64,
    /// Whether its mesh is closed.
    pub closed: bool,
    maps: Option<ElementMaps>,
    /// The nodes of each pin whose nodes stay the same.
    pub pinned: Vec<Option<Vec<u32>>>,
    tearing: Option<Tearing>,
}

/// What an element is at rest, in so many copies; none if it does not deform. At most so many nodes and points.
pub(super) fn discretized(
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
