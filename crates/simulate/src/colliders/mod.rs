//! Bodies as other solvers collide with them, and what the solvers exchange.

mod collider;

pub use collider::Collider;

use collider::Skin;
use geometry::{Bounds, Mesh, MissingMesh, MovingMesh, MovingSurface, Surface, Tree};
use glam::{Mat3, Vec3};
use shot::{Element, Id, Shape, Shot, world::Pose};
use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

/// The state of a body at the end of a substep.
#[derive(Clone, Copy, Debug)]
pub struct BodyState {
    /// Its element.
    pub element: Id,
    /// Index of the copy.
    pub copy: u32,
    /// Position of its origin, m, and orientation.
    pub pose: Pose,
    /// Multiple of the element's shape.
    pub scale: f32,
    /// Centre of mass, m.
    pub centre: Vec3,
    /// Velocity of the centre of mass, m/s.
    pub velocity: Vec3,
    /// Angular velocity, rad/s.
    pub angular_velocity: Vec3,
    /// The part of `velocity` that the predicted load of liquid has added in this substep, m/s.
    pub by_load: Vec3,
    /// 1 / mass, 1/kg; 0 for a body that is not free.
    pub inverse_mass: f32,
    /// Inverse of the inertia about the centre of mass, 1/(kg m²); 0 for a body that is not free.
    pub inverse_inertia: Mat3,
    /// Whether its pose and shape are constant.
    pub still: bool,
    /// Coulomb friction coefficient.
    pub friction: f32,
    /// Coefficient of restitution.
    pub restitution: f32,
}

/// An impulse of one solver on a body of another.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Impulse {
    /// The body's element.
    pub element: Id,
    /// Index of the copy.
    pub copy: u32,
    /// Point of application, m.
    pub at: Vec3,
    /// Impulse, N s.
    pub impulse: Vec3,
}

/// A body that a particle becomes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SpawnBody {
    /// The solid to which the body belongs.
    pub solid: Id,
    /// State of the particle.
    pub state: SpawnState,
}

/// A particle that a body becomes.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SpawnParticle {
    /// The element to which the particle belongs.
    pub particles: Id,
    /// The solid to which the body belonged.
    pub solid: Id,
    /// State of the body.
    pub state: SpawnState,
}

/// State that a particle and the body it becomes have in common.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct SpawnState {
    /// Position of its origin, m, and orientation.
    pub pose: Pose,
    /// Velocity, m/s.
    pub velocity: Vec3,
    /// Angular velocity, rad/s.
    pub angular_velocity: Vec3,
    /// Longest side, m.
    pub size_m: f32,
    /// Mass, kg.
    pub mass_kg: f32,
}

/// Data that one solver gives to the others after a substep.
#[derive(Clone, Debug, Default)]
pub struct Exchange {
    /// Impulses on bodies.
    pub impulses: Vec<Impulse>,
    /// Impulses of liquids over the substep on the vertices of cloths and soft bodies, N s, in place of those that their substep began
    /// with.
    pub loads: BTreeMap<Id, Vec<Vec3>>,
    /// The same on bodies, by element and copy: impulse, N s, and angular impulse about the centre of mass, N m s.
    pub body_loads: BTreeMap<(Id, u32), [Vec3; 2]>,
    /// Bodies that particles become.
    pub bodies: Vec<SpawnBody>,
    /// Particles that bodies become.
    pub particles: Vec<SpawnParticle>,
}

impl Exchange {
    /// Whether bodies or particles are spawned.
    pub fn spawns(&self) -> bool {
        !self.bodies.is_empty() || !self.particles.is_empty()
    }

    /// Whether bodies, cloths or soft bodies are pushed.
    pub fn pushes(&self) -> bool {
        !self.impulses.is_empty() || !self.loads.is_empty() || !self.body_loads.is_empty()
    }
}

/// A contact of two bodies in the last substep.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Contact {
    /// The elements, the one with the lower id first.
    pub elements: [Id; 2],
    /// Point of application, m.
    pub at: Vec3,
    /// Unit normal out of the second.
    pub normal: Vec3,
    /// Mean velocity of the two surfaces at the point, m/s.
    pub velocity: Vec3,
    /// Impulse, N s.
    pub impulse: f32,
}

