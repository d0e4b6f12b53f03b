//! Images and meshes of Saltmarket, drawn by code.

use glam::{Vec2, Vec3};

/// Smooth noise in 0–1, repeating after `period`.
fn noise(x: f32, y: f32, period: i32, seed: u32) -> f32 {
    let corner = |x: i32, y: i32| {
        let mut h = (x.rem_euclid(period) as u32).wrapping_mul(0x27d4_eb2d)
            ^ (y.rem_euclid(period) as u32).wrapping_mul(0x1656_67b1)
            ^ seed.wrapping_mul(0x9e37_79b9);
        h = (h ^ (h >> 15)).wrapping_mul(0x85eb_ca6b);
        h = (h ^ (h >> 13)).wrapping_mul(0xc2b2_ae35);
        (h ^ (h >> 16)) as f32 / u32::MAX as f32
    };
    let (x0, y0) = (x.floor(), y.floor());
    let smooth = |t: f32| t * t * (3.0 - 2.0 * t);
    let (fx, fy) = (smooth(x - x0), smooth(y - y0));
    let (x0, y0) = (x0 as i32, y0 as i32);
    let lerp = |a: f32, b: f32, t: f32| a + (b - a) * t;
    lerp(
        lerp(corner(x0, y0), corner(x0 + 1, y0), fx),
        lerp(corner(x0, y0 + 1), corner(x0 + 1, y0 + 1), fx),
        fy,
    )
}

/// Wood grain along v: 0 dark to 1 light.
fn grain(u: f32, v: f32, seed: u32) -> f32 {
    let warp = noise(u * 3.0, v * 2.0, 64, seed) * 0.7;
    let rings = noise(u * 34.0 + warp * 9.0, v * 1.6, 512, seed + 1);
    let fine = noise(u * 150.0, v * 5.0, 512, seed + 2);
    0.55 * rings + 0.3 * fine + 0.15 * noise(u * 6.0, v * 3.0, 64, seed + 3)
}

fn png(size: u32, colour: impl Fn(f32, f32) -> Vec3) -> Vec<u8> {
    let mut rgb = Vec::with_capacity((size * size * 3) as usize);
    for y in 0..size {
        for x in 0..size {
            let c = colour((x as f32 + 0.5) / size as f32, 1.0 - (y as f32 + 0.5) / size as f32);
            rgb.extend(c.clamp(Vec3::ZERO, Vec3::ONE).to_array().map(picture::display::srgb));
        }
    }
    interchange::write_png(size, size, &rgb).expect("a picture encodes")
}

/// Planks of a pier, wet and grey-brown, eight across.
pub(super) fn planks() -> Vec<u8> {
    png(1024, |u, v| {
        let at = u * 8.0;
        let plank = at.floor();
        let across = at - plank;
        let seed = plank as u32 * 17 + 5;
        let shift = noise(plank * 3.7, 0.5, 64, 9) * 5.0;
        let g = grain(across * 0.5 + plank, v * 2.0 + shift, seed);
        let shade = 0.72 + 0.5 * noise(plank * 2.3, 1.5, 64, 11);
        let base = Vec3::new(0.24, 0.17, 0.115).lerp(Vec3::new(0.42, 0.325, 0.235), g) * shade;
        // Joints between planks, and one across each.
        let along = (v * 2.0 + shift).fract();
        let gap = (across.min(1.0 - across) / 0.022).min(1.0).min((along.min(1.0 - along) / 0.004).min(1.0));
        let damp = 0.75 + 0.25 * noise(u * 5.0, v * 5.0, 5, 77);
        base * damp * (0.12 + 0.88 * gap * gap)
    })
}

/// Pale new wood.
pub(super) fn deal() -> Vec<u8> {
    png(512, |u, v| {
        let g = grain(u, v, 41);
        let knot = (Vec2::new(u, v) - Vec2::new(0.31, 0.62)).length();
        let dark = (-(knot * 26.0).powi(2)).exp();
        Vec3::new(0.50, 0.315, 0.155).lerp(Vec3::new(0.74, 0.54, 0.32), g) * (1.0 - 0.55 * dark)
    })
}

