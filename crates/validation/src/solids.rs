//! Rigid bodies against mechanics.

use crate::Experiment;
use frames::Frame;
use glam::Vec3;
use shot::{Element, Moves, Shape, Shot};
use simulate::Simulation;

const G: f32 = 9.81;

/// An empty shot of 60 frames a second.
pub fn shot(seconds: f32) -> Shot {
    let mut shot = Shot::empty("Experiment");
    shot.timing.fps = 60.0;
    shot.timing.last = (60.0 * seconds) as u32 + 1;
    shot
}

/// A solid with its friction and bounce.
pub fn body(name: &str, shape: Shape, moves: Moves, friction: f32, bounce: f32) -> Element {
    let mut element = Element::solid(name, shape, moves);
    let solid = element.as_solid_mut().expect("a solid");
    solid.body.friction = friction;
    solid.body.restitution = bounce;
    element
}

fn floor(friction: f32, bounce: f32) -> Element {
    body("Floor", Shape::cuboid(60.0, 1.0, 60.0), Moves::Still, friction, bounce).at(0.0, -0.5, 0.0)
}

fn launched(mut element: Element, velocity: Vec3) -> Element {
    element.as_solid_mut().expect("a solid").body.launch_velocity = Some(velocity);
    element
}

/// All frames of a shot.
pub fn frames(shot: &Shot) -> Vec<Frame> {
    let mut simulation = Simulation::new(shot, &Default::default()).expect("the shot can be prepared");
    let mut frames = vec![simulation.write()];
    while simulation.frame() < shot.timing.last {
        frames.push(simulation.advance().expect("the shot stays within bounds"));
    }
    frames
}

/// Place of the first copy of an element at every frame.
pub fn path(shot: &Shot, name: &str) -> Vec<(f64, Vec3)> {
    let id = shot.named(name).expect("the element is there").id;
    frames(shot).iter().map(|frame| (frame.time_s, frame.bodies[&id].positions[0])).collect()
}

/// A ball falls for a second.
pub fn free_fall() -> Experiment {
    let mut shot = shot(1.0);
    shot.add(body("Ball", Shape::sphere(0.1), Moves::Free, 0.5, 0.0).at(0.0, 10.0, 0.0));
    let path = path(&shot, "Ball");
    let curve: Vec<_> = path.iter().map(|(t, p)| (*t, f64::from(10.0 - p.y))).collect();
    Experiment {
        key: "free-fall",
        statement: "A ball falls g t²/2 in a second.".to_owned(),
        formula: "g t² / 2",
        expected: 0.5 * f64::from(G),
        measured: curve.last().expect("frames").1,
        tolerance: 0.005,
        unit: "m",
        axes: ("time, s", "fallen, m"),
        reference: curve.iter().map(|(t, _)| (*t, 0.5 * f64::from(G) * t * t)).collect(),
        curve,
    }
}

/// A ball rolls down an incline.
pub fn incline() -> Experiment {
    let angle = 0.3f32;
    let mut shot = shot(1.5);
    shot.add(
        body("Ramp", Shape::cuboid(20.0, 1.0, 4.0), Moves::Still, 0.9, 0.0)
            .turned(0.0, 0.0, -angle)
            .at(0.0, 0.0, 0.0),
    );
    let normal = Vec3::new(angle.sin(), angle.cos(), 0.0);
    let along = Vec3::new(angle.cos(), -angle.sin(), 0.0);
    let start = normal * (0.5 + 0.2) - along * 4.0;
    let mut ball = body("Ball", Shape::sphere(0.2), Moves::Free, 0.9, 0.0).at(start.x, start.y, start.z);
    ball.as_solid_mut().expect("a solid").body.margin_m = Some(0.0);
    shot.add(ball);
    let path = path(&shot, "Ball");
    let curve: Vec<_> = path.iter().map(|(t, p)| (*t, f64::from((*p - start).dot(along)))).collect();
    let acceleration = 5.0 / 7.0 * f64::from(G * angle.sin());
    let (t, s) = *curve.last().expect("frames");
    Experiment {
        key: "incline",
        statement: "A ball rolls down an incline without slipping.".to_owned(),
        formula: "5/7 g sin θ",
        expected: acceleration,
        measured: 2.0 * s / (t * t),
        tolerance: 0.01,
        unit: "m/s²",
        axes: ("time, s", "rolled, m"),
        reference: curve.iter().map(|(t, _)| (*t, 0.5 * acceleration * t * t)).collect(),
        curve,
    }
}

