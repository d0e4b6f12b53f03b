//! What is likely wrong with where cloths and soft bodies begin: they cross each other or solids, or lie closer than they are
//! thick.

use super::MAX_NODES;
use super::crossing::Crossing;
use super::discretization::{Discretization, Part};
use super::pair::Pair;
use super::prepare::{discretized, together};
use super::surface_points::SurfacePoints;
use crate::PrepareContext;
use geometry::{Bounds, Bvh, Meshes};
use glam::{DVec3, Vec3};
use shot::check::{Entry, Mistake};
use shot::motion::Sampler;
use shot::world::{Pose, World};
use shot::{Element, Id, Moves, Pin, PinnedPart, Shot, Weight};
use std::collections::BTreeMap;

/// Most points of all surfaces that are looked at.
const MAX_POINTS: usize = 60_000;
/// Ratio of the masses of a cloth or soft body and of a free solid from which the Check list warns.
const MOST_MASS_RATIO: f64 = 1_000.0;
/// Part of its thickness below which the distance of two bodies counts as too small.
const TOO_CLOSE: f64 = 0.5;

/// Where all begins.
struct Start<'a> {
    elements: Vec<&'a Element>,
    all: Discretization,
    parts: Vec<Part>,
    /// The points of the surfaces, m.
    points: Vec<DVec3>,
    surface: SurfacePoints,
    /// Of each point whether a pin holds it, as far as pins tell before it is computed.
    held: Vec<bool>,
}

impl<'a> Start<'a> {
    /// None: nothing deforms. What has too many points is left out.
    fn new(context: PrepareContext<'a>, world: &World) -> Option<Self> {
        let (mut elements, mut made, mut x) = (Vec::new(), Vec::new(), Vec::new());
        let (mut points, mut held_nodes) = (0, Vec::new());
        for element in context.shot.elements.iter().filter(|element| element.deforms()) {
            let poses = world.placements(element);
            let Ok(Some(of)) = discretized(context, element, poses.len(), MAX_POINTS - points) else {
                continue;
            };
            points += of.discretization.embedding.len();
            x.extend(of.discretization.placed(&poses));
            let mut held = vec![element.pins().iter().any(may_hold_any); of.discretization.len()];
            of.pinned.iter().flatten().flatten().for_each(|node| held[*node as usize] = true);
            held_nodes.extend(held);
            elements.push(element);
            made.push((of.discretization, of.edge_m, of.closed));
        }
        let (all, parts) = together(made.iter().map(|(of, edge_m, closed)| (of, *edge_m, *closed)));
        let points = all.embedding.all(&x);
        let surface = SurfacePoints::new(&all, &parts, &x);
        let held = (0..points.len() as u32).map(|p| all.embedding.is_held(p, &held_nodes)).collect();
        (!elements.is_empty()).then_some(Self { elements, all, parts, points, surface, held })
    }

    /// Two points of different bodies that are closer than a distance, each with the distance of the features that they belong to.
    fn gaps(&mut self, reach: f32) -> Vec<(u32, u32, f64)> {
        let found = self.surface.pairs_within(&self.all.embedding, &self.points, &self.points, None, reach);
        let gap = |pair: &Pair| {
            let points = pair.points();
            let (one, two) = (points[0], points[pair.first()]);
            let apart = self.all.body_of_point(one) != self.all.body_of_point(two);
            apart.then(|| (one, two, pair.nearest(&self.points).1.length()))
        };
        found.unwrap_or_default().iter().filter_map(gap).filter(|(_, _, gap)| *gap > 0.0).collect()
    }

    /// The greatest thickness, m.
    fn thickest(&self) -> f64 {
        self.elements.iter().map(|element| thickness(element)).fold(0.0, f64::max)
    }

    /// The element of a point.
    fn of_point(&self, point: u32) -> &'a Element {
        let part = self.parts.iter().position(|part| part.points.contains(&(point as usize)));
        self.elements[part.unwrap_or_default()]
    }
}

/// Whether a pin may hold any point.
fn may_hold_any(pin: &Pin) -> bool {
    matches!(pin.part, PinnedPart::Map(_) | PinnedPart::Region(_))
}

