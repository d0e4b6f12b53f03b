//! The points of all surfaces: which contacts they have in a step, and what these give back.

use super::active_contacts::Spring;
use super::blocks::CHUNK;
use super::contact::{ContactProperties, Contacts, PointContact};
use super::crossing::Crossing;
use super::discretization::{Discretization, Part};
use super::embedding::Embedding;
use super::material::Material;
use super::pair::Pair;
use super::pairs::PairSearch;
use super::self_contact::{STICKS_UP_TO, SelfContact};
use super::separating_planes::Wall;
use super::tangle::Tangle;
use glam::DVec3;
use rayon::prelude::*;

/// Passes in which points within solids are moved out.
const WAYS_OUT: u32 = 4;
/// Marks a node that is no point.
const NO_POINT: u32 = u32::MAX;

/// Pairs that come closer than `reach` when the points go to `to`.
pub(super) struct NearPairs {
    pairs: Vec<Pair>,
    to: Vec<DVec3>,
    reach: f32,
}

/// The points of all surfaces.
pub(super) struct SurfacePoints {
    /// The part and the body of each point.
    part_of: Vec<u16>,
    body_of: Vec<u32>,
    /// Where the points lie at rest, m, and the area around each, m².
    at_rest: Vec<DVec3>,
    areas: Vec<f64>,
    /// The point that a node is; [`NO_POINT`]: it only carries points.
    point_of_node: Vec<u32>,
    /// Whether some points are sums of nodes.
    any_embedded: bool,
    pairs: PairSearch,
}

impl SurfacePoints {
    /// Of nodes at `x`.
    pub fn new(discretization: &Discretization, parts: &[Part], x: &[DVec3]) -> Self {
        let Discretization { embedding, rest, faces, cells, .. } = discretization;
        let mut part_of = vec![0u16; embedding.len()];
        parts.iter().zip(0..).for_each(|(part, i)| part_of[part.points.clone()].fill(i));
        let mut point_of_node = vec![NO_POINT; rest.len()];
        let mut body_of = vec![0; embedding.len()];
        for point in 0..embedding.len() as u32 {
            if let Some(node) = embedding.node(point) {
                point_of_node[node as usize] = point;
            }
            body_of[point as usize] = discretization.body_of_point(point);
        }
        let at_rest = embedding.all(rest);
        let mut areas = vec![0.0; at_rest.len()];
        for face in faces {
            let [a, b, c] = face.map(|p| at_rest[p as usize]);
            let third = (b - a).cross(c - a).length() / 6.0;
            face.iter().for_each(|p| areas[*p as usize] += third);
        }
        Self {
            pairs: PairSearch::new(faces, &embedding.all(x), &at_rest),
            part_of,
            body_of,
            at_rest,
            areas,
            point_of_node,
            any_embedded: !cells.is_empty(),
        }
    }

    /// What each point is like in contact.
    pub fn properties(&self, materials: &[Material], embedding: &Embedding) -> Vec<ContactProperties> {
        let of = |(point, part): (u32, &u16)| {
            let Material { thickness, friction, pushes, adhesion_pa, .. } = materials[*part as usize];
            let adhesion = f64::from(adhesion_pa) * self.areas[point as usize];
            let embedded = embedding.node(point).is_none();
            ContactProperties { thickness, friction, embedded, pushes, adhesion }
        };
        (0..).zip(&self.part_of).map(of).collect()
    }

    /// Area around each point at rest, m².
    pub fn areas(&self) -> &[f64] {
        &self.areas
    }

    /// The point that a node is, if it is one.
    pub fn point_of_node(&self, node: usize) -> Option<usize> {
        let point = self.point_of_node[node];
        (point != NO_POINT).then_some(point as usize)
    }

    /// Moves the nodes that are points to these.
    pub fn take_points(&self, points: &[DVec3], x: &mut [DVec3]) {
        let each = x.par_iter_mut().zip(&self.point_of_node).with_min_len(CHUNK);
        each.for_each(|(x, point)| {
            if *point != NO_POINT {
                *x = points[*point as usize];
            }
        });
    }

    /// Adds the springs of the contacts with solids of points that are sums of nodes.
    pub fn add_springs(
        &self,
        contacts: &[Contacts],
        properties: &[ContactProperties],
        points: &[DVec3],
        into: &mut Vec<Spring>,
    ) {
        for (point, contacts) in contacts.iter().enumerate().filter(|(point, _)| properties[*point].embedded)
        {
            let spring = |contact: &PointContact| {
                contact.spring(point as u32, f64::from(properties[point].thickness), points[point])
            };
            into.extend(contacts.iter().flatten().filter_map(spring));
        }
    }

    /// Moves nodes so that points that are sums of them come out of solids.
    pub fn move_out(
        &self,
        embedding: &Embedding,
        contacts: &[Contacts],
        properties: &[ContactProperties],
        held: &[bool],
        x: &mut [DVec3],
    ) {
        for _ in 0..WAYS_OUT {
            let mut moved = false;
            for point in (0..properties.len()).filter(|point| properties[*point].embedded) {
                for contact in contacts[point].iter().flatten() {
                    let at = embedding.at(point as u32, x);
                    let way = contact.way_out(f64::from(properties[point].thickness), at);
                    if way != DVec3::ZERO {
                        embedding.move_point(point as u32, way, held, x, |_| moved = true);
                    }
                }
            }
            if !moved {
                break;
            }
        }
    }