/// A ball dropped on a floor, both of bounce `e`.
pub fn rebound(e: f32) -> Experiment {
    let (height, radius) = (1.0f32, 0.1f32);
    let mut shot = shot(1.2);
    // Frames fine enough that the top of the rebound is seen.
    shot.timing.fps = 240.0;
    shot.timing.last = 289;
    shot.physics.substeps = 4;
    shot.add(floor(0.5, e));
    shot.add(body("Ball", Shape::sphere(radius), Moves::Free, 0.5, e).at(0.0, height + radius, 0.0));
    let path = path(&shot, "Ball");
    let curve: Vec<_> = path.iter().map(|(t, p)| (*t, f64::from(p.y - radius))).collect();
    let touch = curve.iter().position(|(_, y)| *y < 0.02).expect("it lands");
    let top = curve[touch..].iter().map(|(_, y)| *y).skip_while(|y| *y > 0.03).fold(0.0, f64::max);
    let g = f64::from(G);
    let (fall, e64) = ((2.0 / g).sqrt(), f64::from(e));
    let free = |t: f64| {
        let after = t - fall;
        if after < 0.0 { 1.0 - 0.5 * g * t * t } else { e64 * g * fall * after - 0.5 * g * after * after }
    };
    Experiment {
        key: match (e * 10.0).round() as u32 {
            3 => "rebound-3",
            6 => "rebound-6",
            _ => "rebound-9",
        },
        statement: format!("A ball of bounce {e} rebounds to e² of its height."),
        formula: "e² h",
        expected: e64 * e64 * f64::from(height),
        measured: top,
        tolerance: 0.03,
        unit: "m",
        axes: ("time, s", "height, m"),
        reference: curve.iter().map(|(t, _)| (*t, free(*t))).filter(|(_, y)| *y >= 0.0).collect(),
        curve,
    }
}

/// A box slides on a floor until friction stops it.
pub fn sliding() -> Experiment {
    let (v, mu) = (3.0f32, 0.4f32);
    let mut shot = shot(1.5);
    shot.add(floor(mu, 0.0));
    let block = body("Box", Shape::cuboid(0.6, 0.2, 0.6), Moves::Free, mu, 0.0).at(0.0, 0.1, 0.0);
    shot.add(launched(block, Vec3::new(v, 0.0, 0.0)));
    let path = path(&shot, "Box");
    let curve: Vec<_> = path.iter().map(|(t, p)| (*t, f64::from(p.x))).collect();
    let (v, mu, g) = (f64::from(v), f64::from(mu), f64::from(G));
    Experiment {
        key: "sliding",
        statement: "A box sliding at v is stopped by friction.".to_owned(),
        formula: "v² / (2 μ g)",
        expected: v * v / (2.0 * mu * g),
        measured: curve.last().expect("frames").1,
        tolerance: 0.03,
        unit: "m",
        axes: ("time, s", "slid, m"),
        reference: curve
            .iter()
            .map(|(t, _)| {
                let t = t.min(v / (mu * g));
                (t, v * t - 0.5 * mu * g * t * t)
            })
            .collect(),
        curve,
    }
}

