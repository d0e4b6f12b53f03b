//! Contacts of a step: which there are, what holds in them, and what they give back.

use super::{DeformableBody, NO_POINT, Substance};
use crate::colliders::Impulse;
use crate::deformable::active_contacts::Spring;
use crate::deformable::blocks::CHUNK;
use crate::deformable::contact::{Contacts, PointContact, Skin};
use crate::deformable::pairs::Pair;
use crate::deformable::prediction::Prediction;
use crate::deformable::self_contact::SelfContact;
use crate::deformable::truncation::Wall;
use glam::{DVec3, Vec3};
use rayon::prelude::*;

/// Passes in which points within solids are moved out.
const WAYS_OUT: u32 = 4;

impl DeformableBody {
    /// What each point is like in contact.
    pub(super) fn skins(&self, substances: &[Substance]) -> Vec<Skin> {
        let of = |(point, part): (u32, &u16)| {
            let Substance { thickness, friction, pushes, .. } = substances[*part as usize];
            Skin { thickness, friction, embedded: self.piece.embedding.node(point).is_none(), pushes }
        };
        (0..).zip(&self.part_of_point).map(of).collect()
    }

    /// Moves the nodes that are points to these.
    pub(super) fn take_points(&self, points: &[DVec3], x: &mut [DVec3]) {
        let each = x.par_iter_mut().zip(&self.point_of_node).with_min_len(CHUNK);
        each.for_each(|(x, point)| {
            if *point != NO_POINT {
                *x = points[*point as usize];
            }
        });
    }

    /// Adds the springs of the contacts with solids of points that are sums of nodes.
    pub(super) fn add_springs(
        &self,
        contacts: &[Contacts],
        skins: &[Skin],
        points: &[DVec3],
        into: &mut Vec<Spring>,
    ) {
        for (point, contacts) in contacts.iter().enumerate().filter(|(point, _)| skins[*point].embedded) {
            let spring = |contact: &PointContact| {
                contact.spring(point as u32, f64::from(skins[point].thickness), points[point])
            };
            into.extend(contacts.iter().flatten().filter_map(spring));
        }
    }

