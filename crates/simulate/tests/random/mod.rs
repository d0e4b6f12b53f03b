//! Shots at random, of all that acts, and changes of them.

use glam::Vec3;
use shot::{
    Copies, Element, ElementKind, Moves, Shape, Shot, Wake,
    force::{Force, ForceKind, Turbulence, Wind},
    motion::Channel,
    particles::{
        Action, ContactOutcome, ContactResponse, Direction, Emission, EmissionDomain, EmissionSchedule,
        ParticleEvent, Particles, Source, Split, Start, Trigger,
    },
    region::{Region, Volume},
};

/// Numbers in a row (S. Vigna, splitmix64, 2015).
pub struct Draw(pub u64);

impl Draw {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let z = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn number(&mut self, low: f32, high: f32) -> f32 {
        low + (high - low) * (self.next() >> 40) as f32 / (1u64 << 24) as f32
    }

    /// A whole number from `low` to `high`.
    pub fn whole(&mut self, low: usize, high: usize) -> usize {
        low + (self.next() % (high - low + 1) as u64) as usize
    }

    fn chance(&mut self, probability: f32) -> bool {
        self.number(0.0, 1.0) < probability
    }

    fn vector(&mut self, most: f32) -> Vec3 {
        Vec3::new(self.number(-most, most), self.number(-most, most), self.number(-most, most))
    }
}

fn shape(draw: &mut Draw) -> Shape {
    match draw.whole(0, 3) {
        0 => Shape::sphere(draw.number(0.05, 0.3)),
        1 => Shape::Capsule { radius_m: draw.number(0.05, 0.15), length_m: draw.number(0.1, 0.4) },
        _ => Shape::cuboid(draw.number(0.1, 0.5), draw.number(0.1, 0.5), draw.number(0.1, 0.5)),
    }
}

fn free(draw: &mut Draw, i: usize) -> Element {
    let mut element = Element::solid(&format!("Free {i}"), shape(draw), Moves::Free);
    element.placement.position_m = draw.vector(1.0) + Vec3::Y * 1.6;
    element.placement.orientation_rad = draw.vector(1.0);
    let solid = element.as_solid_mut().unwrap();
    (solid.body.friction, solid.body.restitution) = (draw.number(0.0, 1.0), draw.number(0.0, 0.9));
    if draw.chance(0.5) {
        solid.body.launch_velocity = Some(draw.vector(4.0));
        solid.body.launch_angular_velocity = Some(draw.vector(10.0));
    }
    if draw.chance(0.3) {
        solid.body.wake = Some(match draw.whole(0, 1) {
            0 => Wake::Frame(draw.whole(2, 20) as u32),
            _ => Wake::Touch { impulse_n_s: 0.0 },
        });
    }
    if draw.chance(0.3) {
        solid.copies = Some(Copies {
            count: [2, 1, 2],
            spacing_m: Vec3::splat(0.7),
            position_jitter_m: 0.05,
            orientation_jitter_rad: 0.5,
            seed: 2,
        });
    }
    if draw.chance(0.2) {
        solid.body.breaking_impulse_n_s = Some(draw.number(0.5, 40.0));
    }
    element
}

fn animated(draw: &mut Draw) -> Element {
    let mut element = Element::solid("Arm", shape(draw), Moves::Animated);
    let keys = [1.0, 12.0, 30.0].map(|frame| (frame, draw.vector(1.0) + Vec3::Y));
    element.channels.insert("placement.position_m".to_owned(), Channel::keyed(keys));
    if draw.chance(0.5) {
        element
            .channels
            .insert("placement.orientation_rad[1]".to_owned(), Channel::expression("3 * sin(2 * time)"));
    }
    if draw.chance(0.4) {
        element.as_solid_mut().unwrap().body.wake = Some(Wake::Frame(draw.whole(5, 25) as u32));
    }
    element
}

fn force(draw: &mut Draw, i: usize) -> Element {
    let kind = match draw.whole(0, 3) {
        0 => ForceKind::Pull { force_n: draw.number(-20.0, 20.0) },
        1 => ForceKind::Wind(Wind::default()),
        2 => ForceKind::Turbulence(Turbulence::default()),
        _ => ForceKind::Drag { linear_n_s_m: 0.1, density_kg_m3: 1.2 },
    };
    let mut force = Force::new(kind);
    if draw.chance(0.6) {
        force.from_frame = Some(draw.whole(1, 12) as u32);
    }
    if draw.chance(0.6) {
        force.to_frame = Some(draw.whole(13, 28) as u32);
    }
    Element::new(&format!("Force {i}"), ElementKind::Force(force)).turned(0.3, 0.0, draw.number(0.0, 3.0))
}

