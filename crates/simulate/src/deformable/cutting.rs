//! Cloths that tear: where they are parted in a step, and the solver with the parts.

use super::body::DeformableBody;
use super::discretization::{Discretization, ShownMesh};
use super::member::Member;
use super::membrane::Triangle;
use super::prepare::together;
use super::sheet;
use super::state::State;
use super::tearing;
use super::torn::{Cut, TornMesh};
use super::{Deformables, MAX_NODES};
use crate::Step;
use geometry::Topology;
use shot::Element;
use std::sync::Arc;

/// For each node and each point, the one that it was.
pub(super) type Origins = (Vec<u32>, Vec<u32>);

impl Deformables {
    /// Parts what is stretched further than it bears.
    pub(super) fn tear(&mut self, step: &Step) {
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
                let local = |of: &Triangle| Triangle { points: of.points.map(|p| p - start), ..*of };
                let triangles: Vec<Triangle> =
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
            let mut before = std::mem::take(&mut self.body.state);
            // The matrices of this step are gone, so that liquids cannot give a new load.
            before.load = std::mem::take(&mut self.body.load);
            let (nodes, points) =
                self.cut_open(cuts, &before.cuts).expect("cuts of the present meshes fit them");
            let state = before.with_more(&nodes, &points);
            let pressure = self.body.pressure.with_more(&points);
            let impulses = std::mem::take(&mut self.body.impulses);
            let densities = std::mem::take(&mut self.body.densities);
            let fixed = nodes.iter().map(|node| self.body.fixed[*node as usize]).collect();
            self.take_up(state);
            // What others give in this step still comes.
            (self.body.densities, self.body.fixed) = (densities, fixed);
            (self.body.pressure, self.body.impulses) = (pressure, impulses);
        }
    }

    /// Makes the members anew that have other cuts than `known`, and puts `cuts` into the state. For each node and each
    /// point, the one that it was; none if the cuts are not those of these meshes.
    pub(super) fn cut_open(&mut self, cuts: Vec<Vec<Cut>>, known: &[Vec<Cut>]) -> Option<Origins> {
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
    pub(super) fn take_up(&mut self, state: State) {
        let cuts = std::mem::take(&mut self.body.state.cuts);
        let of = |member: &Member| -> Option<(Discretization, f64, bool)> {
            Some((member.discretization.clone()?, member.edge_m, member.closed))
        };
        let made: Vec<_> = self.members.iter().filter_map(of).collect();
        let (all, parts) = together(made.iter().map(|(made, edge_m, closed)| (made, *edge_m, *closed)));
        self.body = DeformableBody::new(all, parts, state.x.clone(), state.v.clone());
        self.body.state = State { cuts, ..state };
    }
}
