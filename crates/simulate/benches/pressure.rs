//! What the equations of the pressure cost in a box of 128³ cells that is full by 85 %, with a wavy surface and a ball that moves in it,
//! against a solution of the empty box by cosine transforms.

use conjugate_gradients::{Tolerance, conjugate_gradients};
use geometry::tiles::{CELLS, local};
use glam::{IVec3, Vec3};
use grid::{UnknownCells, step};
use matrix::{Equation, Matrix};
use multigrid::Multigrid;
use rayon::prelude::*;
use rustdct::{DctPlanner, TransformType2And3};
use std::f64::consts::PI;
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;
// For its allocator.
use simulate as _;

// The parts of the solver, which have no public names.
#[allow(dead_code, unused_imports)]
#[path = "../src/liquid/conjugate_gradients.rs"]
mod conjugate_gradients;
#[allow(dead_code, unused_imports)]
#[path = "../src/liquid/grid.rs"]
mod grid;
#[allow(dead_code, unused_imports)]
#[path = "../src/liquid/matrix.rs"]
mod matrix;
#[allow(dead_code, unused_imports)]
#[path = "../src/liquid/multigrid.rs"]
mod multigrid;

/// Cells along each side of the box.
const SIDE: usize = 128;
const ROUNDS: usize = 7;
const TOLERANCE: Tolerance = Tolerance::Residual(1e-4);

/// The box of liquid; lengths in cells.
struct Liquid {
    level: f32,
    ball: Vec3,
    radius: f32,
    velocity: Vec3,
}

impl Liquid {
    /// Height of a place above the surface.
    fn height(&self, at: Vec3) -> f32 {
        at.y - self.level - 3.0 * (0.11 * at.x).sin() * (0.07 * at.z + 0.4).cos()
    }

    fn outside_ball(&self, at: Vec3) -> f32 {
        at.distance(self.ball) - self.radius
    }

    fn is_liquid(&self, cell: IVec3) -> bool {
        let at = cell.as_vec3() + 0.5;
        self.height(at) < 0.0 && self.outside_ball(at) > -0.8
    }

    /// The fraction of the face towards a neighbour that is open.
    fn open(&self, cell: IVec3, side: usize) -> f32 {
        let beyond = cell + step(side);
        if beyond.min_element() < 0 || beyond.max_element() >= SIDE as i32 {
            return 0.0;
        }
        let at = cell.as_vec3() + 0.5 + 0.5 * step(side).as_vec3();
        (0.5 + self.outside_ball(at)).clamp(0.0, 1.0)
    }

    fn equation(&self, cell: IVec3) -> Equation {
        let mut equation = Equation::default();
        for side in 0..6 {
            let (open, other) = (self.open(cell, side), cell + step(side));
            if open > 0.0 && self.is_liquid(other) {
                equation.factors[side] = open;
                equation.diagonal += open;
            } else if open > 0.0 {
                let [inside, outside] = [cell, other].map(|cell| self.height(cell.as_vec3() + 0.5));
                equation.diagonal += open / (inside / (inside - outside.max(0.0))).clamp(0.05, 1.0);
            }
        }
        equation
    }

    /// What flows in: of a field with eddies of all sizes, and of the ball.
    fn inflow(&self, cell: IVec3) -> f32 {
        let flow = |side: usize| {
            let (axis, open) = (side / 2, self.open(cell, side));
            let at = cell.as_vec3() + 0.5 * step(side).as_vec3();
            let eddies =
                [0.05f32, 0.21, 0.9, 2.9].map(|k| (k * at[(axis + 1) % 3] + 0.7 * k * at[axis]).sin());
            let velocity = eddies.iter().sum::<f32>();
            let moved = if self.outside_ball(at) < 2.0 { self.velocity[axis] } else { 0.0 };
            open * velocity + (1.0 - open) * moved
        };
        (0..3).map(|axis| flow(2 * axis) - flow(2 * axis + 1)).sum()
    }
}

/// The empty box, solved by cosine transforms along the axes (type 2 there, type 3 back).
struct CosineTransform {
    plan: Arc<dyn TransformType2And3<f32>>,
    /// The eigenvalues along an axis.
    eigenvalues: Vec<f32>,
}

impl CosineTransform {
    fn new() -> Self {
        let eigenvalue = |k: usize| (2.0 - 2.0 * (PI * k as f64 / SIDE as f64).cos()) as f32;
        Self { plan: DctPlanner::new().plan_dct2(SIDE), eigenvalues: (0..SIDE).map(eigenvalue).collect() }
    }

    fn transform(&self, line: &mut [f32], back: bool, scratch: &mut [f32]) {
        if back {
            self.plan.process_dct3_with_scratch(line, scratch);
        } else {
            self.plan.process_dct2_with_scratch(line, scratch);
        }
    }

    /// Transforms the rows of a layer of SIDE² values, or its columns.
    fn layer(&self, layer: &mut [f32], back: bool, along_rows: bool, scratch: &mut [f32]) {
        if along_rows {
            layer.chunks_mut(SIDE).for_each(|line| self.transform(line, back, scratch));
            return;
        }
        const AT_ONCE: usize = 16;
        let mut lines = [[0.0f32; SIDE]; AT_ONCE];
        for first in (0..SIDE).step_by(AT_ONCE) {
            for (j, row) in layer.chunks(SIDE).enumerate() {
                (0..AT_ONCE).for_each(|i| lines[i][j] = row[first + i]);
            }
            lines.iter_mut().for_each(|line| self.transform(line, back, scratch));
            for (j, row) in layer.chunks_mut(SIDE).enumerate() {
                (0..AT_ONCE).for_each(|i| row[first + i] = lines[i][j]);
            }
        }
    }