/// The entries of the Check list for where cloths and soft bodies of a shot begin.
pub(super) fn check_start(now: &Shot, sampler: &Sampler, meshes: &Meshes) -> Vec<Entry> {
    let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
    let world = World::new(now, sampler, f64::from(now.timing.first), &unsolved);
    let context = PrepareContext { shot: now, sampler, meshes, initial_state: None };
    let mut entries = mass_ratios(now, meshes);
    if now.initial_state.is_some() {
        // What begins from a frame has come to it.
        return entries;
    }
    let Some(mut start) = Start::new(context, &world) else { return entries };
    let found = start.surface.crossings(&start.all.embedding, &start.points, None);
    let apart = found.is_empty();
    entries.extend(crossings(&start, found));
    entries.extend(within_solids(&start, now, meshes, &world));
    if apart {
        entries.extend(too_close(&mut start));
    }
    entries
}

/// Cloths and soft bodies that cross themselves or each other.
fn crossings(start: &Start, found: Vec<Crossing>) -> Vec<Entry> {
    let mut counts: BTreeMap<[Id; 2], (usize, [&Element; 2])> = BTreeMap::new();
    for Crossing { edge, face } in found {
        let mut pair = [start.of_point(edge[0]), start.of_point(face[0])];
        pair.sort_by_key(|element| element.id);
        counts.entry(pair.map(|element| element.id)).or_insert((0, pair)).0 += 1;
    }
    let entry = |(count, [one, two]): (usize, [&Element; 2])| {
        if one.preroll_s().max(two.preroll_s()) > 0.0 {
            return None;
        }
        let (whom, elements) = match one.id == two.id {
            true => ("itself".to_owned(), vec![one.id]),
            false => (two.name.clone(), vec![one.id, two.id]),
        };
        let reason = format!(
            "{} crosses {whom} at {count} edges at the start; from then on they are drawn apart, which is seen.",
            one.name
        );
        let fix = Some("Draw apart before the first frame".to_owned());
        Some(Entry { mistake: Mistake::CrossesAtStart, elements, reason, fix })
    };
    counts.into_values().filter_map(entry).collect()
}

/// Cloths and soft bodies whose edges cross the surface of a solid, other than where they are tied to it.
fn within_solids(start: &Start, now: &Shot, meshes: &Meshes, world: &World) -> Vec<Entry> {
    let mut entries = Vec::new();
    for (element, part) in start.elements.iter().zip(&start.parts) {
        let faces = &start.all.faces[part.faces.clone()];
        let bounds = start.points[part.points.clone()].iter().fold(Bounds::EMPTY, |b, p| b.with(p.as_vec3()));
        for (solid, of) in now.solids().filter(|(solid, _)| !solid.deforms()) {
            let Ok(mesh) = meshes.mesh(&of.shape) else { continue };
            let crosses =
                world.placements(solid).iter().enumerate().any(|(copy, (position, orientation))| {
                    let size = solid.size_of(copy);
                    let placed: Vec<Vec3> =
                        mesh.positions.iter().map(|p| *position + *orientation * (*p * size)).collect();
                    let around = placed.iter().fold(Bounds::EMPTY, |b, p| b.with(*p));
                    if around.min.cmpgt(bounds.max).any() || around.max.cmplt(bounds.min).any() {
                        return false;
                    }
                    crosses(&start.points, &start.held, faces, &placed, &mesh.triangles)
                });
            if crosses {
                let reason =
                    format!("{} begins partly within {}, and jumps out of it.", element.name, solid.name);
                let fix = Some("Put it on top".to_owned());
                let elements = vec![element.id, solid.id];
                entries.push(Entry { mistake: Mistake::StartsInSolid, elements, reason, fix });
            }
        }
    }
    entries
}

/// Whether an edge of faces between points of which none is held crosses a triangle.
fn crosses(
    points: &[DVec3],
    held: &[bool],
    faces: &[[u32; 3]],
    placed: &[Vec3],
    triangles: &[[u32; 3]],
) -> bool {
    let bvh = Bvh::build(placed, triangles);
    let first = points.len() as u32;
    let mut all = points.to_vec();
    all.extend(placed.iter().map(|p| p.as_dvec3()));
    faces.iter().any(|[a, b, c]| {
        let free = |p: &u32| !held[*p as usize];
        let edges = [[*a, *b], [*b, *c], [*c, *a]].into_iter().filter(|[p, q]| p < q);
        edges.filter(|edge| edge.iter().all(free)).any(|edge| {
            let of = |p: u32| points[p as usize].as_vec3();
            let bounds = Bounds::EMPTY.with(of(edge[0])).with(of(edge[1]));
            let mut found = false;
            bvh.overlapping(&bounds, |triangle| {
                let face = triangles[triangle as usize].map(|v| v + first);
                found |= Crossing { edge, face }.weights(&all).is_some();
            });
            found
        })
    })
}

