//! Solids in the grid: which fraction of each face they leave open, and how fast they move there.

use super::boundary::Boundary;
use geometry::tiles::{CELLS, SIDE, Tiles, local};
use glam::{IVec3, Vec3};
use rayon::prelude::*;
use std::collections::HashMap;
use std::sync::{Arc, OnceLock};

/// What still bodies are in tiles, from one step to the next. No state: what is not there is computed again, to the same bytes.
#[derive(Default)]
pub struct StillBodyCache {
    version: u64,
    cell_m: f32,
    tiles: HashMap<IVec3, Arc<TileNodes>>,
}

/// Most tiles that are kept.
const KEPT: usize = 8_192;

impl StillBodyCache {
    fn prepare(&mut self, version: u64, cell_m: f32) {
        if (version, cell_m) != (self.version, self.cell_m) || self.tiles.len() > KEPT {
            *self = Self { version, cell_m, tiles: HashMap::new() };
        }
    }
}

/// Bodies at the nodes of a tile: the corners of its cells.
#[derive(Clone)]
struct TileNodes {
    /// Signed distances, m.
    distances: Vec<f32>,
    /// Lower faces of the cells through which a thin wall goes, also of those behind the last, by the first corner.
    walled: [Vec<bool>; 3],
    /// Whether all is open.
    open: bool,
    /// The faces between them where no body moves.
    faces: OnceLock<Arc<TileFaces>>,
}

/// The open fractions of the lower faces of a tile's cells, 0–1, the velocities of the solid there, and the open fractions of the
/// cells.
#[derive(Clone)]
struct TileFaces {
    open: [Vec<f32>; 3],
    velocities: [Vec<f32>; 3],
    bodies: [Vec<u32>; 3],
    volume: Vec<f32>,
}

/// Marks a face that no moving body closes.
const NO_BODY: u32 = u32::MAX;

/// The centre of the lower face of a cell along an axis, m.
pub(super) fn face_centre(tiles: &Tiles, axis: usize, cell: usize) -> Vec3 {
    let corner = (tiles.corner(cell / CELLS) + local(cell % CELLS)).as_vec3();
    let middle = Vec3::splat(0.5) - 0.5 * Vec3::AXES[axis];
    (corner + middle) * tiles.cell_m
}

/// Solids are thicker by so much, in cells, so that a face that lies in a wall is closed whatever the rounding.
const SKIN: f32 = 1e-3;
/// Nodes along each side of a tile.
const NODES: i32 = SIDE + 1;
/// Distance up to which distances are exact, in cells.
const WITHIN: f32 = 2.0;

/// The solids in all tiles: the cells and faces that they cut.
pub(super) struct CutCells {
    /// None where there are none.
    tiles: Vec<Option<Arc<TileFaces>>>,
    /// Whether a moving body closes a face.
    pub any_body: bool,
}

impl CutCells {
    fn of(&self, cell: usize) -> Option<&TileFaces> {
        self.tiles[cell / CELLS].as_deref()
    }

    /// The same with faces either open, if they are by at least a fraction, or closed.
    pub fn rounded(&self, fraction: f32) -> Self {
        let is_cut = |open: &f32| *open > 0.0 && *open < 1.0;
        let of_tile = |of: &Option<Arc<TileFaces>>| {
            let mut of = of.clone()?;
            if of.open.iter().flatten().any(is_cut) {
                let open = Arc::make_mut(&mut of).open.iter_mut().flatten();
                open.for_each(|open| *open = if *open < fraction { 0.0 } else { 1.0 });
            }
            Some(of)
        };
        let tiles = self.tiles.par_iter().with_min_len(16).map(of_tile).collect();
        Self { tiles, any_body: self.any_body }
    }

    /// Whether there are solids in a tile.
    pub fn any_in(&self, tile: usize) -> bool {
        self.tiles[tile].is_some()
    }

    /// Whether there are solids in a tile or in those around it.
    pub fn any_near(&self, tiles: &Tiles, tile: usize) -> bool {
        (0..27).any(|k| {
            let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
            tiles.beside(tile, by).is_some_and(|other| self.any_in(other))
        })
    }

