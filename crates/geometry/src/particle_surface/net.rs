//! The net of a surface: a vertex in each cell that the surface passes through (S. Gibson, *Constrained elastic surface nets*, 1998), or
//! several where it passes more than once (`loops.rs`).

use super::LiquidMesh;
use super::field::Field;
use super::loops::{Loops, edge, edges};
use crate::tiles::{CELLS, SIDE, Tiles, corner, local, place};
use glam::{IVec3, Vec2, Vec3};
use rayon::prelude::*;

/// Nodes along each side of a tile with the next ones above.
const NODES: usize = SIDE as usize + 1;
/// Tiles that a thread takes at once.
const MIN_TILES: usize = 16;
/// No vertex.
const NO_VERTEX: u16 = u16::MAX;
/// Marks the first vertex of a cell whose corners inside are connected through its ambiguous face. A tile has at most 2,048 vertices.
const CONNECTS_INSIDE: u16 = 1 << 14;

/// A vertex of the net.
struct Vertex {
    position: Vec3,
    velocity: Vec3,
    value: Vec2,
    nearest: u32,
}

/// The vertices of the net in the cells of a tile.
struct TileNet {
    inside: RowBits,
    vertices: Vec<Vertex>,
    /// The first vertex of each cell, among those of the tile.
    first: Box<[u16; CELLS]>,
}

/// The nodes of a tile and the next ones above: rows along x, y fastest.
struct Nodes {
    distances: [f32; NODES * NODES * NODES],
    inside: RowBits,
}

/// A bit for each node of each row that is inside.
type RowBits = [u16; NODES * NODES];

/// The net around the nodes with negative distances.
pub(super) fn net(tiles: &Tiles, field: &Field) -> LiquidMesh {
    let of_tile = |tile: usize| Some(Nodes::new(tiles, tile, field)?.net(tiles, tile, field));
    let nets: Vec<Option<TileNet>> =
        (0..tiles.len()).into_par_iter().with_min_len(MIN_TILES).map(of_tile).collect();
    let starts: Vec<u32> = nets
        .iter()
        .scan(0, |end, net| {
            let count = net.as_ref().map_or(0, |net| net.vertices.len() as u32);
            *end += count;
            Some(*end - count)
        })
        .collect();
    fn column<T: Copy + Default + Send>(
        nets: &[Option<TileNet>],
        of: impl Fn(&Vertex) -> T + Sync,
    ) -> Vec<T> {
        joined(nets, |net| net.as_ref().map_or(&[], |net| &net.vertices[..]), of)
    }
    let positions = column(&nets, |vertex| vertex.position);
    let at = |v: u32| positions[v as usize];
    let of_tile = |tile: usize| {
        let mut triangles = Vec::new();
        if let Some(net) = &nets[tile] {
            let nets = (&nets[..], &starts[..]);
            for_each_square(tiles, tile, &net.inside, nets, |square| triangles.extend(halves(square, at)));
        }
        triangles
    };
    let triangles: Vec<Vec<[u32; 3]>> =
        (0..tiles.len()).into_par_iter().with_min_len(MIN_TILES).map(of_tile).collect();
    LiquidMesh {
        velocities: column(&nets, |vertex| vertex.velocity),
        values: column(&nets, |vertex| vertex.value),
        nearest: column(&nets, |vertex| vertex.nearest),
        triangles: joined(&triangles, |part| &part[..], |triangle| *triangle),
        positions,
    }
}

/// A value for each thing in lists, one list after the other.
fn joined<L: Sync, T: Sync, V: Copy + Default + Send>(
    lists: &[L],
    things: impl Fn(&L) -> &[T] + Sync,
    value: impl Fn(&T) -> V + Sync,
) -> Vec<V> {
    let mut all = vec![V::default(); lists.iter().map(|list| things(list).len()).sum()];
    let mut rest = &mut all[..];
    let mut parts = Vec::with_capacity(lists.len());
    for list in lists {
        let (part, after) = rest.split_at_mut(things(list).len());
        parts.push(part);
        rest = after;
    }
    parts.into_par_iter().zip(lists).with_min_len(MIN_TILES).for_each(|(part, list)| {
        part.iter_mut().zip(things(list)).for_each(|(to, from)| *to = value(from));
    });
    all
}

/// The triangles of a square: of both ways to cut it, that by which they face the same way most, or the one along the shorter diagonal.
fn halves([p, q, r, s]: [u32; 4], at: impl Fn(u32) -> Vec3) -> [[u32; 3]; 2] {
    /// Cosine of the angle between triangles that need no other way.
    const EVEN: f32 = 0.9;
    let evenness = |[first, second]: [[u32; 3]; 2]| {
        let normal = |[a, b, c]: [u32; 3]| (at(b) - at(a)).cross(at(c) - at(a)).normalize_or_zero();
        normal(first).dot(normal(second))
    };
    let ways = [[[p, q, r], [p, r, s]], [[q, r, s], [q, s, p]]];
    let shorter = usize::from(at(p).distance_squared(at(r)) > at(q).distance_squared(at(s)));
    let [own, other] = [ways[shorter], ways[1 - shorter]];
    let even = evenness(own);
    if even < EVEN && evenness(other) > even { other } else { own }
}