/// Some of the bodies, with a tree over their bounds.
#[derive(Clone, Default)]
struct Found {
    /// Places in the list.
    items: Vec<u32>,
    bounds: Vec<Bounds>,
    tree: Option<Tree>,
}

/// Up to this number the bodies are tested one after the other, without a tree.
const FEW: usize = 6;

impl Found {
    fn new(list: &[Collider], items: Vec<u32>) -> Self {
        let bounds: Vec<Bounds> = items.iter().map(|&i| list[i as usize].bounds()).collect();
        let tree = (items.len() > FEW).then(|| Tree::build(&bounds));
        Self { items, bounds, tree }
    }

    #[inline]
    fn within(&self, bounds: &Bounds, mut found: impl FnMut(usize)) {
        match &self.tree {
            Some(tree) => tree.overlapping(bounds, |item| found(self.items[item as usize] as usize)),
            None => {
                for (&i, of) in self.items.iter().zip(&self.bounds) {
                    if of.min.cmple(bounds.max).all() && of.max.cmpge(bounds.min).all() {
                        found(i as usize);
                    }
                }
            }
        }
    }
}

/// The vertices of a cloth or a soft body at the end of a substep.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct VertexStates {
    /// Mass that moves with each vertex, kg.
    pub masses: Vec<f32>,
    /// Velocities, m/s.
    pub velocities: Vec<Vec3>,
    /// How the velocities change if the load that the substep began with is taken away, m/s.
    pub unloaded: Vec<Vec3>,
}

/// How cloths and soft bodies answer impulses within the substep that they have made.
pub trait SurfaceResponse: Send + Sync {
    /// The vertices of each.
    fn states(&self) -> &BTreeMap<Id, VertexStates>;
    /// By how much a vertex moves for a change of its velocity, s.
    fn way_s(&self) -> f32;
    /// How impulses over the substep on the vertices, N s, change the velocities of all vertices, m/s.
    fn velocity_changes(&self, impulses: &BTreeMap<Id, Vec<Vec3>>) -> BTreeMap<Id, Vec<Vec3>>;
}

/// All bodies of a shot, over a substep.
#[derive(Clone, Default)]
pub struct Colliders {
    list: Vec<Collider>,
    still: Found,
    moving: Found,
    /// Number of times that the still bodies have changed.
    still_changes: u64,
    shapes: HashMap<Id, (Shape, Arc<Surface>)>,
    /// Surfaces of the bodies that change their shape.
    deforming: BTreeMap<Id, Arc<MovingSurface>>,
    /// How the cloths and soft bodies of each system answer impulses; empty if no solver wants that.
    pub responses: BTreeMap<usize, Arc<dyn SurfaceResponse>>,
    /// Hits of the last substep.
    pub hits: Vec<Contact>,
    /// Bodies that broke in the last substep, with their last states.
    pub broken: Vec<BodyState>,
}

