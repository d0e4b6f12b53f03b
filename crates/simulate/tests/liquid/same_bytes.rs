//! The same bytes, whatever the threads and wherever a bake was resumed.

use super::*;

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

fn bytes(simulation: &mut Simulation, frames: u32) -> Vec<Vec<u8>> {
    (0..frames).map(|_| frames::encode(&simulation.advance().unwrap())).collect()
}

#[test]
fn one_thread_and_three_give_the_same_bytes() {
    let of = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| bytes(&mut Simulation::new(&busy(), &Default::default()).unwrap(), 16))
    };
    assert!(of(1) == of(3));
}

#[test]
fn a_run_resumed_at_any_frame_ends_with_the_same_bytes() {
    let shot = busy();
    let whole = bytes(&mut Simulation::new(&shot, &Default::default()).unwrap(), 12);
    let mut simulation = Simulation::new(&shot, &Default::default()).unwrap();
    for cut in 1..12 {
        simulation.advance().unwrap();
        let state = simulation.save();
        let mut resumed = Simulation::restored(&shot, &Default::default(), &state).unwrap();
        assert!(bytes(&mut resumed, 12 - cut as u32) == whole[cut..], "cut at {cut}");
    }
}