fn particles(draw: &mut Draw, i: usize) -> Element {
    let how = match draw.whole(0, 2) {
        0 => EmissionSchedule::Rate { per_s: draw.number(20.0, 200.0) },
        1 => EmissionSchedule::Total { count: draw.whole(5, 60) as u32 },
        _ => EmissionSchedule::Burst { count: draw.whole(5, 60) as u32 },
    };
    let births = Emission {
        schedule: how,
        preroll_s: if draw.chance(0.3) { 0.3 } else { 0.0 },
        from_frame: draw.chance(0.4).then(|| draw.whole(2, 20) as u32),
        ..Emission::default()
    };
    let start = Start {
        speed_m_s: draw.number(0.0, 3.0),
        spread_rad: draw.number(0.0, 1.5),
        direction: Direction::Normal,
        lifespan_s: draw.chance(0.5).then(|| draw.number(0.2, 1.5)),
        size_m: draw.number(0.02, 0.1),
        angular_speed_rad_s: if draw.chance(0.3) { 5.0 } else { 0.0 },
        inherited_velocity: 0.5,
        ..Start::default()
    };
    let outcome = match draw.whole(0, 3) {
        0 => ContactOutcome::Stick,
        1 => ContactOutcome::Die,
        _ => ContactOutcome::Bounce,
    };
    let mut of = Particles {
        source: Source::Shape { shape: Shape::sphere(0.3), domain: EmissionDomain::Surface },
        emission: births,
        start,
        contact: ContactResponse {
            enabled: draw.chance(0.8),
            push: draw.chance(0.5),
            outcome,
            ..ContactResponse::default()
        },
        seed: i as u32,
        ..Particles::default()
    };
    if draw.chance(0.4) {
        let trigger = match draw.whole(0, 2) {
            0 => Trigger::Age { age_s: 0.2 },
            1 => Trigger::Touch { bodies: Vec::new(), speed_m_s: 0.5 },
            _ => Trigger::Frame { frame: draw.whole(3, 24) as u32 },
        };
        let split = Split { count: 2, speed_m_s: 1.0, size: Some(0.5), ..Split::default() };
        let action = if draw.chance(0.5) { Action::Split(split) } else { Action::Die {} };
        of.events = vec![ParticleEvent { trigger, action, probability: 0.5 }];
    }
    Element::new(&format!("Particles {i}"), ElementKind::Particles(of)).at(draw.number(-1.0, 1.0), 1.5, 0.0)
}

/// A shot of some thirty frames with bodies, forces and particles.
pub fn random_shot(seed: u64) -> Shot {
    let mut draw = Draw(seed);
    let mut shot = Shot::empty(&format!("Random {seed}"));
    shot.timing.last = draw.whole(18, 30) as u32;
    shot.timing.first = draw.whole(0, 2) as u32;
    shot.physics.substeps = draw.whole(1, 6) as u32;
    shot.add(Element::solid("Deck", Shape::plane(10.0, 10.0), Moves::Still));
    for i in 0..draw.whole(1, 4) {
        shot.add(free(&mut draw, i));
    }
    if draw.chance(0.6) {
        shot.add(animated(&mut draw));
    }
    for i in 0..draw.whole(0, 3) {
        shot.add(force(&mut draw, i));
    }
    for i in 0..draw.whole(0, 2) {
        shot.add(particles(&mut draw, i));
    }
    if draw.chance(0.3) {
        let keys = [(1.0, 1.0f32), (10.0, 0.3), (20.0, 1.5)];
        shot.channels.insert("physics.time_scale".to_owned(), Channel::keyed(keys));
    }
    if draw.chance(0.4) {
        let region = Region::new(Volume::Sphere { radius_m: 1.0 });
        let region = shot.add(Element::new("Place", ElementKind::Region(region)).at(0.0, 1.0, 0.0));
        for element in &mut shot.elements {
            if let ElementKind::Force(force) = &mut element.kind
                && element.name.starts_with("Force")
            {
                force.region = Some(region);
            }
        }
    }
    assert_eq!(shot.faults(), []);
    shot
}

