//! Spray, foam and bubbles that a liquid releases and carries.

use crate::{bare, basin, element, liquid};
use geometry::Meshes;
use glam::Vec3;
use shot::particles::{
    Carried, Emission, EmissionSchedule, Liquid, ParticleBody, Particles, Phase, Source, Start,
};
use shot::{Id, Shape, Shot};
use simulate::Simulation;

const RISE: f32 = 0.2;

/// A still pool of water 0.3 m deep.
fn pool(last: u32) -> (Shot, Id) {
    let mut shot = bare(last);
    basin(&mut shot, Vec3::new(0.4, 0.8, 0.4));
    let water = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let block = liquid(water, Shape::cuboid(0.4, 0.3, 0.4), EmissionSchedule::Fill {});
    let id = shot.add(element("Water", block).at(0.0, 0.15, 0.0));
    (shot, id)
}

/// Grains that a liquid carries, all at once at a place.
fn grains(water: Id, phases: Vec<Phase>) -> Particles {
    Particles {
        carried: Some(Carried { rise_speed_m_s: RISE, response_time_s: 0.02, phases, ..Carried::by(water) }),
        source: Source::Shape { shape: Shape::cuboid(0.1, 0.02, 0.1), domain: Default::default() },
        emission: Emission {
            schedule: EmissionSchedule::Burst { count: 50 },
            from_frame: Some(8),
            ..Emission::default()
        },
        start: Start { speed_m_s: 0.0, lifespan_s: None, size_m: 0.004, ..Start::default() },
        body: ParticleBody { drag: 0.0, ..ParticleBody::default() },
        ..Particles::default()
    }
}

fn all() -> Vec<Phase> {
    vec![Phase::Spray, Phase::Foam, Phase::Bubble]
}

fn mean_height(heights: &[Vec3]) -> f32 {
    heights.iter().map(|at| at.y).sum::<f32>() / heights.len() as f32
}

/// A particle set that is released from a liquid, so much by each cause.
fn released(water: Id, [speed, curvature, air]: [f32; 3]) -> Particles {
    Particles {
        source: Source::Liquid {
            liquid: water,
            by_speed_m3_s: speed,
            by_curvature_m3_s: curvature,
            by_trapped_air_m3_s: air,
            least_speed_m_s: 0.5,
            full_speed_m_s: 2.0,
        },
        emission: Emission { schedule: EmissionSchedule::Released {}, ..Emission::default() },
        start: Start {
            speed_m_s: 0.0,
            inherited_velocity: 1.0,
            size_m: 0.004,
            lifespan_s: None,
            ..Start::default()
        },
        ..grains(water, all())
    }
}

#[test]
fn bubbles_rise_at_their_speed_and_float_as_foam() {
    let (mut shot, water) = pool(60);
    let id = shot.add(element("Bubbles", grains(water, all())).at(0.0, 0.1, 0.0));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let mut heights = Vec::new();
    for _ in 0..60 {
        let frame = simulation.advance().unwrap();
        let at = &frame.particles_of(id).positions;
        heights.push(if at.is_empty() { 0.0 } else { mean_height(at) });
    }
    let fps = shot.timing.fps;
    // From 0.14 m to 0.22 m all are within the liquid.
    let when = |height: f32| heights.iter().position(|of| *of > height).unwrap() as f32 / fps;
    let speed = 0.08 / (when(0.22) - when(0.14));
    assert!((speed / RISE - 1.0).abs() < 0.15, "{speed}: {heights:?}");
    let top = heights[heights.len() - 1];
    assert!((top - 0.3).abs() < 0.02, "they float at {top}");
}

#[test]
fn spray_flies_as_a_body_in_vacuum_and_phases_that_it_may_not_have_end_it() {
    let (mut shot, water) = pool(40);
    let id = shot.add(element("Spray", grains(water, vec![Phase::Spray])).at(0.0, 0.7, 0.0));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    let frames: Vec<_> = (0..40).map(|_| simulation.advance().unwrap()).collect();
    let heights = |frame: usize| mean_height(&frames[frame].particles_of(id).positions);
    // They begin at frame 8 and fall freely from 0.7 m: by the second difference the acceleration is that of gravity.
    let fps = shot.timing.fps;
    let second = heights(10) - 2.0 * heights(9) + heights(8);
    assert!((second * fps * fps / -9.81 - 1.0).abs() < 0.02, "{}", second * fps * fps);
    assert_eq!(frames[10].particles_of(id).len(), 50);
    assert_eq!(frames[39].particles_of(id).len(), 0, "in the liquid they are no spray");
}