    /// The fraction of the lower face of a cell along an axis that is open, 0–1.
    #[inline]
    pub fn open(&self, axis: usize, cell: usize) -> f32 {
        self.of(cell).map_or(1.0, |of| of.open[axis][cell % CELLS])
    }

    /// The velocity of the solid there along the axis, m/s.
    #[inline]
    pub fn velocity(&self, axis: usize, cell: usize) -> f32 {
        self.of(cell).map_or(0.0, |of| of.velocities[axis][cell % CELLS])
    }

    /// The nearest moving body at a face that is not open.
    #[inline]
    pub fn body(&self, axis: usize, cell: usize) -> Option<u32> {
        self.of(cell).map(|of| of.bodies[axis][cell % CELLS]).filter(|body| *body != NO_BODY)
    }

    /// The fraction of a cell that is open.
    #[inline]
    pub fn volume(&self, cell: usize) -> f32 {
        self.of(cell).map_or(1.0, |of| of.volume[cell % CELLS])
    }
}

/// Finds them for the cells around those that have a volume of liquid.
pub(super) fn cut_cells(
    tiles: &Tiles,
    liquid: &[f32],
    boundary: &impl Boundary,
    still: &mut StillBodyCache,
) -> CutCells {
    still.prepare(boundary.version(), tiles.cell_m);
    let known = &still.tiles;
    type Found = (Option<Arc<TileFaces>>, Option<Arc<TileNodes>>);
    let of_tile = |tile: usize| -> Found {
        let place = |cell: IVec3| (tiles.corner(tile) + cell).as_vec3() * tiles.cell_m;
        let (min, max) = (place(IVec3::ZERO), place(IVec3::splat(SIDE)));
        let [still, moving] = boundary.bodies_in(min - tiles.cell_m, max + tiles.cell_m);
        if still.is_empty() && moving.is_empty() {
            return (None, None);
        }
        if nodes_near_liquid(tiles, tile, liquid).next().is_none() {
            return (None, None);
        }
        let known = known.get(&tiles.keys[tile]).cloned();
        let new = known.is_none();
        let at_rest = known.unwrap_or_else(|| {
            let mut nodes = TileNodes::open(WITHIN * tiles.cell_m);
            nodes.add_bodies(tiles, tile, boundary, &still, |_| true);
            Arc::new(nodes)
        });
        let faces = if moving.is_empty() {
            let faces = || at_rest.faces.get_or_init(|| Arc::new(at_rest.faces(tiles, tile, boundary, &[])));
            (!at_rest.open).then(|| faces().clone())
        } else {
            let near = NearLiquid::new(tiles, tile, liquid);
            let mut nodes = (*at_rest).clone();
            nodes.add_bodies(tiles, tile, boundary, &moving, |node| near.has(node));
            (!nodes.open).then(|| Arc::new(nodes.faces(tiles, tile, boundary, &moving)))
        };
        (faces, new.then_some(at_rest))
    };
    let all: Vec<Found> = (0..tiles.len()).into_par_iter().map(of_tile).collect();
    let mut faces = CutCells { tiles: Vec::with_capacity(tiles.len()), any_body: false };
    for (tile, (found, new)) in all.into_iter().enumerate() {
        if let Some(new) = new {
            still.tiles.insert(tiles.keys[tile], new);
        }
        let moved = |found: &Arc<TileFaces>| found.bodies.iter().flatten().any(|body| *body != NO_BODY);
        faces.any_body |= found.as_ref().is_some_and(moved);
        faces.tiles.push(found);
    }
    faces
}

/// The nodes of a tile that lie within two cells of one with liquid.
struct NearLiquid(Vec<bool>);

impl NearLiquid {
    fn new(tiles: &Tiles, tile: usize, liquid: &[f32]) -> Self {
        let mut near = vec![false; (NODES * NODES * NODES) as usize];
        for (low, high) in nodes_near_liquid(tiles, tile, liquid) {
            for (z, y) in (low.z..=high.z).flat_map(|z| (low.y..=high.y).map(move |y| (z, y))) {
                near[node_place(IVec3::new(low.x, y, z))..=node_place(IVec3::new(high.x, y, z))].fill(true);
            }
        }
        Self(near)
    }

    fn has(&self, node: IVec3) -> bool {
        self.0[node_place(node)]
    }
}