/// Two balls meet head on, without gravity.
pub fn collision() -> Experiment {
    let mut shot = shot(1.0);
    shot.elements.retain(|element| element.as_force().is_none());
    let ball = |name, radius, x| body(name, Shape::sphere(radius), Moves::Free, 0.5, 0.5).at(x, 0.0, 0.0);
    shot.add(launched(ball("Heavy", 0.3, -1.0), Vec3::new(3.0, 0.0, 0.0)));
    shot.add(launched(ball("Light", 0.15, 1.0), Vec3::new(-2.0, 0.0, 0.0)));
    let frames = frames(&shot);
    let curve: Vec<_> = frames.iter().map(|f| (f.time_s, f.measured.momentum[0])).collect();
    let (expected, measured) = (curve[0].1, curve.last().expect("frames").1);
    Experiment {
        key: "collision",
        statement: "A head-on collision keeps momentum.".to_owned(),
        formula: "m₁ v₁ + m₂ v₂",
        expected,
        measured,
        tolerance: 0.001,
        unit: "kg m/s",
        axes: ("time, s", "momentum, kg m/s"),
        reference: curve.iter().map(|(t, _)| (*t, expected)).collect(),
        curve,
    }
}

/// Ten boxes stand on each other for five seconds.
pub fn stack() -> Experiment {
    let mut shot = shot(5.0);
    shot.add(floor(0.5, 0.0));
    for i in 0..10 {
        let element = body("Box", Shape::cuboid(0.4, 0.4, 0.4), Moves::Free, 0.5, 0.0);
        shot.add(element.at(0.0, 0.2 + 0.4 * i as f32, 0.0));
    }
    let frames = frames(&shot);
    let start = &frames[0];
    let moved = |frame: &Frame| {
        let far =
            frame.bodies.iter().map(|(id, b)| (b.positions[0] - start.bodies[id].positions[0]).length());
        f64::from(far.fold(0.0, f32::max)) * 1e3
    };
    let curve: Vec<_> = frames.iter().map(|frame| (frame.time_s, moved(frame))).collect();
    Experiment {
        key: "stack",
        statement: "Ten stacked boxes stay where they are for 5 s.".to_owned(),
        formula: "0",
        expected: 0.0,
        measured: curve.iter().map(|(_, d)| *d).fold(0.0, f64::max),
        tolerance: 2.0,
        unit: "mm",
        axes: ("time, s", "furthest moved, mm"),
        reference: vec![(0.0, 0.0), (5.0, 0.0)],
        curve,
    }
}

/// Small balls and boxes are shot at a thin plate.
pub fn plate() -> Experiment {
    let mut shot = shot(0.5);
    shot.add(body("Plate", Shape::cuboid(4.0, 4.0, 0.005), Moves::Still, 0.5, 0.3));
    let mut last = None;
    for i in 0..25 {
        let shape = if i % 2 == 0 { Shape::sphere(0.03) } else { Shape::cuboid(0.05, 0.04, 0.06) };
        let (x, y) = ((i % 5) as f32 * 0.4 - 0.8, (i / 5) as f32 * 0.4 - 0.8);
        let shell = body("Shell", shape, Moves::Free, 0.5, 0.3).at(x, y, -1.0 - 0.037 * i as f32);
        last = Some(shot.add(launched(shell, Vec3::new(0.0, 0.0, 30.0))));
    }
    let frames = frames(&shot);
    let through = |frame: &Frame| {
        frame.bodies.iter().filter(|(id, b)| id.0 > 5 && b.positions[0].z > 0.05).count() as f64
    };
    let curve: Vec<_> = frames
        .iter()
        .map(|f| (f.time_s, f64::from(f.bodies[&last.expect("shells")].positions[0].z)))
        .collect();
    Experiment {
        key: "plate",
        statement: "Nothing passes through a 5 mm plate at 30 m/s.".to_owned(),
        formula: "0 of 25",
        expected: 0.0,
        measured: frames.iter().map(through).fold(0.0, f64::max),
        tolerance: 0.0,
        unit: "bodies",
        axes: ("time, s", "position of the last body, m"),
        reference: vec![(0.0, 0.0), (0.5, 0.0)],
        curve,
    }
}

/// All experiments with solids.
pub fn all() -> Vec<Experiment> {
    vec![
        free_fall(),
        incline(),
        rebound(0.3),
        rebound(0.6),
        rebound(0.9),
        sliding(),
        collision(),
        stack(),
        plate(),
    ]
}
