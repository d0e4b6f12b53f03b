//! The net of a surface: a vertex in each cell that the surface passes through (S. Gibson, *Constrained elastic surface nets*, 1998), or
//! several where it passes more than once (`loops.rs`).

use super::field::{Field, Means};
use super::loops::{Loops, edge, edges};
use super::{LiquidMesh, NONE};
use crate::tiles::{CELLS, SIDE, Tiles, corner, local, place};
use glam::{IVec3, Vec3};
use rayon::prelude::*;

/// Nodes along each side of a tile with the next ones above.
const NODES: usize = SIDE as usize + 1;
/// Tiles that a thread takes at once.
const MIN_TILES: usize = 16;

/// A vertex of the net.
struct Vertex {
    cell: u32,
    position: Vec3,
    means: Means,
}

/// The cells of a grid that the surface passes through.
struct Cells {
    /// The first vertex of each.
    first: Vec<u32>,
    /// A bit for each of its corners that is inside.
    inside: Vec<u8>,
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
    let of_tile = |tile: usize| {
        let nodes = Nodes::new(tiles, tile, field)?;
        Some((nodes.vertices(tiles, tile, field), nodes.inside))
    };
    let found: Vec<Option<(Vec<Vertex>, RowBits)>> =
        (0..tiles.len()).into_par_iter().with_min_len(MIN_TILES).map(of_tile).collect();
    let mut cells = Cells { first: vec![NONE; tiles.cells()], inside: vec![0; tiles.cells()] };
    let mut mesh = LiquidMesh::default();
    let vertices = found.iter().flatten().map(|(vertices, _)| vertices.len()).sum();
    mesh.positions.reserve(vertices);
    mesh.velocities.reserve(vertices);
    mesh.values.reserve(vertices);
    mesh.nearest.reserve(vertices);
    for (tile, (vertices, rows)) in
        found.iter().enumerate().filter_map(|(tile, of)| Some((tile, of.as_ref()?)))
    {
        for Vertex { cell, position, means } in vertices {
            let place = tile * CELLS + *cell as usize;
            if cells.first[place] == NONE {
                cells.first[place] = mesh.positions.len() as u32;
                cells.inside[place] = inside_of(rows, local(*cell as usize));
            }
            mesh.positions.push(*position);
            mesh.velocities.push(means.velocity);
            mesh.values.push(means.value);
            mesh.nearest.push(means.nearest);
        }
    }
    let at = |v: u32| mesh.positions[v as usize];
    let of_tile = |(tile, of): (usize, &Option<(Vec<Vertex>, RowBits)>)| {
        let mut triangles = Vec::new();
        if let Some((_, inside)) = of {
            for_each_square(tiles, tile, inside, &cells, |square| triangles.extend(halves(square, at)));
        }
        triangles
    };
    let triangles: Vec<Vec<[u32; 3]>> =
        found.par_iter().enumerate().with_min_len(MIN_TILES).map(of_tile).collect();
    mesh.triangles = triangles.concat();
    mesh
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

    fn vertices(&self, tiles: &Tiles, tile: usize, field: &Field) -> Vec<Vertex> {
        let mut vertices = Vec::new();
        for (z, y) in (0..SIDE).flat_map(|z| (0..SIDE).map(move |y| (z, y))) {
            let row = z as usize * NODES + y as usize;
            let rows = [row, row + 1, row + NODES, row + NODES + 1].map(|row| self.inside[row]);
            let any = rows.into_iter().fold(0, |all, row| all | row);
            let all = rows.into_iter().fold(!0, |all, row| all & row);
            let crossed = (any | any >> 1) & !(all & (all >> 1));
            for x in (0..SIDE).filter(|x| crossed >> x & 1 == 1) {
                let at = IVec3::new(x, y, z);
                let around = (0..8).filter_map(|i| tiles.cell(tile, at + corner(i)));
                let means = field.means(around);
                let loops = Loops::of(inside_of(&self.inside, at));
                vertices.extend((0..loops.count).map(|number| Vertex {
                    cell: place(at) as u32,
                    position: ((tiles.corner(tile) + at).as_vec3() + self.crossing(at, loops, number))
                        * field.cell_m,
                    means,
                }));
            }
        }
        vertices
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
    cells: &Cells,
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
                let vertex = |by: IVec3| match tiles.cell(tile, at - by) {
                    Some(cell) if cells.first[cell] != NONE => {
                        let loops = Loops::of(cells.inside[cell]);
                        cells.first[cell] + u32::from(loops.of_edge[edge(axis, by)])
                    }
                    _ => NONE,
                };
                let [p, q, r, s] = [IVec3::ZERO, b, b + c, c].map(vertex);
                if ![p, q, r, s].contains(&NONE) {
                    of(if own >> x & 1 == 1 { [p, q, r, s] } else { [p, s, r, q] });
                }
            }
        }
    }
}