/// Changes something: most of what can be changed while one looks at a shot.
pub fn change(shot: &mut Shot, draw: &mut Draw) {
    let last = shot.timing.last as usize;
    match draw.whole(0, 9) {
        0 => {
            shot.add(force(draw, 9));
        }
        1 => {
            shot.add(particles(draw, 9));
        }
        2 => {
            let forces = shot.elements.iter_mut().filter(|e| matches!(e.kind, ElementKind::Force(_)));
            if let Some(Element { kind: ElementKind::Force(force), .. }) = forces.last() {
                (force.from_frame, force.to_frame) = (Some(1), Some(draw.whole(2, last) as u32));
            }
        }
        3 => {
            let key = draw.whole(3, last) as f64;
            if let Some(element) = shot.named_mut("Free 0") {
                let friction = element.as_solid_mut().unwrap().body.friction;
                let keys = [(key, friction), (key + 4.0, 0.0)];
                element.channels.insert("kind.solid.body.friction".to_owned(), Channel::keyed(keys));
            }
        }
        4 => {
            shot.elements.retain(|element| element.name != "Particles 0");
        }
        5 => {
            let key = draw.whole(3, last) as f64;
            if let Some(element) = shot.named_mut("Particles 0") {
                let keys = [(key, 0.0f32), (key + 3.0, 8.0)];
                element
                    .channels
                    .insert("kind.particles.start.angular_speed_rad_s".to_owned(), Channel::keyed(keys));
                element.as_particles_mut().unwrap().start.angular_speed_rad_s = 0.0;
            }
        }
        6 => {
            if let Some(element) = shot.named_mut("Particles 0") {
                let contact = &mut element.as_particles_mut().unwrap().contact;
                contact.push = !contact.push;
            }
        }
        7 => {
            // A force on the particles only, or on all but them.
            let particles = shot::force::ElementFilter::Kind { kind: shot::force::Matter::Particles };
            let mut element = force(draw, 8);
            if let ElementKind::Force(force) = &mut element.kind {
                if draw.chance(0.7) { force.only.push(particles) } else { force.except.push(particles) }
            }
            shot.add(element);
        }
        8 => {
            if let Some(element) = shot.named_mut("Particles 0") {
                element.as_particles_mut().unwrap().start.speed_m_s += 0.5;
            }
        }
        _ => {
            shot.timing.last += 3;
        }
    }
    shot.elements.iter_mut().for_each(|element| {
        if let Some(particles) = element.as_particles_mut() {
            particles.events.retain(|event| !matches!(event.action, Action::Become { .. }));
        }
    });
    assert_eq!(shot.faults(), []);
}

/// Keys what adds up over time, of all forces and particles, from a late frame of the round on.
#[allow(dead_code, reason = "not all tests that have shots at random use it")]
pub fn key_late_in_the_round(shot: &mut Shot, draw: &mut Draw) {
    let (first, length) = (f64::from(shot.timing.first), shot.timing.loop_frames.unwrap_or(8) as usize);
    let key = first + draw.whole(2, length - 1) as f64;
    for element in &mut shot.elements {
        let (path, value) = match &element.kind {
            ElementKind::Force(Force { kind: ForceKind::Wind(wind), .. }) => {
                ("kind.force.kind.wind.speed_m_s", wind.speed_m_s)
            }
            ElementKind::Force(Force { kind: ForceKind::Turbulence(turbulence), .. }) => {
                ("kind.force.kind.turbulence.change_s", turbulence.change_s)
            }
            ElementKind::Particles(Particles {
                emission: Emission { schedule: EmissionSchedule::Rate { per_s }, .. },
                ..
            }) => ("kind.particles.emission.schedule.rate.per_s", *per_s),
            _ => continue,
        };
        // Up to that frame the value is as it was.
        let keys = [(first, value), (key - 1.0, value), (key, 1.5 * value + 0.1)];
        let mut channel = Channel::keyed(keys);
        channel.keys.iter_mut().for_each(|key| key.interpolation = shot::motion::Interpolation::Hold);
        element.channels.insert(path.to_owned(), channel);
    }
    assert_eq!(shot.faults(), []);
}
