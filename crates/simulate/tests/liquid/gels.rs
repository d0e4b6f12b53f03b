//! Liquids that are elastic up to a stress.

use super::*;
use rstest::rstest;
use shot::particles::{LiquidQuantity, LiquidWeight, ScaledLiquid};
use shot::region::{Region, Volume};

fn gel(spacing_m: f32, stiffness_pa: f32, relaxation_time_s: f32, yield_stress_pa: f32) -> Liquid {
    Liquid {
        spacing_m,
        viscosity_pa_s: 20.0,
        wall_friction: 1.0,
        stiffness_pa,
        relaxation_time_s,
        yield_stress_pa,
        ..Liquid::default()
    }
}

/// A block on a floor at y 0.
fn on_floor(of: Liquid, shape: Shape, height: f32, last: u32) -> (Shot, Id) {
    let mut shot = bare(last);
    shot.add(Element::solid("Floor", Shape::cuboid(2.0, 0.2, 2.0), Moves::Still).at(0.0, -0.1, 0.0));
    let id =
        shot.add(element("Gel", liquid(of, shape, EmissionSchedule::Fill {})).at(0.0, 0.5 * height, 0.0));
    (shot, id)
}

fn run(shot: &Shot, id: Id, frames: u32, mut each: impl FnMut(u32, &[Vec3])) {
    let mut simulation = Simulation::new(shot, &Default::default()).unwrap();
    each(0, &simulation.write().particles[&id].positions);
    for frame in 1..=frames {
        each(frame, &simulation.advance().unwrap().particles[&id].positions);
    }
}

fn top(positions: &[Vec3]) -> f32 {
    let mut heights: Vec<f32> = positions.iter().map(|x| x.y).collect();
    heights.sort_by(f32::total_cmp);
    heights[heights.len() * 99 / 100]
}

#[test]
fn a_block_of_jelly_stands_and_one_that_relaxes_flows_away() {
    let stands = |relaxation_time_s: f32, yield_stress_pa: f32| {
        let of = gel(0.0125, 2_000.0, relaxation_time_s, yield_stress_pa);
        let (shot, id) = on_floor(of, Shape::cuboid(0.2, 0.2, 0.2), 0.2, 72);
        let mut heights = Vec::new();
        run(&shot, id, 72, |_, positions| heights.push(top(positions)));
        heights
    };
    let jelly = stands(0.0, 1e5);
    // Free at its foot it would sag by rho g h^2 / (2 E), with E = 3 G; it sticks there.
    let free = 1_000.0 * 9.81 * 0.2 * 0.2 / (6.0 * 2_000.0);
    let sag = (jelly[0] - jelly[72]) / free;
    assert!((0.6..1.0).contains(&sag), "{sag} of {free}");
    assert!((jelly[72] - jelly[60]).abs() < 2e-4, "{jelly:?}");
    let flows = stands(0.1, 0.0);
    assert!(flows[72] < 0.1, "{flows:?}");
}

#[rstest]
fn a_block_however_stiff_stands_still(
    #[values(2e4, 2e5, 1e6)] stiffness_pa: f32,
    #[values(0.0, 20.0)] viscosity_pa_s: f32,
) {
    let of = Liquid { viscosity_pa_s, ..gel(0.01, stiffness_pa, 1e4, 0.0) };
    let (shot, id) = on_floor(of, Shape::cuboid(0.12, 0.16, 0.1), 0.16, 24);
    let mut heights = Vec::new();
    run(&shot, id, 24, |_, positions| heights.push(top(positions)));
    assert!(heights.iter().all(|height| (height / heights[0] - 1.0).abs() < 0.03), "{heights:?}");
}

#[test]
fn a_column_of_mud_slumps_as_far_as_its_yield_stress_has_it() {
    let height = 0.2;
    for (density_kg_m3, yield_stress_pa, spacing_m) in [(1_700.0, 300.0, 0.01), (1_200.0, 300.0, 0.0083)] {
        let of = Liquid { density_kg_m3, viscosity_pa_s: 150.0, ..gel(spacing_m, 0.0, 0.0, yield_stress_pa) };
        let shape = Shape::Cylinder { radius_m: 0.1, height_m: height };
        let (shot, id) = on_floor(of, shape, height, 60);
        let mut heights = Vec::new();
        run(&shot, id, 60, |_, positions| heights.push(top(positions)));
        let slump = 1.0 - heights[60] / heights[0];
        // Pashias, Boger, Summers and Glenister 1996, A fifty cent rheometer: s = 1 - 2 t (1 - ln 2 t).
        let t = yield_stress_pa / (density_kg_m3 * 9.81 * height);
        let exact = 1.0 - 2.0 * t * (1.0 - (2.0 * t).ln());
        assert!((slump - exact).abs() < 0.05, "{slump} of {exact}: {heights:?}");
    }
}