    /// Moves nodes so that points that are sums of them come out of solids.
    pub(super) fn move_out(&self, contacts: &[Contacts], skins: &[Skin], held: &[bool], x: &mut [DVec3]) {
        let embedding = &self.piece.embedding;
        for _ in 0..WAYS_OUT {
            let mut moved = false;
            for point in (0..skins.len()).filter(|point| skins[*point].embedded) {
                for contact in contacts[point].iter().flatten() {
                    let at = embedding.at(point as u32, x);
                    let way = contact.way_out(f64::from(skins[point].thickness), at);
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

    /// Pairs that may touch in a step of the points from `from`, which go about to `to`.
    pub(super) fn near_pairs(
        &mut self,
        from: &[DVec3],
        to: &[DVec3],
        substances: &[Substance],
        inertia: &[f64],
        dt: f64,
    ) -> Option<Vec<SelfContact>> {
        let thickest = substances.iter().map(|of| of.thickness).fold(0.0, f32::max);
        let pairs = self.pairs_within(from, to, thickest)?;
        let Self { points_at_rest, body_of_point, part_of_point, .. } = self;
        let of = |pair: &Pair| {
            let points = pair.points();
            let (first, second) = points.split_at(pair.first());
            let [one, two] = [first[0], second[0]].map(|p| &substances[part_of_point[p as usize] as usize]);
            let thickness = 0.5 * f64::from(one.thickness + two.thickness);
            let path = |p: &u32| to[*p as usize] - from[*p as usize];
            let apart = first.iter().flat_map(|a| second.iter().map(move |b| (path(a) - path(b)).length()));
            let reach = thickness + apart.fold(0.0, f64::max);
            if pair.nearest(from).1.length() > reach {
                return None;
            }
            let friction = f64::from(shot::pair_coefficient(one.friction, two.friction));
            let same = body_of_point[first[0] as usize] == body_of_point[second[0] as usize];
            let rest = same.then(|| pair.nearest(points_at_rest).1.length());
            SelfContact::new(*pair, from, thickness, friction, rest, inertia, dt)
        };
        Some(pairs.par_iter().with_min_len(64).filter_map(of).collect())
    }

    /// Pairs that may come close, as of [`PairSearch::find`]. Features that a common node carries are left out: the cells between
    /// them keep them apart.
    pub(super) fn pairs_within(&mut self, from: &[DVec3], to: &[DVec3], reach: f32) -> Option<Vec<Pair>> {
        let mut pairs = self.pairs.find(from, to, reach)?;
        if !self.piece.cells.is_empty() {
            pairs.retain(|pair| {
                let points = pair.points();
                let (first, second) = points.split_at(pair.first());
                !self.piece.embedding.share_nodes(first, second)
            });
        }
        Some(pairs)
    }

    /// Whether each part has a contact with another part, or with a solid that does not give way.
    pub(super) fn meets_others(
        &self,
        near: &[SelfContact],
        contacts: &[Contacts],
        skins: &[Skin],
        points: &[DVec3],
    ) -> Vec<bool> {
        let mut meets = vec![false; self.parts.len()];
        let part_of = |point: u32| self.part_of_point[point as usize];
        for contact in near {
            let of = contact.points().map(part_of);
            if of.iter().any(|part| *part != of[0]) {
                of.iter().for_each(|part| meets[*part as usize] = true);
            }
        }
        for (point, contacts) in contacts.iter().enumerate() {
            let thickness = f64::from(skins[point].thickness);
            let firm =
                |contact: &PointContact| !contact.gives_way() && contact.state(thickness, points[point]).0;
            meets[self.part_of_point[point] as usize] |= contacts.iter().flatten().any(firm);
        }
        meets
    }

    /// The impulses on solids, so that momentum is kept: the solution is not exact, and the truncation moves points. Of a part
    /// that meets nothing else and is not held, the change of momentum that the springs do not account for is shared
    /// out among them.
    pub(super) fn balanced(
        &self,
        impulses: Vec<(u32, Impulse)>,
        prediction: &Prediction,
        v_n: &[DVec3],
        x: &[DVec3],
        held: &[bool],
        meets_others: &[bool],
    ) -> Vec<Impulse> {
        let mut sums = vec![(DVec3::ZERO, 0.0f64); self.parts.len()];
        for (point, impulse) in &impulses {
            let (sum, count) = &mut sums[self.part_of_point[*point as usize] as usize];
            (*sum, *count) = (*sum + impulse.impulse.as_dvec3(), *count + 1.0);
        }
        let rest = |(i, (sum, count)): (usize, &(DVec3, f64))| {
            let nodes = self.parts[i].nodes.clone();
            if *count == 0.0 || meets_others[i] || held[nodes.clone()].contains(&true) {
                return Vec3::ZERO;
            }
            let force =
                nodes.fold(DVec3::ZERO, |sum, node| sum + prediction.unbalanced(node, x[node], v_n[node]));
            ((-force * prediction.dt - *sum) / *count).as_vec3()
        };
        let rests: Vec<Vec3> = sums.iter().enumerate().map(rest).collect();
        let balanced = |(point, of): (u32, Impulse)| {
            let rest = rests[self.part_of_point[point as usize] as usize];
            Impulse { impulse: of.impulse + rest, ..of }
        };
        impulses.into_iter().map(balanced).collect()
    }
}

/// The planes of the contacts with solids, for points that start from `x_n`.
pub(super) fn walls(contacts: &[Contacts], skins: &[Skin], x_n: &[DVec3]) -> Vec<Wall> {
    let of = |(point, contacts): (usize, &Contacts)| {
        let thickness = f64::from(skins[point].thickness);
        contacts.map(|contact| contact?.wall(point as u32, thickness, x_n[point]))
    };
    contacts.iter().enumerate().flat_map(of).flatten().collect()
}
