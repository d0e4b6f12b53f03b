//! The same bytes, whatever the threads and wherever a bake was resumed.

use super::*;
use rstest::rstest;
use shot::motion::Channel;
use shot::particles::{Action, LiquidQuantity, LiquidWeight, ParticleEvent, ScaledLiquid, Trigger};
use shot::region::{Region, Volume};
use shot::{Cloth, Pin, PinnedPart, Side};

/// A block that falls onto a jet, in a basin.
fn busy() -> Shot {
    let mut shot = bare(30);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.3));
    let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let block = liquid(of.clone(), Shape::sphere(0.1), EmissionSchedule::Fill {});
    shot.add(element("Block", block).at(-0.05, 0.3, 0.0));
    let mut jet = liquid(of, Shape::plane(0.05, 0.05), EmissionSchedule::Jet {});
    jet.start.speed_m_s = 1.0;
    shot.add(element("Jet", jet).at(0.1, 0.2, 0.0));
    shot
}

/// A block of a gel that becomes stiffer, and is softer in a region and where its map is 0.
fn gel() -> Shot {
    let mut shot = bare(30);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.3));
    let volume = Volume::Box { size_m: Vec3::splat(0.2) };
    let region = Region { volume, edge_m: 0.1, profile: Default::default(), inverted: false };
    let warm = shot.add(Element::new("Warm", ElementKind::Region(region)).at(0.1, 0.1, 0.0));
    let by = [
        (LiquidQuantity::Stiffness, LiquidWeight::Region { region: warm }),
        (LiquidQuantity::Viscosity, LiquidWeight::BirthMap {}),
    ];
    let scaled = |(quantity, by)| ScaledLiquid { quantity, by, at_0: 1.0, at_1: 0.2 };
    let of = Liquid {
        spacing_m: 0.02,
        viscosity_pa_s: 1.0,
        wall_friction: 0.7,
        yield_stress_pa: 20.0,
        scaled: by.into_iter().map(scaled).collect(),
        ..Liquid::default()
    };
    let block =
        element("Block", liquid(of, Shape::sphere(0.1), EmissionSchedule::Fill {})).at(0.05, 0.11, 0.0);
    let way = Channel::keyed([(1.0, 0.0f32), (9.0, 800.0)]);
    shot.add(block.keyed("kind.particles.liquid.stiffness_pa", way));
    shot
}

/// Water that falls onto a held cloth, which gives way.
fn on_cloth() -> Shot {
    let mut shot = bare(30);
    let of = Liquid { spacing_m: 0.02, ..Liquid::default() };
    let mut block = liquid(of, Shape::sphere(0.08), EmissionSchedule::Fill {});
    block.contact.push_deformables = true;
    shot.add(element("Block", block).at(0.0, 0.12, 0.0));
    let mut sheet = Element::solid("Sheet", Shape::plane(0.3, 0.3), Moves::Free);
    let pins = [Side::Left, Side::Right].map(|side| Pin::hard(PinnedPart::Side(side))).to_vec();
    sheet.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.03, pins, ..Cloth::default() });
    shot.add(sheet);
    shot
}

/// Water in a pool, into which a lighter gel falls whose tension and wetting differ by a region; what a camera does not see ends.
fn mixed() -> Shot {
    let mut shot = bare(30);
    basin(&mut shot, Vec3::new(0.4, 0.4, 0.3));
    let volume = Volume::Box { size_m: Vec3::splat(0.2) };
    let region = Region { volume, edge_m: 0.1, profile: Default::default(), inverted: false };
    let place = shot.add(Element::new("Soap", ElementKind::Region(region)).at(0.1, 0.1, 0.0));
    let mut water = liquid(
        Liquid { spacing_m: 0.02, ..Liquid::default() },
        Shape::sphere(0.1),
        EmissionSchedule::Fill {},
    );
    water.source = Source::Pool {};
    shot.add(element("Water", water).at(0.0, 0.1, 0.0));
    let by = LiquidWeight::Region { region: place };
    let scaled = |quantity| ScaledLiquid { quantity, by, at_0: 1.0, at_1: 0.2 };
    let of = Liquid {
        spacing_m: 0.02,
        density_kg_m3: 700.0,
        stiffness_pa: 200.0,
        surface_tension_n_m: 2.0,
        scaled: vec![scaled(LiquidQuantity::SurfaceTension), scaled(LiquidQuantity::WettingAngle)],
        ..Liquid::default()
    };
    let mut gel = liquid(of, Shape::sphere(0.07), EmissionSchedule::Fill {});
    let camera = shot.add(Element::new("Camera", ElementKind::Camera(Default::default())).at(0.1, 0.2, 2.0));
    let gate = Region { volume: Volume::Gate { camera, margin: -0.4 }, ..Region::new(Volume::HalfSpace {}) };
    let seen = shot.add(Element::new("Gate", ElementKind::Region(Region { inverted: true, ..gate })));
    gel.events.push(ParticleEvent {
        trigger: Trigger::Region { region: seen },
        action: Action::Die {},
        probability: 1.0,
    });
    shot.add(element("Gel", gel).at(0.02, 0.24, 0.0));
    shot
}

fn bytes(simulation: &mut Simulation, frames: u32) -> Vec<Vec<u8>> {
    (0..frames).map(|_| frames::encode(&simulation.advance().unwrap())).collect()
}

#[rstest]
#[case::water(busy())]
#[case::gel(gel())]
#[case::mixed(mixed())]
#[case::on_cloth(on_cloth())]
fn one_thread_and_three_give_the_same_bytes(#[case] shot: Shot) {
    let of = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| bytes(&mut Simulation::new(&shot, &Default::default()).unwrap(), 16))
    };
    assert!(of(1) == of(3));
}

#[rstest]
#[case::water(busy())]
#[case::gel(gel())]
#[case::mixed(mixed())]
#[case::on_cloth(on_cloth())]
fn a_run_resumed_at_any_frame_ends_with_the_same_bytes(#[case] shot: Shot) {
    let whole = bytes(&mut Simulation::new(&shot, &Default::default()).unwrap(), 12);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    for cut in 1..12 {
        simulation.advance().unwrap();
        let state = simulation.save();
        let mut resumed = Simulation::restored(&shot, &Default::default(), &state).unwrap();
        assert!(bytes(&mut resumed, 12 - cut as u32) == whole[cut..], "cut at {cut}");
    }
}
