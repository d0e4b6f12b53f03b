//! The net of a surface: a vertex in each cell that the surface passes through (S. Gibson, *Constrained elastic surface nets*, 1998).

use super::{LiquidMesh, NONE, Sums};
use crate::tiles::{CELLS, Tiles, local};
use glam::{IVec3, Vec2, Vec3};
use rayon::prelude::*;

/// A vertex of the net.
struct Vertex {
    position: Vec3,
    velocity: Vec3,
    value: Vec2,
    nearest: u32,
}

/// The net around the nodes with negative distances.
pub(super) fn net(tiles: &Tiles, cell_m: f32, distances: &[f32], sums: &[Sums]) -> LiquidMesh {
    let node = |tile: usize, at: IVec3| tiles.cell(tile, at);
    let corner = |i: i32| IVec3::new(i & 1, i >> 1 & 1, i >> 2);
    // The vertex of a cell: the mean of where its edges are crossed.
    let vertex = |cell: usize| -> Option<Vertex> {
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        let mut values = [cell_m; 8];
        let mut around = Sums::NONE;
        for i in 0..8 {
            if let Some(node) = node(tile, at + corner(i)) {
                values[i as usize] = distances[node];
                around.add(&sums[node]);
            }
        }
        let (mut sum, mut count) = (Vec3::ZERO, 0.0);
        for a in 0..8usize {
            for b in [a | 1, a | 2, a | 4].into_iter().filter(|b| *b != a) {
                let (from, to) = (values[a], values[b]);
                if (from < 0.0) != (to < 0.0) {
                    let (p, q) = (corner(a as i32).as_vec3(), corner(b as i32).as_vec3());
                    sum += p.lerp(q, from / (from - to));
                    count += 1.0;
                }
            }
        }
        (count > 0.0).then(|| {
            let place = (tiles.corner(tile) + at).as_vec3() + sum / count;
            let scale = 1.0 / around.weight.max(1e-9);
            Vertex {
                position: place * cell_m,
                velocity: around.velocity * scale,
                value: around.value * scale,
                nearest: around.nearest.1,
            }
        })
    };
    let found: Vec<Option<Vertex>> =
        (0..tiles.cells()).into_par_iter().with_min_len(CELLS).map(vertex).collect();
    let mut number = vec![NONE; found.len()];
    let mut mesh = LiquidMesh::default();
    for (cell, vertex) in found.into_iter().enumerate().filter_map(|(i, of)| Some((i, of?))) {
        number[cell] = mesh.positions.len() as u32;
        mesh.positions.push(vertex.position);
        mesh.velocities.push(vertex.velocity);
        mesh.values.push(vertex.value);
        mesh.nearest.push(vertex.nearest);
    }
    // A square for each edge between nodes that is crossed, through the cells around it.
    let (number, node) = (&number, &node);
    let squares = |cell: usize| {
        let (tile, at) = (cell / CELLS, local(cell % CELLS));
        (0..3).filter_map(move |axis| {
            let inside = distances[cell] < 0.0;
            let beyond = node(tile, at + IVec3::AXES[axis]).map_or(cell_m, |node| distances[node]) < 0.0;
            if inside == beyond {
                return None;
            }
            let (b, c) = (IVec3::AXES[(axis + 1) % 3], IVec3::AXES[(axis + 2) % 3]);
            let around = [IVec3::ZERO, -b, -b - c, -c].map(|by| node(tile, at + by));
            let [p, q, r, s] = around.map(|cell| cell.map_or(NONE, |cell| number[cell]));
            if [p, q, r, s].contains(&NONE) {
                return None;
            }
            Some(if inside { [p, q, r, s] } else { [p, s, r, q] })
        })
    };
    let all: Vec<[u32; 4]> =
        (0..tiles.cells()).into_par_iter().with_min_len(CELLS).flat_map_iter(squares).collect();
    let at = |v: u32| mesh.positions[v as usize];
    // Along the shorter diagonal.
    let halves = |[p, q, r, s]: [u32; 4]| match at(p).distance_squared(at(r)) <= at(q).distance_squared(at(s))
    {
        true => [[p, q, r], [p, r, s]],
        false => [[q, r, s], [q, s, p]],
    };
    mesh.triangles = all.into_iter().flat_map(halves).collect();
    mesh
}