#[test]
fn a_region_that_softens_lets_one_side_of_a_block_run() {
    let mut of = gel(0.0125, 3_000.0, 50.0, 0.0);
    let (mut shot, id) = on_floor(of.clone(), Shape::cuboid(0.3, 0.15, 0.15), 0.15, 36);
    let volume = Volume::Box { size_m: Vec3::splat(1.0) };
    let region = Region { volume, edge_m: 0.05, profile: Default::default(), inverted: false };
    let warm = shot.add(Element::new("Warm", ElementKind::Region(region)).at(0.5, 0.0, 0.0));
    for (quantity, at_1) in [(LiquidQuantity::Stiffness, 0.3), (LiquidQuantity::RelaxationTime, 1e-3)] {
        of.scaled.push(ScaledLiquid { quantity, by: LiquidWeight::Region { region: warm }, at_0: 1.0, at_1 });
    }
    for element in shot.elements.iter_mut().filter(|element| element.id == id) {
        let ElementKind::Particles(particles) = &mut element.kind else { unreachable!() };
        particles.liquid = Some(of.clone());
    }
    let mut last = Vec::new();
    run(&shot, id, 36, |_, positions| last = positions.to_vec());
    let side = |sign: f32| top(&last.iter().copied().filter(|x| x.x * sign > 0.05).collect::<Vec<_>>());
    assert!(side(-1.0) > 0.125 && side(1.0) < 0.1, "{} {}", side(-1.0), side(1.0));
    // It runs out on that side alone.
    let (least, most) = last.iter().fold((0.0f32, 0.0f32), |(a, b), x| (a.min(x.x), b.max(x.x)));
    assert!(least > -0.18 && most > 0.2, "{least} {most}");
}

#[test]
fn a_block_that_sticks_to_a_slope_stays_there() {
    for angle in [0.0f32, 0.6] {
        let mut shot = bare(48);
        shot.elements.clear();
        // Gravity 0.7 from the normal of the slope, which is turned against the grid or not.
        let turn = glam::Quat::from_rotation_z(angle);
        shot.add(Element::gravity(turn * Vec3::new(9.81 * 0.64, -9.81 * 0.77, 0.0)));
        let slope = Element::solid("Slope", Shape::cuboid(2.0, 0.2, 2.0), Moves::Still);
        let at = turn * Vec3::new(0.003, -0.1, 0.0);
        shot.add(slope.at(at.x, at.y, at.z).turned(0.0, 0.0, angle));
        let of = gel(0.006, 9_000.0, 40.0, 0.0);
        let block = element("Block", liquid(of, Shape::cuboid(0.09, 0.09, 0.09), EmissionSchedule::Fill {}));
        let at = turn * Vec3::new(0.0, 0.046, 0.0);
        let id = shot.add(block.at(at.x, at.y, at.z).turned(0.0, 0.0, angle));
        let mut places = Vec::new();
        run(&shot, id, 48, |_, positions| {
            let sum = positions.iter().map(|x| turn.inverse() * *x).sum::<Vec3>();
            places.push(sum / positions.len() as f32);
        });
        let slipped = places[48].x - places[0].x;
        assert!(slipped < 0.01, "{slipped} m at {angle}");
    }
}

#[test]
fn factors_whose_product_is_endless_leave_finite_places() {
    let quantities = [
        LiquidQuantity::Stiffness,
        LiquidQuantity::Viscosity,
        LiquidQuantity::YieldStress,
        LiquidQuantity::RelaxationTime,
    ];
    let of_quantity =
        |quantity| ScaledLiquid { quantity, by: LiquidWeight::BirthMap {}, at_0: 1e4, at_1: 1e4 };
    for viscosity_pa_s in [0.0, 1.0] {
        let mut of = Liquid { viscosity_pa_s, ..gel(0.04, 1e3, 1.0, 10.0) };
        of.scaled = (0..16).map(|i| of_quantity(quantities[i % 4])).collect();
        let (shot, id) = on_floor(of, Shape::cuboid(0.12, 0.12, 0.12), 0.12, 2);
        run(&shot, id, 2, |_, positions| {
            assert!(positions.iter().all(|x| x.is_finite() && x.length() < 1.0))
        });
    }
}