/// Weathered granite, with a rust stain below where an iron ring was.
pub(super) fn granite() -> Vec<u8> {
    png(512, |u, v| {
        let speck = noise(u * 140.0, v * 140.0, 140, 21);
        let cloud = noise(u * 7.0, v * 7.0, 7, 22) * 0.6 + noise(u * 19.0, v * 19.0, 19, 23) * 0.4;
        let fleck = if speck > 0.86 {
            0.16
        } else if speck < 0.16 {
            -0.12
        } else {
            0.0
        };
        let stone = Vec3::new(0.40, 0.39, 0.375) * (0.62 + 0.5 * cloud) + Vec3::splat(fleck);
        let run = (-(((u - 0.5) * 9.0).powi(2))).exp() * (1.0 - v) * noise(u * 30.0, v * 4.0, 30, 24);
        stone.lerp(Vec3::new(0.36, 0.17, 0.075), (1.1 * run).min(0.8))
    })
}

/// A fish crate of 0.5 × 0.36 × 0.42 m: corner posts, slats, a bottom.
pub(super) fn fish_crate() -> Vec<u8> {
    let half = Vec3::new(0.25, 0.18, 0.21);
    let mut obj = Obj::default();
    let (slat, post) = (0.012, 0.022);
    for (sx, sz) in [(-1.0, -1.0), (-1.0, 1.0), (1.0, -1.0), (1.0, 1.0)] {
        let at = Vec3::new(sx * (half.x - slat - post * 0.5), 0.0, sz * (half.z - slat - post * 0.5));
        obj.board(at, Vec3::new(post, half.y * 2.0 - 0.004, post), 1);
    }
    for row in 0..3 {
        let height = 0.1;
        let y = -half.y + 0.058 + row as f32 * 0.122;
        for side in [-1.0, 1.0] {
            obj.board(
                Vec3::new(0.0, y, side * (half.z - slat * 0.5)),
                Vec3::new(half.x * 2.0, height, slat),
                0,
            );
            let size = Vec3::new(slat, height, half.z * 2.0 - slat * 2.0);
            obj.board(Vec3::new(side * (half.x - slat * 0.5), y, 0.0), size, 2);
        }
    }
    for board in 0..4 {
        let z = (board as f32 - 1.5) * 0.096;
        obj.board(Vec3::new(0.0, -half.y + 0.006, z), Vec3::new(half.x * 2.0 - 0.03, 0.012, 0.088), 0);
    }
    // A lid, so that a crate shows no empty inside.
    for board in 0..4 {
        let z = (board as f32 - 1.5) * 0.1;
        obj.board(Vec3::new(0.0, half.y - 0.006, z), Vec3::new(half.x * 2.0, 0.012, 0.094), 0);
    }
    obj.text.into_bytes()
}

#[derive(Default)]
struct Obj {
    text: String,
    vertices: usize,
    boards: u32,
}

impl Obj {
    /// A board with chamfered look, its grain along axis `along`.
    fn board(&mut self, centre: Vec3, size: Vec3, along: usize) {
        use std::fmt::Write;
        self.boards += 1;
        let shift = Vec2::new(
            noise(self.boards as f32 * 1.7, 0.3, 97, 3),
            noise(self.boards as f32 * 2.9, 0.7, 97, 4),
        );
        let mesh = geometry::primitive::cuboid(size, (size.min_element() * 0.2).min(0.003));
        let others = [(along + 1) % 3, (along + 2) % 3];
        for i in 0..mesh.positions.len() {
            let (p, n) = (mesh.positions[i] + centre, mesh.normals[i]);
            let across = if n[others[0]].abs() > n[others[1]].abs() { others[1] } else { others[0] };
            let (u, v) =
                (mesh.positions[i][across] * 2.6 + shift.x, mesh.positions[i][along] * 1.7 + shift.y);
            let _ = writeln!(self.text, "v {:.5} {:.5} {:.5}", p.x, p.y, p.z);
            let _ = writeln!(self.text, "vn {:.4} {:.4} {:.4}", n.x, n.y, n.z);
            let _ = writeln!(self.text, "vt {u:.4} {v:.4}");
        }
        for t in &mesh.triangles {
            let c = t.map(|v| v as usize + self.vertices + 1);
            let _ = writeln!(self.text, "f {0}/{0}/{0} {1}/{1}/{1} {2}/{2}/{2}", c[0], c[1], c[2]);
        }
        self.vertices += mesh.positions.len();
    }
}