/// Boxes of nodes of a tile, by the first and the last node of each, that lie within two cells of a cell with liquid.
fn nodes_near_liquid(tiles: &Tiles, tile: usize, liquid: &[f32]) -> impl Iterator<Item = (IVec3, IVec3)> {
    let beside = (0..27).filter_map(move |k| {
        let by = IVec3::new(k % 3 - 1, k / 3 % 3 - 1, k / 9 - 1);
        Some((by, tiles.beside(tile, by)?))
    });
    beside.flat_map(move |(by, other)| {
        let volumes = liquid[other * CELLS..(other + 1) * CELLS].iter().enumerate();
        let boxes = volumes.filter(|(_, volume)| **volume > 0.0).map(move |(cell, _)| {
            let at = local(cell) + SIDE * by;
            ((at - 1).max(IVec3::ZERO), (at + 2).min(IVec3::splat(NODES - 1)))
        });
        boxes.filter(|(low, high)| low.cmple(*high).all())
    })
}

fn node_place(node: IVec3) -> usize {
    ((node.z * NODES + node.y) * NODES + node.x) as usize
}

impl TileNodes {
    fn open(within: f32) -> Self {
        let distances = vec![within; (NODES * NODES * NODES) as usize];
        Self {
            distances,
            walled: std::array::from_fn(|_| vec![false; (NODES * NODES * NODES) as usize]),
            open: true,
            faces: OnceLock::new(),
        }
    }

    /// Puts bodies at the nodes for which `wanted` is true.
    fn add_bodies(
        &mut self,
        tiles: &Tiles,
        tile: usize,
        boundary: &impl Boundary,
        bodies: &[u32],
        wanted: impl Fn(IVec3) -> bool,
    ) {
        if bodies.is_empty() {
            return;
        }
        let (corner, cell_m) = (tiles.corner(tile), tiles.cell_m);
        let place = |node: IVec3| (corner + node).as_vec3() * cell_m;
        let centre = |cell: IVec3| ((corner + cell).as_vec3() + 0.5) * cell_m;
        for (i, own) in self.distances.iter_mut().enumerate() {
            let i = i as i32;
            let node = IVec3::new(i % NODES, i / NODES % NODES, i / (NODES * NODES));
            if !wanted(node) {
                continue;
            }
            for body in bodies {
                *own = own.min(boundary.distance(*body, place(node), WITHIN * cell_m) - SKIN * cell_m);
            }
        }
        self.open = self.distances.iter().all(|distance| *distance >= cell_m);
        if self.open {
            return;
        }
        for i in 0..NODES * NODES * NODES {
            let low = IVec3::new(i % NODES, i / NODES % NODES, i / (NODES * NODES));
            if !wanted(low) {
                continue;
            }
            // A face goes from its first corner along both other axes.
            let is_face = |axis: &usize| (0..3).all(|other| other == *axis || low[other] < SIDE);
            for axis in (0..3).filter(is_face) {
                // A wall thinner than a cell can lie between the corners.
                let near = self.corners(low, axis).iter().all(|distance| (0.0..cell_m).contains(distance));
                // What lies in the wall is on the side that is nearer.
                let side = |body: u32, place: Vec3| {
                    let distance = |place: Vec3| boundary.distance(body, place, cell_m);
                    if distance(place) >= 0.0 {
                        return place;
                    }
                    let up = 0.5 * cell_m * Vec3::AXES[axis];
                    if distance(place + 0.5 * up) > distance(place - 0.5 * up) {
                        place + up
                    } else {
                        place - up
                    }
                };
                // A wall that goes through half of the face closes the face, so that there is no leak where two meet.
                let (b, c) = (Vec3::AXES[(axis + 1) % 3], Vec3::AXES[(axis + 2) % 3]);
                let quarters = [-b - c, b - c, c - b, b + c].map(|by| 0.25 * cell_m * by);
                self.walled[axis][i as usize] |= near
                    && bodies.iter().any(|body| {
                        let is_walled = |by: &&Vec3| {
                            let [below, above] =
                                [low - IVec3::AXES[axis], low].map(|cell| centre(cell) + **by);
                            boundary.separates(*body, side(*body, below), side(*body, above))
                        };
                        quarters.iter().filter(is_walled).count() >= 2
                    });
            }
        }
    }