impl Nodes {
    /// Of a tile; none where the surface does not pass.
    fn new(tiles: &Tiles, tile: usize, field: &Field) -> Option<Self> {
        let mut nodes = Self { distances: [field.cell_m; _], inside: [0; _] };
        let side = SIDE as usize;
        for k in 0..8 {
            let by = corner(k);
            let Some(other) = tiles.beside(tile, by) else { continue };
            let from = &field.distances[other * CELLS..][..CELLS];
            let [width, height, depth] = by.to_array().map(|by| if by == 0 { side } else { 1 });
            for (z, y) in (0..depth).flat_map(|z| (0..height).map(move |y| (z, y))) {
                let row = (z + by.z as usize * side) * NODES + y + by.y as usize * side;
                let from = &from[(z * side + y) * side..][..width];
                nodes.distances[row * NODES + by.x as usize * side..][..width].copy_from_slice(from);
            }
        }
        for (row, bits) in nodes.inside.iter_mut().enumerate() {
            let values = nodes.distances[row * NODES..][..NODES].iter().enumerate();
            *bits = values.fold(0, |bits, (x, value)| bits | u16::from(*value < 0.0) << x);
        }
        let all = (1 << NODES) - 1;
        let is_crossed =
            nodes.inside.iter().any(|bits| *bits != 0) && nodes.inside.iter().any(|bits| *bits != all);
        is_crossed.then_some(nodes)
    }

    fn net(self, tiles: &Tiles, tile: usize, field: &Field) -> TileNet {
        let (mut vertices, mut first) = (Vec::new(), Box::new([NO_VERTEX; CELLS]));
        for (z, y) in (0..SIDE).flat_map(|z| (0..SIDE).map(move |y| (z, y))) {
            let row = z as usize * NODES + y as usize;
            let rows = [row, row + 1, row + NODES, row + NODES + 1].map(|row| self.inside[row]);
            let any = rows.into_iter().fold(0, |all, row| all | row);
            let all = rows.into_iter().fold(!0, |all, row| all & row);
            let crossed = (any | any >> 1) & !(all & (all >> 1));
            for x in (0..SIDE).filter(|x| crossed >> x & 1 == 1) {
                let cell = IVec3::new(x, y, z);
                let inside = inside_of(&self.inside, cell);
                let connects_inside = Loops::of(inside, false).ambiguous_face.is_some_and(|way| {
                    Loops::of(field.inside_of(tiles, tile, cell + way), false).ambiguous_face == Some(-way)
                });
                let loops = Loops::of(inside, connects_inside);
                first[place(cell)] =
                    vertices.len() as u16 | if connects_inside { CONNECTS_INSIDE } else { 0 };
                vertices.extend((0..loops.count).map(|number| {
                    let at = cell.as_vec3() + self.crossing(cell, loops, number);
                    let (velocity, value, nearest) = field.attributes(tiles, tile, cell, at);
                    let position = (tiles.corner(tile).as_vec3() + at) * field.cell_m;
                    Vertex { position, velocity, value, nearest }
                }));
            }
        }
        TileNet { inside: self.inside, vertices, first }
    }

    /// The mean of where the edges of a loop of a cell are crossed, in cells from its lowest corner.
    fn crossing(&self, at: IVec3, loops: &Loops, number: u8) -> Vec3 {
        let value = |i: usize| {
            let node = at + corner(i);
            self.distances[(node.z as usize * NODES + node.y as usize) * NODES + node.x as usize]
        };
        let (mut sum, mut count) = (Vec3::ZERO, 0.0);
        for (edge, [a, b]) in edges().enumerate().filter(|(edge, _)| loops.of_edge[*edge] == number) {
            let (from, to) = (value(a), value(b));
            debug_assert!((from < 0.0) != (to < 0.0), "{edge}");
            sum += corner(a).as_vec3().lerp(corner(b).as_vec3(), from / (from - to));
            count += 1.0;
        }
        sum / count
    }
}

/// A bit for each corner of a cell that is inside.
fn inside_of(rows: &RowBits, at: IVec3) -> u8 {
    (0..4usize).fold(0, |inside, i| {
        let row = (at.z as usize + (i >> 1)) * NODES + at.y as usize + (i & 1);
        inside | ((rows[row] >> at.x & 3) as u8) << (2 * i)
    })
}

/// Calls `of` with a square for each edge between nodes of a tile, and the next ones above, that is crossed: the vertices of the cells
/// around.
fn for_each_square(
    tiles: &Tiles,
    tile: usize,
    inside: &RowBits,
    (nets, starts): (&[Option<TileNet>], &[u32]),
    mut of: impl FnMut([u32; 4]),
) {
    let side = SIDE as usize;
    for (row, own) in
        (0..side * side).map(|i| (i / side * NODES + i % side, inside[i / side * NODES + i % side]))
    {
        let crossed = [own ^ own >> 1, own ^ inside[row + 1], own ^ inside[row + NODES]];
        for (axis, crossed) in crossed.into_iter().enumerate() {
            let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
            for x in (0..side).filter(|x| crossed >> x & 1 == 1) {
                let at = local((row / NODES * side + row % NODES) * side + x);
                // The vertex of a cell for the loop in which this edge lies.
                let vertex = |by: IVec3| {
                    let cell = tiles.cell(tile, at - by)?;
                    let net = nets[cell / CELLS].as_ref()?;
                    let first = net.first[cell % CELLS];
                    (first != NO_VERTEX).then(|| {
                        let inside = inside_of(&net.inside, local(cell % CELLS));
                        let loops = Loops::of(inside, first & CONNECTS_INSIDE != 0);
                        starts[cell / CELLS]
                            + u32::from(first & !CONNECTS_INSIDE)
                            + u32::from(loops.of_edge[edge(axis, by)])
                    })
                };
                if let [Some(p), Some(q), Some(r), Some(s)] = [IVec3::ZERO, b, b + c, c].map(vertex) {
                    of(if own >> x & 1 == 1 { [p, q, r, s] } else { [p, s, r, q] });
                }
            }
        }
    }
}