    /// The pairs that come closer than the thickness of `materials` in a step of the points from `from`, which go about to `to`.
    pub fn near_pairs(
        &mut self,
        embedding: &Embedding,
        from: &[DVec3],
        to: &[DVec3],
        materials: &[Material],
    ) -> Option<NearPairs> {
        let further = if materials.iter().any(|of| of.adhesion_pa > 0.0) { STICKS_UP_TO as f32 } else { 0.0 };
        let reach = materials.iter().map(|of| of.thickness * (1.0 + further)).fold(0.0, f32::max);
        let pairs = self.pairs_within(embedding, from, to, None, reach)?;
        Some(NearPairs { pairs, to: to.to_vec(), reach })
    }

    /// Those of the pairs that may touch.
    pub fn self_contacts(
        &self,
        near: &NearPairs,
        from: &[DVec3],
        materials: &[Material],
        inertia: &[f64],
        dt: f64,
    ) -> Vec<SelfContact> {
        let NearPairs { pairs, to, .. } = near;
        let Self { at_rest, body_of, part_of, .. } = self;
        let of = |pair: &Pair| {
            let points = pair.points();
            let (first, second) = points.split_at(pair.first());
            let [one, two] = [first[0], second[0]].map(|p| &materials[part_of[p as usize] as usize]);
            let thickness = 0.5 * f64::from(one.thickness + two.thickness);
            let path = |p: &u32| to[*p as usize] - from[*p as usize];
            let apart = first.iter().flat_map(|a| second.iter().map(move |b| (path(a) - path(b)).length()));
            // A point bears half of what holds the area around it; those of the other side bear the rest.
            let adhesion = match pair {
                Pair::PointTriangle([point, ..]) => {
                    0.5 * f64::from(one.adhesion_pa.max(two.adhesion_pa)) * self.areas[*point as usize]
                }
                Pair::Edges(_) => 0.0,
            };
            let further = if adhesion > 0.0 { STICKS_UP_TO * thickness } else { 0.0 };
            if pair.nearest(from).1.length() > thickness + further + apart.fold(0.0, f64::max) {
                return None;
            }
            let friction = f64::from(shot::pair_coefficient(one.friction, two.friction));
            let same = body_of[first[0] as usize] == body_of[second[0] as usize];
            let rest = same.then(|| pair.nearest(at_rest).1.length());
            SelfContact::new(*pair, from, thickness, friction, adhesion, rest, inertia, dt)
        };
        pairs.par_iter().with_min_len(64).filter_map(of).collect()
    }

    /// The pairs that come closer than `least` in the step while the points go to `to`, and perhaps others: those of `near` between
    /// points that go about where they were expected then, and those of all other points, which are searched for.
    pub fn pairs_on_the_way(
        &mut self,
        embedding: &Embedding,
        near: NearPairs,
        from: &[DVec3],
        to: &[DVec3],
        least: f32,
    ) -> Option<Vec<Pair>> {
        let strayed = self.pairs.strayed(&near.to, to, 0.5 * f64::from(near.reach - least));
        let mut pairs = near.pairs;
        if !strayed.contains(&true) {
            return Some(pairs);
        }
        pairs.retain(|pair| !pair.points().iter().any(|p| strayed[*p as usize]));
        pairs.extend(self.pairs_within(embedding, from, to, Some(&strayed), least)?);
        Some(pairs)
    }

    /// What crosses with the points at `x`.
    pub fn tangle(&mut self, embedding: &Embedding, x: &[DVec3]) -> Tangle {
        Tangle::new(self.crossings(embedding, x, None), self.pairs.faces(), x)
    }

    /// The edges and faces that cross with the points at `x`, but for those that a common node carries; with `wanted` only near
    /// points that are wanted.
    pub fn crossings(
        &mut self,
        embedding: &Embedding,
        x: &[DVec3],
        wanted: Option<&[bool]>,
    ) -> Vec<Crossing> {
        let mut crossings = self.pairs.crossings(x, wanted);
        if self.any_embedded {
            crossings.retain(|of| !embedding.share_nodes(&of.edge, &of.face));
        }
        crossings
    }

    /// Pairs that may come close, as of [`PairSearch::find`]. Features that a common node carries are left out: the cells between
    /// them keep them apart.
    pub fn pairs_within(
        &mut self,
        embedding: &Embedding,
        from: &[DVec3],
        to: &[DVec3],
        wanted: Option<&[bool]>,
        reach: f32,
    ) -> Option<Vec<Pair>> {
        let mut pairs = self.pairs.find(from, to, wanted, reach)?;
        if self.any_embedded {
            pairs.retain(|pair| {
                let points = pair.points();
                let (first, second) = points.split_at(pair.first());
                !embedding.share_nodes(first, second)
            });
        }
        Some(pairs)
    }
}

/// The planes of the contacts with solids, for points that start from `x_n`.
pub(super) fn walls(contacts: &[Contacts], properties: &[ContactProperties], x_n: &[DVec3]) -> Vec<Wall> {
    let of = |(point, contacts): (usize, &Contacts)| {
        let thickness = f64::from(properties[point].thickness);
        contacts.map(|contact| contact?.wall(point as u32, thickness, x_n[point]))
    };
    contacts.iter().enumerate().flat_map(of).flatten().collect()
}
