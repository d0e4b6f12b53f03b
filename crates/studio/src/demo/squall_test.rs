//! *Squall test*: a squall comes in from the left, blows over what stands on
//! the pier, and passes.

use super::{File, quay, set};
use glam::Vec3;
use shot::{
    Camera, Element, ElementKind, Shot,
    force::{Force, ForceKind, Wind},
    motion::Interpolation,
    region::{Profile, Region, Volume},
};
use std::f32::consts::FRAC_PI_2;

pub(super) fn shot() -> (Shot, Vec<File>) {
    let mut shot = quay::pier("Squall test");
    shot.about = "A gust within a region that passes: forces in one place, for a time.".to_owned();
    shot.timing.last = 120;
    shot.add(quay::crates("Crates", [2, 3, 2]).at(0.2, 0.1805, -0.2).turned(0.0, 0.3, 0.0));
    shot.add(quay::floats("Floats", [6, 1, 3], 0.35).at(-0.9, 0.117, 0.9));

    // The front is three metres deep and takes as many seconds to pass.
    let front = Region {
        volume: Volume::Box { size_m: Vec3::new(3.0, 5.0, 9.0) },
        edge_m: 0.9,
        profile: Profile::Smooth,
        inverted: false,
    };
    let mut way = quay::keys([(12.0, -6.0), (48.0, -0.2), (80.0, 6.5)]);
    way.keys[0].interpolation = Interpolation::EaseIn;
    let front = Element::new("Squall front", ElementKind::Region(front)).at(-6.0, 1.5, 0.0);
    let front = shot.add(front.keyed("placement.position_m[0]", way));
    let wind = Wind {
        speed_m_s: 19.0,
        gust: 0.55,
        gust_s: 0.6,
        eddy: 0.35,
        eddy_m: 1.1,
        seed: 5,
        ..Wind::default()
    };
    let mut squall = Force::new(ForceKind::Wind(wind));
    squall.region = Some(front);
    squall.from_frame = Some(12);
    squall.to_frame = Some(100);
    let squall =
        Element::new("Squall", ElementKind::Force(squall)).at(-3.2, 1.6, 0.0).turned(0.0, 0.0, FRAC_PI_2);
    // It veers as it passes.
    let veer = quay::keys([(20.0, -0.25), (60.0, 0.3), (96.0, 0.1)]);
    shot.add(squall.keyed("placement.orientation_rad[1]", veer));

    let camera = Camera {
        focal_length_mm: 32.0,
        f_stop: Some(5.6),
        focus_distance_m: 5.6,
        exposure: 0.35,
        ..Camera::default()
    };
    let camera =
        Element::new("Pier camera", ElementKind::Camera(camera)).at(1.6, 1.9, 5.3).turned(-0.17, 0.2, 0.0);
    shot.camera = Some(shot.add(camera));
    quay::evening(&mut shot);
    set::moorings(&mut shot, set::Lamps { glow: 1.6 });
    set::rim(&mut shot, Vec3::new(-7.5, 4.5, -0.5), 9.0, Vec3::new(0.55, 0.75, 1.0));
    (shot, set::files())
}