impl Obj {
    /// A ball drawn out along the axes.
    fn ball(&mut self, centre: Vec3, radii: Vec3, sides: usize) {
        use std::fmt::Write;
        let mesh = geometry::primitive::sphere(1.0, sides);
        for i in 0..mesh.positions.len() {
            let (p, n) = (centre + mesh.positions[i] * radii, (mesh.normals[i] / radii).normalize());
            let _ = writeln!(self.text, "v {:.5} {:.5} {:.5}", p.x, p.y, p.z);
            let _ = writeln!(self.text, "vn {:.4} {:.4} {:.4}", n.x, n.y, n.z);
            let _ = writeln!(self.text, "vt {:.4} {:.4}", mesh.uvs[i].x, mesh.uvs[i].y);
        }
        for t in &mesh.triangles {
            let c = t.map(|v| v as usize + self.vertices + 1);
            let _ = writeln!(self.text, "f {0}/{0}/{0} {1}/{1}/{1} {2}/{2}/{2}", c[0], c[1], c[2]);
        }
        self.vertices += mesh.positions.len();
    }
}

/// A gull that stands, its beak along −z.
pub(super) fn gull() -> Vec<u8> {
    let mut obj = Obj::default();
    let at = Vec3::new;
    obj.ball(at(0.0, 0.0, 0.02), at(0.072, 0.066, 0.15), 20);
    obj.ball(at(0.0, 0.085, -0.12), at(0.04, 0.04, 0.046), 16);
    obj.ball(at(0.0, 0.045, -0.09), at(0.036, 0.06, 0.045), 16);
    obj.ball(at(0.0, 0.078, -0.178), at(0.009, 0.009, 0.03), 12);
    for side in [-1.0, 1.0] {
        obj.ball(at(side * 0.064, 0.02, 0.06), at(0.018, 0.042, 0.15), 16);
        obj.ball(at(side * 0.024, -0.115, 0.02), at(0.006, 0.06, 0.006), 12);
        obj.ball(at(side * 0.024, -0.165, 0.0), at(0.016, 0.004, 0.026), 12);
    }
    obj.ball(at(0.0, 0.02, 0.19), at(0.04, 0.008, 0.07), 12);
    obj.text.into_bytes()
}

/// A feather along z.
pub(super) fn feather() -> Vec<u8> {
    let mut obj = Obj::default();
    obj.ball(Vec3::ZERO, Vec3::new(0.16, 0.012, 0.5), 12);
    obj.text.into_bytes()
}

/// A basket: a wall that widens upwards, with a floor, as a turned shape.
pub(super) fn basket() -> Vec<u8> {
    const SIDES: usize = 28;
    // Radius and height, from the middle of the floor's underside round to its top.
    const PROFILE: [(f32, f32); 8] = [
        (0.0, 0.0),
        (0.26, 0.0),
        (0.36, 0.4),
        (0.385, 0.42),
        (0.37, 0.445),
        (0.335, 0.425),
        (0.235, 0.03),
        (0.0, 0.03),
    ];
    let mut text = String::new();
    for (radius, height) in PROFILE {
        for side in 0..SIDES {
            let (sin, cos) = (std::f32::consts::TAU * side as f32 / SIDES as f32).sin_cos();
            // Woven: every other rib stands out a little.
            let woven = if side % 2 == 0 { 1.0 } else { 0.982 };
            text += &format!("v {:.5} {height:.5} {:.5}\n", radius * cos * woven, radius * sin * woven);
        }
    }
    for ring in 0..PROFILE.len() - 1 {
        for side in 0..SIDES {
            let at = |ring: usize, side: usize| ring * SIDES + side % SIDES + 1;
            let (a, b) = (at(ring, side), at(ring, side + 1));
            let (c, d) = (at(ring + 1, side + 1), at(ring + 1, side));
            text += &format!("f {a} {c} {b}\nf {a} {d} {c}\n");
        }
    }
    text.into_bytes()
}