    /// The fraction of a cell that is open: of one beside a thin wall, up to that.
    fn open_volume(&self, low: IVec3, cell_m: f32) -> f32 {
        let by = |i: usize| IVec3::new(i as i32 & 1, i as i32 >> 1 & 1, i as i32 >> 2);
        let volume = open_volume(std::array::from_fn(|i| self.distances[node_place(low + by(i))]), cell_m);
        let up_to_walls = (0..3).flat_map(|axis| {
            let high = low + IVec3::AXES[axis];
            let opposite = [(low, high), (high, low)];
            let walled = opposite.into_iter().filter(move |(face, _)| self.walled[axis][node_place(*face)]);
            walled.map(move |(_, from)| self.corners(from, axis).iter().sum::<f32>() / (4.0 * cell_m))
        });
        up_to_walls.fold(volume, f32::min)
    }

    /// Distances at the corners of the lower face of a cell along an axis.
    fn corners(&self, low: IVec3, axis: usize) -> [f32; 4] {
        let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
        [low, low + b, low + b + c, low + c].map(|node| self.distances[node_place(node)])
    }

    /// The faces between the nodes; `moving` are the bodies among those met that move.
    fn faces(&self, tiles: &Tiles, tile: usize, boundary: &impl Boundary, moving: &[u32]) -> TileFaces {
        let cell_m = tiles.cell_m;
        let mut open: [Vec<f32>; 3] = std::array::from_fn(|_| vec![1.0; CELLS]);
        let mut velocities: [Vec<f32>; 3] = std::array::from_fn(|_| vec![0.0; CELLS]);
        let mut volume = Vec::with_capacity(CELLS);
        let mut bodies: [Vec<u32>; 3] = std::array::from_fn(|_| vec![NO_BODY; CELLS]);
        let nearest = |place: Vec3| {
            let distance = |body: &u32| boundary.distance(*body, place, WITHIN * cell_m);
            let nearest =
                moving.iter().map(|body| (distance(body), *body)).min_by(|a, b| a.0.total_cmp(&b.0));
            nearest.filter(|(distance, _)| *distance < cell_m).map(|(_, body)| body)
        };
        for cell in 0..CELLS {
            let low = local(cell);
            volume.push(self.open_volume(low, cell_m));
            for axis in 0..3 {
                let fraction = open_fraction(self.corners(low, axis));
                let fraction = if self.walled[axis][node_place(low)] { 0.0 } else { fraction };
                open[axis][cell] = fraction;
                if fraction < 1.0 && !moving.is_empty() {
                    let place = face_centre(tiles, axis, tile * CELLS + cell);
                    if let Some(body) = nearest(place) {
                        velocities[axis][cell] = boundary.velocity(body, place)[axis];
                        bodies[axis][cell] = body;
                    }
                }
            }
        }
        TileFaces { open, velocities, bodies, volume }
    }
}

/// The fraction of a cell that is open, from the distances at its corners, x fastest: exact for walls along the axes.
fn open_volume(corners: [f32; 8], cell_m: f32) -> f32 {
    if corners.iter().all(|distance| *distance >= cell_m) {
        return 1.0;
    }
    // Beside an edge of a solid, means of its distances would leave a part of a cell within it open.
    if corners.iter().all(|distance| *distance <= 0.0) {
        return 0.0;
    }
    // Of each eighth, by the distance at its centre.
    let eighth = |k: usize| {
        let weight =
            |i: usize| (0..3).map(|bit| if (i ^ k) >> bit & 1 == 0 { 0.75 } else { 0.25 }).product::<f32>();
        let distance: f32 = (0..8).map(|i| weight(i) * corners[i]).sum();
        (0.5 + 2.0 * distance / cell_m).clamp(0.0, 1.0)
    };
    (0..8).map(eighth).sum::<f32>() / 8.0
}

