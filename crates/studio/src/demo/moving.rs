//! Meshes of Saltmarket that change with time, as archives of numbered OBJ files.

use glam::{Quat, Vec2, Vec3};
use std::f32::consts::TAU;
use std::fmt::Write as _;
use std::io::Write as _;

/// Frames a second of both.
pub(super) const FPS: f32 = 24.0;
/// Frames after which the flag is where it was.
pub(super) const FLAG_ROUND: u32 = 48;
/// Frames in which the gate opens.
pub(super) const GATE_FRAMES: u32 = 30;

/// A mesh as text, with groups of faces.
#[derive(Default)]
struct Obj {
    positions: Vec<Vec3>,
    uvs: Vec<Vec2>,
    /// Groups of quads.
    groups: Vec<(&'static str, Vec<[usize; 4]>)>,
}

impl Obj {
    fn text(&self) -> String {
        let mut text = String::new();
        for p in &self.positions {
            let _ = writeln!(text, "v {:.5} {:.5} {:.5}", p.x, p.y, p.z);
        }
        for uv in &self.uvs {
            let _ = writeln!(text, "vt {:.5} {:.5}", uv.x, uv.y);
        }
        for (name, quads) in &self.groups {
            let _ = writeln!(text, "g {name}");
            for quad in quads {
                let [a, b, c, d] = quad.map(|v| v + 1);
                let _ = writeln!(text, "f {a}/{a} {b}/{b} {c}/{c} {d}/{d}");
            }
        }
        text
    }

    /// A board from one corner to the opposite one, turned and moved by `place`.
    fn board(&mut self, group: usize, low: Vec3, high: Vec3, place: impl Fn(Vec3) -> Vec3) {
        // Six faces with corners of their own, so that edges stay sharp and the grain runs along.
        let corner = |bits: usize| {
            let pick = |axis: usize| if bits >> axis & 1 == 1 { high[axis] } else { low[axis] };
            Vec3::new(pick(0), pick(1), pick(2))
        };
        let size = high - low;
        for [a, b, c, d] in
            [[0, 4, 6, 2], [1, 3, 7, 5], [0, 1, 5, 4], [2, 6, 7, 3], [0, 2, 3, 1], [4, 5, 7, 6]]
        {
            let base = self.positions.len();
            let along = if size.y > size.z { 1 } else { 2 };
            for bits in [a, b, c, d] {
                let at = corner(bits);
                self.positions.push(place(at));
                let across = (at - low).element_sum() - (at - low)[along];
                self.uvs.push(Vec2::new(0.5 * across + 0.13 * base as f32, 0.5 * at[along]));
            }
            self.groups[group].1.push([base, base + 1, base + 2, base + 3]);
        }
    }
}

fn archive(name: &str, frames: u32, frame: impl Fn(f32) -> Obj) -> Vec<u8> {
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    // No date, so that the archive is always the same.
    let options = zip::write::SimpleFileOptions::default().last_modified_time(zip::DateTime::default());
    for number in 1..=frames {
        let text = frame((number - 1) as f32 / FPS).text();
        zip.start_file(format!("{name}_{number:03}.obj"), options).expect("an archive in memory");
        zip.write_all(text.as_bytes()).expect("an archive in memory");
    }
    zip.finish().expect("an archive in memory").into_inner()
}

/// A flag 1.9 m long and 1.2 m high, held along its edge x = 0: waves run out along it.
pub(super) fn flag() -> Vec<u8> {
    const ALONG: usize = 44;
    const UP: usize = 28;
    let round = FLAG_ROUND as f32 / FPS;
    archive("flag", FLAG_ROUND + 1, |t| {
        let mut flag = Obj { groups: vec![("hoist", Vec::new()), ("fly", Vec::new())], ..Obj::default() };
        // The last frame is the first one again, to the last digit.
        let turn = TAU * (t % round) / round;
        for row in 0..=UP {
            let v = row as f32 / UP as f32;
            let (mut at, mut before) = (Vec3::new(0.0, 1.2 * (v - 1.0), 0.0), 0.0);
            for column in 0..=ALONG {
                let s = column as f32 / ALONG as f32;
                // Waves that grow outwards, slanted, the long one once a round and the short ones twice and thrice.
                let wave = |length: f32, rounds: f32, slant: f32, height: f32| {
                    height * (TAU * (s / length + slant * v) - rounds * turn).sin()
                };
                let aside = s.powf(0.8)
                    * (wave(0.95, 2.0, 0.12, 0.14)
                        + wave(0.52, 3.0, -0.2, 0.06)
                        + wave(0.3, 5.0, 0.35, 0.016));
                let step = 1.9 / ALONG as f32;
                if column > 0 {
                    // The cloth keeps its length: where it goes aside it gets on less.
                    let across = aside - before;
                    at.x += (step * step - across * across).max(0.1 * step * step).sqrt();
                }
                before = aside;
                let sag = -0.10 * s * s * (1.0 - 0.4 * (turn + 3.0 * s).sin());
                flag.positions.push(Vec3::new(at.x, at.y + sag, aside));
                flag.uvs.push(Vec2::new(s, v));
            }
        }
        for row in 0..UP {
            for column in 0..ALONG {
                let a = row * (ALONG + 1) + column;
                let group = usize::from(column >= 3);
                flag.groups[group].1.push([a, a + 1, a + ALONG + 2, a + ALONG + 1]);
            }
        }
        flag
    })
}

/// A slatted gate 1.7 m wide, hinged along x = z = 0, closed along +z: it swings
/// open towards +x, its slats bending a little behind its rails.
pub(super) fn gate() -> Vec<u8> {
    archive("gate", GATE_FRAMES, |t| {
        let last = (GATE_FRAMES - 1) as f32 / FPS;
        let part = t / last;
        let smooth = |x: f32| x * x * (3.0 - 2.0 * x);
        // It springs back a little at the end.
        let angle = 1.72 * smooth(part) + 0.06 * (part * 9.0).sin() * part * (1.0 - part);
        let bend = 0.05 * (part * std::f32::consts::PI).sin();
        let place = |p: Vec3| {
            let late = bend * (p.z / 1.7) * (p.y / 1.3 - 0.5);
            Quat::from_rotation_y(angle - late) * p
        };
        let mut gate = Obj { groups: vec![("slats", Vec::new()), ("rails", Vec::new())], ..Obj::default() };
        for slat in 0..9 {
            let z = 0.06 + 0.185 * slat as f32;
            let top = 1.22 + 0.07 * (slat as f32 * 0.39).sin();
            gate.board(0, Vec3::new(-0.02, 0.06, z), Vec3::new(0.02, top, z + 0.13), place);
        }
        for y in [0.22, 0.92] {
            gate.board(1, Vec3::new(0.02, y, 0.0), Vec3::new(0.07, y + 0.11, 1.7), place);
        }
        gate
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_are_sequences_and_the_flag_ends_as_it_begins() {
        for (name, bytes, frames) in [("flag.zip", flag(), FLAG_ROUND + 1), ("gate.zip", gate(), GATE_FRAMES)]
        {
            let read = interchange::read_sequence(name, &bytes, FPS).unwrap();
            let samples = read.sequence.samples();
            assert_eq!((samples.len() as u32, read.notices.len()), (frames, 0), "{:?}", read.notices);
            assert!(samples.iter().all(|sample| sample.topology == samples[0].topology));
            if name == "flag.zip" {
                let (first, last) = (&samples[0].positions, &samples[samples.len() - 1].positions);
                assert_eq!(first, last);
            }
        }
    }
}