/// Bodies that lie closer to each other than they are thick.
fn too_close(start: &mut Start) -> Vec<Entry> {
    let reach = (TOO_CLOSE * start.thickest()) as f32;
    let mut nearest: BTreeMap<Id, (f64, &Element, &Element)> = BTreeMap::new();
    for (one, two, gap) in start.gaps(reach) {
        let (a, b) = (start.of_point(one), start.of_point(two));
        let thick = 0.5 * (thickness(a) + thickness(b));
        if gap < TOO_CLOSE * thick {
            let thicker = if thickness(a) >= thickness(b) { (a, b) } else { (b, a) };
            let known = nearest.entry(thicker.0.id).or_insert((gap, thicker.0, thicker.1));
            known.0 = known.0.min(gap);
        }
    }
    let entry = |(gap, one, two): (f64, &Element, &Element)| {
        let other = if one.id == two.id { "another copy of it" } else { two.name.as_str() };
        let reason = format!(
            "{} is {:.1} mm thick but lies {:.1} mm from {other} at the start: they are pushed apart.",
            one.name,
            1e3 * thickness(one),
            1e3 * gap
        );
        let elements = if one.id == two.id { vec![one.id] } else { vec![one.id, two.id] };
        Entry { mistake: Mistake::TooClose, elements, reason, fix: Some("Thinner".to_owned()) }
    };
    nearest.into_values().map(entry).collect()
}

/// The least distance between bodies of an element and others at the start, m; none: they are as far apart as they are thick.
pub fn gap_at_start(shot: &Shot, meshes: &Meshes, element: Id) -> Option<f32> {
    let sampler = Sampler::new(shot).ok()?;
    let now = sampler.at(f64::from(shot.timing.first)).ok()?;
    let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
    let world = World::new(&now, &sampler, f64::from(now.timing.first), &unsolved);
    let context = PrepareContext { shot: &now, sampler: &sampler, meshes, initial_state: None };
    let mut start = Start::new(context, &world)?;
    let reach = start.thickest() as f32;
    let gaps = start.gaps(reach).into_iter();
    let own =
        gaps.filter(|(one, two, _)| [one, two].iter().any(|point| start.of_point(**point).id == element));
    let least = own.map(|(_, _, gap)| gap).fold(f64::INFINITY, f64::min);
    least.is_finite().then_some(least as f32)
}

fn thickness(element: &Element) -> f64 {
    let of_soft = || element.as_soft().map_or(0.0, |soft| soft.thickness_m);
    f64::from(element.as_cloth().map_or_else(of_soft, |cloth| cloth.thickness_m))
}

/// Free solids that are very much heavier or lighter than what they are pushed by.
fn mass_ratios(now: &Shot, meshes: &Meshes) -> Vec<Entry> {
    let mass_of_solid = |element: &Element| {
        let solid = element.as_solid()?;
        let mesh = meshes.mesh(&solid.shape).ok()?;
        Some(f64::from(match solid.body.weight {
            Weight::MassKg(mass) => mass,
            Weight::DensityKgM3(density) => density * geometry::mass_of(&mesh).volume,
        }))
    };
    let free =
        || now.solids().filter(|(element, solid)| !element.deforms() && solid.body.moves == Moves::Free);
    let mut entries = Vec::new();
    for element in now.elements.iter().filter(|element| element.deforms() && element.pushes_solids()) {
        let Ok(Some(Ok(mesh))) = meshes.deforming(element, MAX_NODES) else { continue };
        let mass = match (element.as_cloth(), element.as_soft()) {
            (Some(cloth), _) => f64::from(cloth.mass_kg_m2 * mesh.area()),
            (_, Some(soft)) => f64::from(soft.density_kg_m3 * geometry::mass_of(&mesh).volume),
            _ => continue,
        };
        for (solid, _) in free() {
            let Some(other) = mass_of_solid(solid) else { continue };
            let ratio = (mass / other).max(other / mass);
            if ratio > MOST_MASS_RATIO && ratio.is_finite() {
                let reason = format!(
                    "{} weighs {mass:.3} kg and {} {other:.3} kg: at {ratio:.0} to 1 their contact needs short steps.",
                    element.name, solid.name
                );
                let (elements, fix) = (vec![element.id, solid.id], Some("Double the substeps".to_owned()));
                entries.push(Entry { mistake: Mistake::MassRatio, elements, reason, fix });
            }
        }
    }
    entries
}