/// The fraction of a square where a function is above zero, from its values at the corners in turn: the mean of both ways to cut
/// the square into triangles.
fn open_fraction(corners: [f32; 4]) -> f32 {
    let [a, b, c, d] = corners;
    let triangle = |a: f32, b: f32, c: f32| {
        // The corner that differs from the others cuts off a part.
        let cut = |p: f32, q: f32, r: f32| p * p / ((p - q) * (p - r));
        match (a > 0.0, b > 0.0, c > 0.0) {
            (true, true, true) => 1.0,
            (false, false, false) => 0.0,
            (true, false, false) => cut(a, b, c),
            (false, true, false) => cut(b, c, a),
            (false, false, true) => cut(c, a, b),
            (false, true, true) => 1.0 - cut(a, b, c),
            (true, false, true) => 1.0 - cut(b, c, a),
            (true, true, false) => 1.0 - cut(c, a, b),
        }
    };
    0.25 * (triangle(a, b, c) + triangle(a, c, d) + triangle(a, b, d) + triangle(b, c, d))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_open_part_of_a_cell_is_that_beside_a_wall() {
        for part in [0.1f32, 0.5, 0.8] {
            let corners = std::array::from_fn(|i| if i & 2 == 0 { part } else { part - 1.0 });
            assert!((open_volume(corners, 1.0) - part).abs() < 1e-6);
        }
        assert_eq!((open_volume([1.0; 8], 1.0), open_volume([-1.0; 8], 1.0)), (1.0, 0.0));
        // Within a box, at its edge along z.
        let edge = std::array::from_fn(|i| if i & 3 == 0 { -1.0 } else { 0.0 });
        assert_eq!(open_volume(edge, 1.0), 0.0);
    }

    /// Two thin plates across x, at the same distance from the origin.
    struct Slot {
        half: f32,
        thickness: f32,
    }

    impl Boundary for Slot {
        fn bodies_in(&self, _: Vec3, _: Vec3) -> [Vec<u32>; 2] {
            [vec![0], Vec::new()]
        }

        fn distance(&self, _: u32, place: Vec3, _: f32) -> f32 {
            let middle = self.half + 0.5 * self.thickness;
            (place.x.abs() - middle).abs() - 0.5 * self.thickness
        }

        fn velocity(&self, _: u32, _: Vec3) -> Vec3 {
            Vec3::ZERO
        }

        fn separates(&self, _: u32, a: Vec3, b: Vec3) -> bool {
            let middle = self.half + 0.5 * self.thickness;
            let room = |place: Vec3| (place.x + middle > 0.0, place.x > middle);
            room(a) != room(b)
        }
    }

    #[test]
    fn a_room_between_thin_plates_is_the_same_from_both_sides() {
        let tiles = Tiles::new(&[-6.5, -0.5, 0.5, 6.5].map(|x| Vec3::new(x, 0.5, 0.5)), 1.0);
        let liquid = vec![1.0; tiles.cells()];
        for k in 0..40 {
            let slot = Slot { half: 4.0 + (k as f32 * 0.618).fract(), thickness: 0.1 + 0.02 * k as f32 };
            let cut = cut_cells(&tiles, &liquid, &slot, &mut StillBodyCache::default());
            let open = |x: i32| {
                let tile = tiles.keys.iter().position(|key| *key == IVec3::new(x.div_euclid(SIDE), 0, 0));
                cut.open(0, tiles.cell(tile.unwrap(), IVec3::new(x.rem_euclid(SIDE), 3, 3)).unwrap())
            };
            let sides = [-1, 1].map(|side| std::array::from_fn::<_, 7, _>(|x| open(side * (1 + x as i32))));
            assert_eq!(sides[0], sides[1], "{} {}", slot.half, slot.thickness);
            assert!(sides[0].contains(&0.0), "{} {}: {:?}", slot.half, slot.thickness, sides[0]);
        }
    }

    #[test]
    fn the_open_part_of_a_square_is_that_beside_a_line() {
        assert_eq!(open_fraction([1.0; 4]), 1.0);
        assert_eq!(open_fraction([-1.0; 4]), 0.0);
        assert_eq!((open_fraction([0.0; 4]), open_fraction([-1.0; 4])), (0.0, 0.0));
        assert!((open_fraction([-0.25, 0.75, 0.75, -0.25]) - 0.75).abs() < 1e-6);
        // A corner of a half by a half is cut off.
        assert!((open_fraction([-0.5, 0.5, 1.5, 0.5]) - 0.875).abs() < 0.05);
    }
}