/// A body of revolution about y: radius and height, m, along its profile, which begins and ends on the axis and has the body on
/// its left.
pub(super) fn lathed(profile: &[(f32, f32)]) -> Vec<u8> {
    const SIDES: usize = 56;
    let rings = &profile[1..profile.len() - 1];
    let mut text = format!("v 0 {} 0\nv 0 {} 0\n", profile[0].1, profile[profile.len() - 1].1);
    for &(radius, height) in rings {
        for side in 0..SIDES {
            let (sin, cos) = (std::f32::consts::TAU * side as f32 / SIDES as f32).sin_cos();
            text += &format!("v {:.5} {height:.5} {:.5}\n", radius * cos, radius * sin);
        }
    }
    let at = |ring: usize, side: usize| ring * SIDES + side % SIDES + 3;
    for side in 0..SIDES {
        text += &format!("f 1 {} {}\n", at(0, side), at(0, side + 1));
        let last = rings.len() - 1;
        text += &format!("f 2 {} {}\n", at(last, side + 1), at(last, side));
        for ring in 0..last {
            let (a, b) = (at(ring, side), at(ring, side + 1));
            text += &format!("f {a} {} {} {b}\n", at(ring + 1, side), at(ring + 1, side + 1));
        }
    }
    text.into_bytes()
}

/// A dumpling of so many sides: round, flat below, with pleats that run up to a knot.
pub(super) fn dumpling(sides: usize) -> Vec<u8> {
    // Radius, height and depth of the pleats, from the base's edge up to the knot.
    const PROFILE: [(f32, f32, f32); 9] = [
        (0.035, 0.0, 0.0),
        (0.05, 0.004, 0.0),
        (0.06, 0.02, 0.015),
        (0.06, 0.036, 0.05),
        (0.052, 0.051, 0.09),
        (0.038, 0.063, 0.14),
        (0.023, 0.07, 0.2),
        (0.013, 0.077, 0.2),
        (0.008, 0.086, 0.1),
    ];
    let mut text = String::from("v 0 0 0\nv 0 0.088 0\n");
    for (ring, (radius, height, pleat)) in PROFILE.into_iter().enumerate() {
        for side in 0..sides {
            // The pleats are drawn round as they rise.
            let around = std::f32::consts::TAU * side as f32 / sides as f32;
            let wave = (14.0 * around).cos();
            let angle = around + 0.07 * ring as f32;
            let radius = radius * (1.0 + pleat * wave);
            text += &format!("v {:.5} {height:.5} {:.5}\n", radius * angle.cos(), radius * angle.sin());
        }
    }
    let at = |ring: usize, side: usize| ring * sides + side % sides + 3;
    for side in 0..sides {
        text += &format!("f 1 {} {}\n", at(0, side), at(0, side + 1));
        text += &format!("f 2 {} {}\n", at(PROFILE.len() - 1, side + 1), at(PROFILE.len() - 1, side));
        for ring in 0..PROFILE.len() - 1 {
            let (a, b) = (at(ring, side), at(ring, side + 1));
            let (c, d) = (at(ring + 1, side + 1), at(ring + 1, side));
            text += &format!("f {a} {c} {b}\nf {a} {d} {c}\n");
        }
    }
    text.into_bytes()
}

/// Waves as a normal map that repeats: the slopes of a sum of sines.
pub(super) fn waves() -> Vec<u8> {
    // Waves across the tile in u and v, their height and phase.
    let waves: Vec<(f32, f32, f32, f32)> = (0..26)
        .map(|i| {
            let random = |seed| noise(i as f32 * 1.37, seed as f32 * 2.11, 211, seed);
            let (length, angle) = (1.0 + 13.0 * random(1).powi(2), 0.5 + 2.2 * (random(2) - 0.5));
            let (u, v) = ((length * angle.cos()).round(), (length * angle.sin()).round());
            (u, v, 0.16 / (1.0 + length), random(3) * std::f32::consts::TAU)
        })
        .collect();
    let size = 512;
    let mut rgb = Vec::with_capacity(3 * size * size);
    for y in 0..size {
        for x in 0..size {
            let (u, v) = (x as f32 / size as f32, 1.0 - y as f32 / size as f32);
            let slope: Vec2 = waves.iter().fold(Vec2::ZERO, |sum, (a, b, height, phase)| {
                let way = std::f32::consts::TAU * (a * u + b * v) + phase;
                sum + Vec2::new(*a, *b) * (height * way.cos())
            });
            let normal = Vec3::new(-slope.x, -slope.y, 2.4).normalize();
            rgb.extend(normal.to_array().map(|n| (127.5 + 127.5 * n).round() as u8));
        }
    }
    interchange::write_png(size as u32, size as u32, &rgb).expect("a picture encodes")
}

