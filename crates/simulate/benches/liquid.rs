//! What a liquid costs, as figures and ratios within one run.

use geometry::tiles::Tiles;
use glam::{Mat3, Vec3};
use simulate::liquid::{
    LiquidParticles, Material, Properties, Rheologies, Rheology, StillBodyCache, flow, transfer,
};
use std::hint::black_box;
use std::time::Instant;
use tank::{Tank, filled};

#[path = "../tests/liquid/tank.rs"]
mod tank;

/// Particles that fill a box of cells, eight to each.
fn block(cells: [i32; 3], cell_m: f32) -> Vec<Vec3> {
    filled(Vec3::ZERO, Vec3::from(cells.map(|n| n as f32)) * cell_m, 0.5 * cell_m)
}

struct Liquid {
    positions: Vec<Vec3>,
    velocities: Vec<Vec3>,
    gradients: Vec<Mat3>,
    still: StillBodyCache,
    tank: Tank,
    cell_m: f32,
}

impl Liquid {
    /// A column that stands in the corner of a tank.
    fn column(cells: [i32; 3]) -> Self {
        let cell_m = 0.01;
        let positions = block(cells, cell_m);
        let n = positions.len();
        let max = Vec3::new(2.5 * cells[0] as f32, 10.0 * cells[1] as f32, cells[2] as f32) * cell_m;
        Self {
            positions,
            velocities: vec![Vec3::ZERO; n],
            gradients: vec![Mat3::ZERO; n],
            still: StillBodyCache::default(),
            tank: Tank { min: Vec3::ZERO, max },
            cell_m,
        }
    }

    fn step(&mut self, dt: f32) -> u32 {
        self.velocities.iter_mut().for_each(|v| v.y -= 9.81 * dt);
        let material = Material {
            spacing_m: 0.5 * self.cell_m,
            rheologies: Rheologies::Same(Rheology { viscosity_pa_s: 1e-3, ..Rheology::default() }),
            properties: Properties::default(),
            each: &[],
        };
        let columns = LiquidParticles {
            positions: &self.positions,
            velocities: &mut self.velocities,
            gradients: &mut self.gradients,
            deformations: &mut [],
        };
        let flow = flow(columns, &material, dt, &self.tank, &mut self.still, false).expect("it is near");
        for (x, way) in self.positions.iter_mut().zip(flow.displacements) {
            *x = (*x + way).clamp(self.tank.min + 1e-5, self.tank.max - 1e-5);
        }
        flow.solved.iterations
    }
}

/// Seconds of the parts of a transfer both ways: sorting, to the faces, and back.
fn transfers(threads: usize, cells: [i32; 3]) -> [f64; 3] {
    let cell_m = 0.01;
    let positions = block(cells, cell_m);
    let n = positions.len();
    let (mut velocities, mut gradients) = (vec![Vec3::X; n], vec![Mat3::IDENTITY; n]);
    let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
    pool.install(|| {
        let mut best = [f64::INFINITY; 3];
        for _ in 0..16 {
            let start = Instant::now();
            let tiles = Tiles::new(&positions, cell_m);
            let sorted = start.elapsed().as_secs_f64();
            let faces = transfer::to_faces(&tiles, &positions, &velocities, &gradients, &[]);
            let given = start.elapsed().as_secs_f64();
            let columns = (&positions[..], &mut velocities[..], &mut gradients[..]);
            black_box(transfer::to_particles(&tiles, columns, [&faces.velocities; 2], 1e-3));
            let taken = start.elapsed().as_secs_f64();
            for (best, seconds) in best.iter_mut().zip([sorted, given - sorted, taken - given]) {
                *best = best.min(seconds);
            }
        }
        best.map(|seconds| seconds / n as f64 * 1e9)
    })
}

fn main() {
    for cells in [[32, 32, 32], [64, 64, 32]] {
        let [two, one] = [2, 1].map(|threads| transfers(threads, cells));
        let sum = |of: [f64; 3]| of.iter().sum::<f64>();
        println!(
            "transfers of {} particles: {:.1} million a second on two threads ({two:.0?} ns: sort, give, take), {:.2} x from the \
             second",
            8 * cells.iter().product::<i32>(),
            1e3 / sum(two),
            sum(one) / sum(two)
        );
    }
    let seconds = |threads: usize, cells: [i32; 3], steps: u32| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("threads");
        pool.install(|| {
            let mut liquid = Liquid::column(cells);
            (0..4).for_each(|_| {
                liquid.step(1.0 / 192.0);
            });
            let start = Instant::now();
            let iterations: u32 = (0..steps).map(|_| liquid.step(1.0 / 192.0)).sum();
            let seconds = start.elapsed().as_secs_f64() / f64::from(steps);
            let n = liquid.positions.len();
            println!(
                "{n} particles, {threads} threads: {:.2} million a second, {:.0} ms a step, {} iterations",
                n as f64 / seconds * 1e-6,
                1e3 * seconds,
                iterations / steps
            );
            seconds
        })
    };
    let two = seconds(2, [32, 32, 16], 20);
    let one = seconds(1, [32, 32, 16], 20);
    println!("{:.2} x from the second core", one / two);
    seconds(2, [64, 64, 32], 5);
    println!("in a domain over eight times as large: {:.2} x (wanted: at most 1.1)", with_a_distant_drop());
}

/// The time of steps beside those of the same liquid without a drop so far away that the box around all is over eight times as large.
fn with_a_distant_drop() -> f64 {
    const STEPS: usize = 9;
    let mut both = [false, true].map(|has_drop| {
        let mut liquid = Liquid::column([32, 32, 32]);
        if has_drop {
            liquid.positions.push(0.98 * liquid.tank.max);
            liquid.velocities.push(Vec3::ZERO);
            liquid.gradients.push(Mat3::ZERO);
        }
        liquid
    });
    // One after the other, so that what else the machine does meets both.
    let mut ratios: Vec<f64> = (0..STEPS)
        .map(|_| {
            let [alone, with_drop] = [0, 1].map(|i| {
                let start = Instant::now();
                both[i].step(1.0 / 960.0);
                start.elapsed().as_secs_f64()
            });
            with_drop / alone
        })
        .collect();
    ratios.sort_by(f64::total_cmp);
    ratios[STEPS / 2]
}