impl Colliders {
    /// Advances the bodies of which `stepped` is true to the end of the next substep, of `dt` seconds; the others stay as they
    /// were in theirs. `deformed` are the shapes of the bodies that change theirs; with `anew` the hierarchies of cloths and
    /// soft bodies are built anew.
    ///
    /// # Errors
    /// [`MissingMesh`].
    pub fn follow(
        &mut self,
        shot: &Shot,
        bodies: Vec<BodyState>,
        deformed: &BTreeMap<Id, Arc<MovingMesh>>,
        dt: f32,
        anew: bool,
        stepped: &dyn Fn(Id) -> bool,
        mesh: impl Fn(&Shape) -> Result<Mesh, MissingMesh>,
    ) -> Result<(), MissingMesh> {
        let mut same_still = !self.still.items.is_empty();
        let rigid = |element: &Element| !deformed.contains_key(&element.id) && !element.deforms();
        for (element, solid) in shot.solids().filter(|(element, _)| rigid(element)) {
            let known = self.shapes.get(&element.id).is_some_and(|(shape, ..)| *shape == solid.shape);
            if !known {
                let surface = Arc::new(Surface::new(&mesh(&solid.shape)?));
                self.shapes.insert(element.id, (solid.shape.clone(), surface));
                same_still = false;
            }
        }
        let at_start = |c: &Collider| if stepped(c.now.element) { c.now.pose } else { c.before };
        let before: HashMap<(Id, u32), Pose> =
            self.list.iter().map(|c| ((c.now.element, c.now.copy), at_start(c))).collect();
        // What the list holds is not needed any more.
        self.list.clear();
        let deformable = |id: Id| shot.element(id).is_some_and(Element::deforms);
        self.deform(deformed, stepped, &|id| anew && deformable(id));
        let list: Vec<Collider> = bodies
            .into_iter()
            .filter_map(|now| {
                let skin = match self.deforming.get(&now.element) {
                    Some(surface) => Skin::Deforming(surface.clone()),
                    None => Skin::Rigid(self.shapes.get(&now.element)?.1.clone()),
                };
                let before = before.get(&(now.element, now.copy)).copied().unwrap_or(now.pose);
                let deformable = deformable(now.element);
                Some(Collider::new(now, before, skin, dt, deformable))
            })
            .collect();
        let items = |still: bool| -> Vec<u32> {
            let of = |(i, c): (usize, &Collider)| (c.now.still == still).then_some(i as u32);
            list.iter().enumerate().filter_map(of).collect()
        };
        let (still, moving) = (items(true), items(false));
        if !same_still || still != self.still.items {
            self.still = Found::new(&list, still);
            self.still_changes += 1;
        }
        self.moving = Found::new(&list, moving);
        self.list = list;
        Ok(())
    }

    /// Moves the surfaces of the bodies that change their shape.
    fn deform(
        &mut self,
        deformed: &BTreeMap<Id, Arc<MovingMesh>>,
        stepped: &dyn Fn(Id) -> bool,
        anew: &dyn Fn(Id) -> bool,
    ) {
        self.deforming.retain(|id, _| deformed.contains_key(id));
        for (id, mesh) in deformed {
            if self.deforming.contains_key(id) && !stepped(*id) {
                continue;
            }
            if anew(*id)
                && let Some(surface) = self.deforming.get_mut(id)
            {
                let positions = surface.positions().to_vec();
                *surface = Arc::new(MovingSurface::new(mesh.topology.clone(), positions));
            }
            let known = self.deforming.get_mut(id).filter(|known| *known.topology() == mesh.topology);
            match known.and_then(Arc::get_mut) {
                Some(surface) => surface.advance(&mesh.positions),
                None => {
                    let surface = MovingSurface::new(mesh.topology.clone(), mesh.positions.clone());
                    self.deforming.insert(*id, Arc::new(surface));
                }
            }
        }
    }