#[cfg(test)]
mod tests {
    use super::super::check::check_deformables;
    use super::*;
    use shot::{Cloth, Copies, Shape};

    fn sheet(of: impl Fn(Element) -> Element) -> Element {
        let mut element = Element::solid("Sheet", Shape::plane(0.4, 0.4), Moves::Free);
        element.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.03, ..Cloth::default() });
        of(element)
    }

    fn mistakes(elements: impl IntoIterator<Item = Element>) -> Vec<Mistake> {
        let mut shot = Shot::empty("Start");
        for element in elements {
            shot.add(element);
        }
        assert_eq!(shot.faults(), []);
        check_deformables(&shot, &Meshes::default()).into_iter().map(|entry| entry.mistake).collect()
    }

    #[test]
    fn sheets_that_cross_are_named_unless_they_begin_earlier() {
        let standing = || sheet(|of| of.turned(0.0, 0.0, 1.4).at(0.01, 0.0, 0.013));
        assert_eq!(mistakes([sheet(|of| of), standing()]), [Mistake::CrossesAtStart]);
        let prerolled = sheet(|mut of| {
            of.as_solid_mut().unwrap().cloth.as_mut().unwrap().preroll_s = 1.0;
            of
        });
        assert_eq!(mistakes([prerolled, standing()]), []);
        assert_eq!(mistakes([sheet(|of| of), sheet(|of| of.at(0.0, 0.3, 0.0))]), []);
    }

    #[test]
    fn a_sheet_that_begins_in_a_solid_is_named() {
        let block =
            |y: f32| Element::solid("Block", Shape::cuboid(0.2, 0.2, 0.2), Moves::Still).at(0.0, y, 0.0);
        assert_eq!(mistakes([sheet(|of| of), block(-0.05)]), [Mistake::StartsInSolid]);
        assert_eq!(mistakes([sheet(|of| of), block(-0.15)]), []);
        let tied = sheet(|mut of| {
            let part = PinnedPart::Point { position_m: Vec3::ZERO, radius_m: 0.2 };
            of.as_solid_mut().unwrap().cloth.as_mut().unwrap().pins = vec![Pin::hard(part)];
            of
        });
        assert_eq!(mistakes([tied, block(-0.05)]), []);
    }

    #[test]
    fn copies_closer_than_they_are_thick_are_named_with_their_distance() {
        let stack = |gap: f32| {
            sheet(|mut of| {
                let copies = Copies {
                    count: [1, 2, 1],
                    spacing_m: Vec3::Y * gap,
                    position_jitter_m: 0.0,
                    orientation_jitter_rad: 0.0,
                    seed: 1,
                };
                of.as_solid_mut().unwrap().copies = Some(copies);
                of
            })
        };
        assert_eq!(mistakes([stack(0.0015)]), [Mistake::TooClose]);
        assert_eq!(mistakes([stack(0.0025)]), []);
        let mut shot = Shot::empty("Start");
        let id = shot.add(stack(0.0015));
        let gap = gap_at_start(&shot, &Meshes::default(), id).unwrap();
        assert!((gap - 0.0015).abs() < 1e-5, "{gap}");
    }

    #[test]
    fn masses_that_differ_by_more_than_a_thousand_are_named() {
        let anchor = |kg: f32| {
            let mut of =
                Element::solid("Anchor", Shape::cuboid(0.2, 0.2, 0.2), Moves::Free).at(0.0, 2.0, 0.0);
            of.as_solid_mut().unwrap().body.weight = Weight::MassKg(kg);
            of
        };
        assert_eq!(mistakes([sheet(|of| of), anchor(80.0)]), [Mistake::MassRatio]);
        assert_eq!(mistakes([sheet(|of| of), anchor(20.0)]), []);
    }
}
