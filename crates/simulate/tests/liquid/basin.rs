//! Liquid that falls into a basin, and stands there.

use super::*;

fn block_over_basin() -> (Shot, Id) {
    let mut shot = bare(120);
    basin(&mut shot, Vec3::new(0.5, 1.5, 0.3));
    let of = Liquid { spacing_m: 0.0125, ..Liquid::default() };
    let block = liquid(of, Shape::cuboid(0.25, 0.4, 0.15), EmissionSchedule::Fill {});
    let id = shot.add(element("Water", block).at(-0.05, 0.25, 0.0));
    (shot, id)
}

#[test]
fn a_block_that_falls_into_a_basin_stays_there_and_spreads() {
    let (shot, id) = block_over_basin();
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    let mut frame = simulation.write();
    let n = 0.25 * 0.4 * 0.15 / 0.0125f32.powi(3);
    for _ in 0..96 {
        frame = simulation.advance().unwrap();
    }
    let of = &frame.particles[&id];
    assert!((of.len() as f32 / n - 1.0).abs() < 0.02, "{} of {n}", of.len());
    for x in &of.positions {
        assert!(x.y > 0.0 && x.y < 1.5 && x.x.abs() < 0.25 && x.z.abs() < 0.15, "{x}");
    }
    let depth = 0.25 * 0.4 * 0.15 / (0.5 * 0.3);
    let mean = of.positions.iter().map(|x| x.y).sum::<f32>() / of.len() as f32;
    // Waves, which still run to and fro, lift it.
    assert!((mean / (0.5 * depth) - 1.0).abs() < 0.1, "{mean} of {}", 0.5 * depth);
}