#[test]
fn a_splash_releases_by_each_cause_and_a_still_pool_nothing() {
    let count = |rates: [f32; 3], falls: bool| {
        let (mut shot, water) = pool(16);
        if falls {
            let falling = shot.element(water).unwrap().as_particles().unwrap().liquid.clone().unwrap();
            let drop = liquid(falling, Shape::cuboid(0.16, 0.16, 0.16), EmissionSchedule::Fill {});
            shot.add(element("Drop", drop).at(0.0, 0.5, 0.0));
        }
        let id = shot.add(element("Spray", released(water, rates)));
        let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
        (0..16).map(|_| simulation.advance().unwrap().particles_of(id).len()).max().unwrap()
    };
    let full = 1e8;
    for rates in [[full, 0.0, 0.0], [0.0, full, 0.0], [0.0, 0.0, full]] {
        let splash = count(rates, true);
        assert!(splash > 100, "{rates:?}: {splash}");
    }
    assert_eq!(count([full; 3], false), 0);
    assert_eq!(count([0.0; 3], true), 0);
}

#[test]
fn what_is_released_grows_with_its_number_and_not_with_the_particles_of_the_liquid() {
    let count = |rate: f32, spacing_m: f32| {
        let mut shot = bare(6);
        // A block that flies through empty space: its surface is fast, nothing meets.
        let water = liquid(
            Liquid { spacing_m, ..Liquid::default() },
            Shape::cuboid(0.32, 0.32, 0.32),
            EmissionSchedule::Fill {},
        );
        let water = Particles { start: Start { speed_m_s: 4.0, ..water.start.clone() }, ..water };
        let water = shot.add(element("Water", water));
        let id = shot.add(element("Spray", released(water, [rate, 0.0, 0.0])));
        let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
        (0..6).for_each(|_| drop(simulation.advance().unwrap()));
        simulation.write().particles_of(id).len() as f32
    };
    let one = count(2e6, 0.02);
    assert!((count(4e6, 0.02) / one - 2.0).abs() < 0.15, "{one}");
    // The layer that counts as the surface is as thick as a cell: half the spacing halves it.
    let ratio = count(2e6, 0.01) / one;
    assert!((0.4..0.75).contains(&ratio), "{ratio}");
}

#[test]
fn a_liquid_with_its_spray_goes_on_after_a_cut_as_without_one() {
    let (mut shot, water) = pool(14);
    let falling = shot.element(water).unwrap().as_particles().unwrap().liquid.clone().unwrap();
    let drop_of = liquid(falling, Shape::cuboid(0.16, 0.16, 0.16), EmissionSchedule::Fill {});
    shot.add(element("Drop", drop_of).at(0.0, 0.5, 0.0));
    let id = shot.add(element("Spray", released(water, [1e6; 3])));
    let mut whole = Simulation::new(&shot, &Meshes::default()).unwrap();
    for cut in 1..14 {
        let frame = whole.advance().unwrap();
        assert!(cut < 12 || frame.particles_of(id).len() > 20);
        let mut resumed = Simulation::restored(&shot, &Meshes::default(), &whole.save()).unwrap();
        let mut ahead = Simulation::restored(&shot, &Meshes::default(), &whole.save()).unwrap();
        assert_eq!(resumed.advance().unwrap(), ahead.advance().unwrap());
        if cut % 4 == 0 {
            let mut uncut = Simulation::new(&shot, &Meshes::default()).unwrap();
            let last = (0..=cut).map(|_| uncut.advance().unwrap()).last();
            let mut again = Simulation::restored(&shot, &Meshes::default(), &whole.save()).unwrap();
            assert_eq!(last, Some(again.advance().unwrap()), "cut after frame {cut}");
        }
    }
}

#[test]
fn grains_that_are_there_at_the_first_frame_are_carried_from_there() {
    let (mut shot, water) = pool(4);
    let mut grains = grains(water, all());
    grains.emission.from_frame = None;
    let id = shot.add(element("Herbs", grains).at(0.0, 0.32, 0.0));
    let mut simulation = Simulation::new(&shot, &Meshes::default()).unwrap();
    for _ in 0..3 {
        let frame = simulation.advance().unwrap();
        assert!(frame.particles_of(id).len() == 50 && mean_height(&frame.particles_of(id).positions) > 0.28);
    }
}