/// A net of straps, 2.41 × 2.02 m in the xz plane: straps of 28 mm around holes of 102 mm.
pub(super) fn net() -> Vec<u8> {
    const STRAP: f32 = 0.028;
    const HOLE: f32 = 0.102;
    // Lines between the squares: each strap is one square wide, each hole two.
    let lines = |holes: usize| -> Vec<f32> {
        let all = (0..holes).flat_map(|i| {
            let start = (STRAP + HOLE) * i as f32;
            [start, start + STRAP, start + STRAP + 0.5 * HOLE]
        });
        let end = (STRAP + HOLE) * holes as f32;
        let all: Vec<f32> = all.chain([end, end + STRAP]).collect();
        all.iter().map(|at| at - 0.5 * (end + STRAP)).collect()
    };
    let (xs, zs) = (lines(18), lines(15));
    let mut text = String::new();
    for z in &zs {
        for x in &xs {
            let (u, v) = (0.5 + x / 2.41, 0.5 - z / 2.02);
            text += &format!("v {x:.4} 0 {z:.4}\nvt {u:.4} {v:.4}\n");
        }
    }
    let at = |i: usize, j: usize| {
        let number = j * xs.len() + i + 1;
        format!("{number}/{number}")
    };
    for j in 0..zs.len() - 1 {
        for i in (0..xs.len() - 1).filter(|i| i % 3 == 0 || j % 3 == 0) {
            let corners = [at(i, j), at(i, j + 1), at(i + 1, j + 1), at(i + 1, j)];
            text += &format!("f {}\n", corners.join(" "));
        }
    }
    text.into_bytes()
}

/// Awning canvas with broad stripes, a little faded.
pub(super) fn stripes() -> Vec<u8> {
    png(256, |u, v| {
        let red = (u * 7.0).fract() < 0.5;
        let colour = if red { Vec3::new(0.52, 0.10, 0.075) } else { Vec3::new(0.78, 0.72, 0.6) };
        colour * (0.8 + 0.25 * noise(u * 9.0, v * 9.0, 9, 51))
    })
}

/// A range of hills seen from the front, 460 m wide, 4 to 17 m high.
pub(super) fn hills() -> Vec<u8> {
    let count = 220;
    let mut text = String::new();
    for i in 0..=count {
        let t = i as f32 / count as f32;
        let height = 3.5 + 13.0 * noise(t * 13.0, 0.5, 97, 61).powi(2) + 1.4 * noise(t * 47.0, 0.5, 97, 63);
        let x = 460.0 * (t - 0.5);
        text += &format!("v {x:.3} 0 0\nv {x:.3} {height:.3} -6\n");
    }
    for i in 0..count {
        let a = 2 * i + 1;
        text += &format!("f {a} {} {} {}\n", a + 2, a + 3, a + 1);
    }
    text.into_bytes()
}

/// A small open boat, 3.6 m long along x, its keel at the origin.
pub(super) fn boat() -> Vec<u8> {
    let (sections, around) = (18, 10);
    let mut text = String::new();
    for i in 0..=sections {
        let t = i as f32 / sections as f32 * 2.0 - 1.0;
        let width = 0.62 * (1.0 - t.abs().powf(2.6)).max(0.0) + 0.015;
        let sheer = 0.62 + 0.22 * t * t;
        let keel = 0.32 * t.abs().powi(4);
        for k in 0..=around {
            let angle = std::f32::consts::PI * k as f32 / around as f32;
            let (y, z) = (sheer - (sheer - keel) * angle.sin(), width * angle.cos());
            text += &format!("v {:.4} {y:.4} {z:.4}\n", 1.8 * t);
        }
    }
    let row = around + 1;
    for i in 0..sections {
        for k in 0..around {
            let a = i * row + k + 1;
            text += &format!("f {a} {} {} {}\n", a + 1, a + row + 1, a + row);
            text += &format!("f {a} {} {} {}\n", a + row, a + row + 1, a + 1);
        }
    }
    text.into_bytes()
}
