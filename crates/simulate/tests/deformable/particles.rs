//! Particles meet cloths and soft bodies, and are born on them.

use super::push::{areas, momenta};
use super::{assert_goes_on_from_every_frame, pin, run, shot, without_gravity};
use frames::Frame;
use glam::Vec3;
use shot::force::ElementFilter;
use shot::particles::{
    ContactResponse, Direction, Emission, EmissionDomain, EmissionSchedule, Particles, Source, Start,
};
use shot::{Cloth, Element, ElementKind, Id, Moves, PinnedPart, Shape, Shot, Side, SystemId, Weight};

/// A sheet that is held all round.
fn sheet(shot: &mut Shot) -> Id {
    let mut element = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 1.0, 0.0);
    let pins =
        [Side::Left, Side::Right, Side::Front, Side::Back].map(|side| pin(PinnedPart::Side(side))).to_vec();
    element.as_solid_mut().unwrap().cloth = Some(Cloth { edge_m: 0.1, pins, ..Cloth::default() });
    shot.add(element)
}

fn particles(source: Source, speed_m_s: f32) -> Particles {
    Particles {
        source,
        emission: Emission { schedule: EmissionSchedule::Burst { count: 200 }, ..Emission::default() },
        start: Start { speed_m_s, ..Start::default() },
        ..Particles::default()
    }
}

fn rain(shot: &mut Shot) -> Id {
    let shape = Shape::cuboid(0.5, 0.1, 0.5);
    let source = Source::Shape { shape, domain: EmissionDomain::Volume };
    let rain = Element::new("Rain", ElementKind::Particles(particles(source, 0.0)));
    shot.add(rain.at(0.0, 1.6, 0.0))
}

#[test]
fn particles_land_on_a_sheet_and_ride_on_it() {
    let mut shot = shot(2.0);
    let (sheet, rain) = (sheet(&mut shot), rain(&mut shot));
    let last = run(&shot, |_| ());
    let lowest = super::places(&last, sheet).iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
    let drops = &last.particles[&rain].positions;
    let above = drops.iter().filter(|p| p.x.abs() < 0.5 && p.z.abs() < 0.5);
    assert!(above.clone().count() > 60, "{}", above.count());
    assert!(above.clone().all(|p| p.y > lowest - 0.01), "{lowest}");
}

#[test]
fn particles_that_meet_a_sheet_read_its_system_and_others_do_not() {
    let mut shot = shot(1.0);
    let (sheet, rain) = (sheet(&mut shot), rain(&mut shot));
    let reads =
        |shot: &Shot| shot.systems().into_iter().find(|of| of.elements.contains(&rain)).unwrap().reads;
    assert_eq!(reads(&shot), [SystemId::Solids, SystemId::Deformables]);
    let prints = |shot: &Shot| shot::fingerprint::system_fingerprints(shot).pop().unwrap().list;
    let before = prints(&shot);
    let change = |shot: &mut Shot| {
        shot.named_mut("Sheet").unwrap().as_solid_mut().unwrap().cloth.as_mut().unwrap().mass_kg_m2 = 0.5;
    };
    let mut changed = shot.clone();
    change(&mut changed);
    assert_ne!(prints(&changed), before);
    let of = shot.named_mut("Rain").unwrap().as_particles_mut().unwrap();
    of.contact = ContactResponse { except: vec![ElementFilter::Element(sheet)], ..of.contact.clone() };
    assert_eq!(reads(&shot), [SystemId::Solids]);
    let before = prints(&shot);
    change(&mut shot);
    assert_eq!(prints(&shot), before);
}

#[test]
fn particles_are_born_on_a_sheet_where_it_is() {
    let mut shot = shot(1.0);
    let sheet = sheet(&mut shot);
    let mut of = particles(Source::Solid { solid: sheet, domain: EmissionDomain::Surface }, 0.0);
    of.emission.from_frame = Some(shot.timing.first + 20);
    of.emission.to_frame = of.emission.from_frame;
    of.contact.enabled = false;
    let dust = shot.add(Element::new("Dust", ElementKind::Particles(of)));
    let mut born = None;
    run(&shot, |frame| {
        let there = frame.particles.get(&dust).is_some_and(|dust| !dust.positions.is_empty());
        if there && born.is_none() {
            let lowest = super::places(frame, sheet).iter().map(|p| p.y).fold(f32::INFINITY, f32::min);
            born = Some((lowest, frame.particles[&dust].positions.clone()));
        }
    });
    let (lowest, born) = born.unwrap();
    assert!(born.len() > 150 && lowest < 0.99, "{} {lowest}", born.len());
    let near = born.iter().filter(|p: &&Vec3| p.y > lowest - 0.01 && p.y < 0.998).count();
    assert!(near > 100, "{near} of {}", born.len());
}

#[test]
fn particles_on_a_sheet_go_on_from_every_frame() {
    let mut shot = shot(0.5);
    sheet(&mut shot);
    rain(&mut shot);
    shot.named_mut("Rain").unwrap().placement.position_m.y = 1.15;
    assert_goes_on_from_every_frame(&shot);
}

/// Pebbles that fall on a sheet in free fall give their momentum to it: what they have together does not change.
#[test]
fn particles_push_a_sheet_and_momentum_is_kept() {
    let mut shot = shot(1.0);
    without_gravity(&mut shot);
    let mut sheet = Element::solid("Sheet", Shape::plane(1.0, 1.0), Moves::Free).at(0.0, 1.0, 0.0);
    let cloth = Cloth { edge_m: 0.1, drag: 0.0, lift: 0.0, mass_kg_m2: 0.4, ..Cloth::default() };
    sheet.as_solid_mut().unwrap().cloth = Some(cloth);
    let sheet = shot.add(sheet);
    let source = Source::Shape { shape: Shape::cuboid(0.5, 0.1, 0.5), domain: EmissionDomain::Volume };
    let mut of = particles(source, 2.0);
    of.emission.schedule = EmissionSchedule::Burst { count: 40 };
    of.body.weight = Weight::MassKg(0.005);
    of.body.drag = 0.0;
    of.start.direction = Direction::Up;
    of.start.speed_m_s = -2.0;
    (of.contact.push_deformables, of.contact.restitution) = (true, 0.0);
    let pebbles = Element::new("Pebbles", ElementKind::Particles(of)).at(0.0, 1.3, 0.0);
    let pebbles = shot.add(pebbles);
    assert_eq!(shot.systems().len(), 1, "they are solved together");
    let mass = 0.005;
    let mut most = 0.0f32;
    let (mut masses, mut before) = (Vec::new(), Vec3::ZERO);
    let carried_by_pebbles =
        |frame: &Frame| -> Vec3 { frame.particles_of(pebbles).velocities.iter().map(|v| *v * mass).sum() };
    let last = run(&shot, |frame| {
        most = most.max(frame.particles_of(pebbles).len() as f32);
        if masses.is_empty() {
            masses = areas(&frame.meshes[&sheet]).into_iter().map(|area| 0.4 * area).collect();
            before = carried_by_pebbles(frame);
        }
    });
    assert!(most >= 10.0, "{most} pebbles");
    let given = momenta(&last, sheet, &masses).0.as_vec3();
    let kept = carried_by_pebbles(&last);
    assert!(given.y < 0.2 * before.y, "the sheet is pushed: {given} of {before}");
    assert!(((given + kept) - before).length() < 1e-5 * given.length(), "{given} and {kept} of {before}");
    shot.timing.last = shot.timing.first + 12;
    assert_goes_on_from_every_frame(&shot);
}