    /// Solves for `field`, with x fastest; `other` is as long.
    fn solve(&self, field: &mut [f32], other: &mut [f32]) {
        const LAYER: usize = SIDE * SIDE;
        let scratch = || vec![0.0f32; self.plan.get_scratch_len()];
        let turned = |from: &[f32], y: usize, layer: &mut [f32]| {
            for (z, row) in layer.chunks_mut(SIDE).enumerate() {
                row.copy_from_slice(&from[z * LAYER + y * SIDE..][..SIDE]);
            }
        };
        field.par_chunks_mut(LAYER).for_each_init(scratch, |scratch, layer| {
            self.layer(layer, false, true, scratch);
            self.layer(layer, false, false, scratch);
        });
        other.par_chunks_mut(LAYER).enumerate().for_each_init(scratch, |scratch, (y, layer)| {
            turned(field, y, layer);
            self.layer(layer, false, false, scratch);
            let scale = (2.0 / SIDE as f32).powi(3);
            for (z, row) in layer.chunks_mut(SIDE).enumerate() {
                let at = self.eigenvalues[y] + self.eigenvalues[z];
                for (value, eigenvalue) in row.iter_mut().zip(&self.eigenvalues) {
                    *value *= scale / (at + eigenvalue).max(1e-9);
                }
            }
            if y == 0 {
                layer[0] = 0.0;
            }
            self.layer(layer, true, false, scratch);
        });
        field.par_chunks_mut(LAYER).enumerate().for_each_init(scratch, |scratch, (z, layer)| {
            turned(other, z, layer);
            self.layer(layer, true, false, scratch);
            self.layer(layer, true, true, scratch);
        });
    }

    /// The greatest residual for a field whose sum is 0, as a part of its greatest value.
    fn error(&self) -> f32 {
        let mut field: Vec<f32> = (0..SIDE.pow(3)).map(|i| (i as f32 * 0.37).sin()).collect();
        let mean = field.iter().map(|x| f64::from(*x)).sum::<f64>() / field.len() as f64;
        field.iter_mut().for_each(|x| *x -= mean as f32);
        let right = field.clone();
        self.solve(&mut field, &mut vec![0.0; right.len()]);
        let at = |cell: IVec3| field[((cell.z as usize * SIDE) + cell.y as usize) * SIDE + cell.x as usize];
        let residual = |i: usize| {
            let cell = IVec3::new((i % SIDE) as i32, (i / SIDE % SIDE) as i32, (i / SIDE / SIDE) as i32);
            let beside = (0..6).map(|side| cell + step(side));
            let inside = beside.filter(|at| at.min_element() >= 0 && at.max_element() < SIDE as i32);
            (inside.map(|other| at(cell) - at(other)).sum::<f32>() - right[i]).abs()
        };
        (0..right.len()).step_by(97).map(residual).fold(0.0, f32::max)
    }
}

/// The best time of several rounds, ms.
fn best(mut work: impl FnMut()) -> f64 {
    let once = |()| {
        let start = Instant::now();
        work();
        1e3 * start.elapsed().as_secs_f64()
    };
    [(); ROUNDS].map(once).into_iter().fold(f64::INFINITY, f64::min)
}

fn main() {
    let pool = rayon::ThreadPoolBuilder::new().num_threads(2).build().expect("threads");
    pool.install(|| {
        let transform = CosineTransform::new();
        assert!(transform.error() < 1e-3, "{}", transform.error());
        let mut field: Vec<f32> = (0..SIDE.pow(3)).map(|i| (i as f32 * 0.37).sin()).collect();
        let mut other = vec![0.0; field.len()];
        let cosine = best(|| transform.solve(black_box(&mut field), &mut other));

        let liquid = Liquid {
            level: 109.8,
            ball: Vec3::new(50.3, 60.1, 70.7),
            radius: 17.4,
            velocity: Vec3::new(0.5, -1.0, 0.2),
        };
        let tiles = (SIDE / 8) as i32;
        let keys: Vec<IVec3> = (0..tiles * tiles * tiles)
            .map(|i| IVec3::new(i % tiles, i / tiles % tiles, i / (tiles * tiles)))
            .collect();
        let at = |cell: usize| 8 * keys[cell / CELLS] + local(cell % CELLS);
        let cells = UnknownCells::new(&keys, |cell| liquid.is_liquid(at(cell)));
        let right = cells.column(|cell| liquid.inflow(at(cell)));
        let matrix = Matrix::new(&cells.grid, 1.0, |_| false, |tile, local| {
            liquid.equation(8 * keys[cells.tile(tile)] + local)
        });
        let made = best(|| drop(black_box(Multigrid::new(cells.grid.clone(), matrix.clone()))));
        let multigrid = Multigrid::new(cells.grid.clone(), matrix);
        let (mut scratch, mut convergence) = (multigrid.scratch(), None);
        let solved = best(|| {
            let multiply = |x: &[f32], out: &mut [f32]| multigrid.matrix().multiply(multigrid.grid(), x, out);
            let precondition =
                |right: &[f32], out: &mut Vec<f32>| multigrid.cycle(right, out, &mut scratch);
            let mut x = vec![0.0; right.len()];
            convergence =
                Some(conjugate_gradients(multiply, precondition, |_| {}, &right, &mut x, TOLERANCE));
            black_box(x);
        });
        let part = 100.0 * cells.count as f64 / SIDE.pow(3) as f64;
        println!(
            "pressure of {} cells ({part:.0} %): {solved:.0} ms and {made:.0} ms for its levels, {convergence:?}; cosine transform {cosine:.0} \
             ms: {:.2} x, with the levels {:.2} x (2.5)",
            cells.count,
            solved / cosine,
            (solved + made) / cosine
        );
    });
}