    /// Moves the vertices of bodies that change their shape to other places at the substep's end.
    pub fn correct<'a>(&mut self, positions: impl IntoIterator<Item = (Id, &'a [Vec3])>) {
        for (id, positions) in positions {
            let fits = |known: &&mut Arc<MovingSurface>| known.positions().len() == positions.len();
            let Some(known) = self.deforming.get_mut(&id).filter(fits) else { continue };
            let corrected = Arc::new(known.corrected(positions));
            *known = corrected.clone();
            for collider in self.list.iter_mut().filter(|collider| collider.now.element == id) {
                let Collider { now, before, .. } = *collider;
                let skin = Skin::Deforming(corrected.clone());
                *collider = Collider::new(now, before, skin, collider.dt(), collider.is_deformable());
            }
        }
        self.moving = Found::new(&self.list, std::mem::take(&mut self.moving.items));
    }

    /// Whether there is no body.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }

    /// Number of times that the still bodies have changed.
    pub fn still_changes(&self) -> u64 {
        self.still_changes
    }

    /// Whether any can move.
    pub fn any_move(&self) -> bool {
        !self.moving.items.is_empty()
    }

    /// Whether the surfaces have more triangles than fit in the cache.
    pub fn are_fine(&self) -> bool {
        const AT_HAND: usize = 10_000;
        let skins = self.list.iter().map(|collider| &collider.skin);
        let rigid = self.shapes.values().map(|(_, surface)| surface.triangles()).sum::<usize>();
        let deforming = skins.filter(|skin| matches!(skin, Skin::Deforming(_))).map(Skin::triangles);
        rigid + deforming.sum::<usize>() > AT_HAND
    }

    /// All bodies.
    pub fn list(&self) -> &[Collider] {
        &self.list
    }

    /// Calls `found` with each still body whose box meets `bounds`.
    #[inline]
    pub fn still_in(&self, bounds: &Bounds, found: impl FnMut(usize)) {
        self.still.within(bounds, found);
    }

    /// Calls `found` with each moving body whose box meets `bounds`.
    #[inline]
    pub fn moving_in(&self, bounds: &Bounds, found: impl FnMut(usize)) {
        self.moving.within(bounds, found);
    }

    /// Pose of the first body of an element; none if the body is not free.
    pub fn solved(&self, element: Id) -> Option<Pose> {
        let free = |body: &&Collider| body.now.copy == 0 && body.now.inverse_mass > 0.0;
        self.of(element).find(free).map(|body| body.now.pose)
    }

    /// The bodies of one element.
    pub fn of(&self, element: Id) -> impl Iterator<Item = &Collider> {
        self.list.iter().filter(move |collider| collider.now.element == element)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use glam::Quat;
    use shot::{Element, Moves};

    fn body(element: Id, position: Vec3, still: bool) -> BodyState {
        BodyState {
            element,
            copy: 0,
            pose: (position, Quat::IDENTITY),
            scale: 1.0,
            centre: position,
            velocity: Vec3::ZERO,
            angular_velocity: Vec3::ZERO,
            by_load: Vec3::ZERO,
            inverse_mass: if still { 0.0 } else { 0.5 },
            inverse_inertia: Mat3::ZERO,
            still,
            friction: 0.5,
            restitution: 0.2,
        }
    }

    /// Boxes 2 m wide: their ids, and the shot.
    fn boxes(count: usize) -> (Shot, Vec<Id>) {
        let mut shot = Shot::empty("Boxes");
        let cube = |i| Element::solid(&format!("Box {i}"), Shape::cuboid(2.0, 2.0, 2.0), Moves::Free);
        let ids = (0..count).map(|i| shot.add(cube(i))).collect();
        (shot, ids)
    }

    fn follow(colliders: &mut Colliders, shot: &Shot, bodies: Vec<BodyState>) {
        let meshes = geometry::Meshes::default();
        let none = BTreeMap::new();
        colliders.follow(shot, bodies, &none, 0.01, false, &|_| true, |shape| meshes.mesh(shape)).unwrap();
    }

    #[test]
    fn a_ball_meets_a_still_box_a_radius_before_its_face() {
        let (shot, ids) = boxes(1);
        let mut colliders = Colliders::default();
        follow(&mut colliders, &shot, vec![body(ids[0], Vec3::ZERO, true)]);
        let cube = &colliders.list()[0];
        let (t, normal) = cube.intersect(Vec3::Y * 3.0, 0.0, Vec3::ZERO, 0.5).unwrap();
        assert!((t - 0.5).abs() < 1e-6 && normal == Vec3::Y, "{t} {normal}");
        // Away from it, along it and short of it there is nothing to meet.
        assert!(cube.intersect(Vec3::Y * 1.5, 0.0, Vec3::Y * 3.0, 0.5).is_none());
        assert!(cube.intersect(Vec3::new(-3.0, 1.6, 0.0), 0.0, Vec3::new(3.0, 1.6, 0.0), 0.5).is_none());
        assert!(cube.intersect(Vec3::Y * 3.0, 0.0, Vec3::Y * 1.6, 0.5).is_none());
    }

    #[test]
    fn what_moves_onto_a_ball_meets_it_though_that_rests() {
        let (shot, ids) = boxes(1);
        let mut colliders = Colliders::default();
        follow(&mut colliders, &shot, vec![body(ids[0], Vec3::ZERO, false)]);
        follow(&mut colliders, &shot, vec![body(ids[0], Vec3::Y * 2.0, false)]);
        let rests = Vec3::Y * 2.5;
        let (t, normal) = colliders.list()[0].intersect(rests, 0.0, rests, 0.5).unwrap();
        // The face goes from 1 to 3 m, and the ball's lower side is at 2 m.
        assert!((t - 0.5).abs() < 1e-5 && normal == Vec3::Y, "{t} {normal}");
        // In the half of the substep that is left it has to go on from there.
        let later = colliders.list()[0].intersect(rests, 0.5, rests, 0.5).unwrap().0;
        assert!(later < 1e-5, "{later}");
    }

    #[test]
    fn scaled_bodies_are_met_at_their_size() {
        let (shot, ids) = boxes(1);
        let mut colliders = Colliders::default();
        follow(&mut colliders, &shot, vec![BodyState { scale: 0.25, ..body(ids[0], Vec3::ZERO, true) }]);
        let cube = &colliders.list()[0];
        assert!((cube.nearest(Vec3::Y, 5.0).unwrap() - Vec3::Y * 0.25).length() < 1e-6);
        assert!(cube.nearest(Vec3::Y, 0.7).is_none());
        let clear = cube.clearance(Vec3::Y, 5.0);
        assert!((0.6..=0.75).contains(&clear), "{clear}");
        assert!((cube.intersect(Vec3::Y, 0.0, Vec3::ZERO, 0.05).unwrap().0 - 0.7).abs() < 1e-5);
    }

    #[test]
    fn a_push_off_the_centre_turns_a_body_and_moves_its_surface_more() {
        let (shot, ids) = boxes(1);
        let mut colliders = Colliders::default();
        let free = BodyState {
            velocity: Vec3::X,
            angular_velocity: Vec3::Z * 2.0,
            inverse_inertia: Mat3::from_diagonal(Vec3::splat(3.0)),
            ..body(ids[0], Vec3::ZERO, false)
        };
        follow(&mut colliders, &shot, vec![free]);
        let cube = &colliders.list()[0];
        assert_eq!(cube.mobility(Vec3::Y, Vec3::Y), 0.5);
        assert_eq!(cube.mobility(Vec3::new(1.0, 1.0, 0.0), Vec3::Y), 3.5);
        assert_eq!(cube.velocity_at(Vec3::Y), Vec3::NEG_X);
    }

    #[test]
    fn many_are_found_by_where_they_are_still_and_moving_ones_apart() {
        let (shot, ids) = boxes(12);
        let at = |i: usize, shift: f32| body(ids[i], Vec3::X * (10.0 * i as f32 + shift), i >= 3);
        let mut colliders = Colliders::default();
        assert!(colliders.is_empty() && !colliders.any_move());
        follow(&mut colliders, &shot, (0..12).map(|i| at(i, 0.0)).collect());
        follow(&mut colliders, &shot, (0..12).map(|i| at(i, if i < 3 { 4.0 } else { 0.0 })).collect());
        let around = |x: f32| Bounds { min: Vec3::new(x, 0.0, 0.0), max: Vec3::new(x, 0.1, 0.1) };
        let found = |still: bool, x: f32| {
            let mut list = Vec::new();
            if still {
                colliders.still_in(&around(x), |i| list.push(i));
            } else {
                colliders.moving_in(&around(x), |i| list.push(i));
            }
            list
        };
        assert_eq!((found(true, 70.0), found(true, 75.0)), (vec![7], vec![]));
        // Moving ones all along the way they came.
        assert_eq!((found(false, 10.0), found(false, 14.0), found(false, 70.0)), (vec![1], vec![1], vec![]));
        assert_eq!(colliders.of(ids[2]).count(), 1);
        assert_eq!(colliders.solved(ids[2]).unwrap().0.x, 24.0);
        assert!(colliders.solved(ids[5]).is_none());
    }
}
