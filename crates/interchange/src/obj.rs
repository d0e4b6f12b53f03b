//! Wavefront OBJ: vertices, UVs, normals and faces; all else is passed over.

use crate::ImportError;
use crate::samples::{GroupedMesh, MAX_GROUPS};
use geometry::{Mesh, brightness};
use glam::{Vec2, Vec3};
use std::collections::HashMap;

pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    Ok(read_grouped(name, bytes)?.into())
}

/// As [`read`], with the groups of the faces and the colours of the vertices.
pub(crate) fn read_grouped(name: &str, bytes: &[u8]) -> Result<GroupedMesh, ImportError> {
    let mut groups: Vec<(String, Vec<u32>)> = Vec::new();
    let mut present: Vec<usize> = Vec::new();
    let mut origins: Vec<usize> = Vec::new();
    let text = std::str::from_utf8(bytes).map_err(|_| ImportError::file(name, "is not a text file"))?;
    let (mut positions, mut uvs, mut normals) = (Vec::new(), Vec::new(), Vec::new());
    // Many writers put a vertex's red, green and blue after its place.
    let mut colours: Vec<Option<Vec3>> = Vec::new();
    let mut mesh = Mesh::default();
    let mut made: HashMap<[i64; 3], u32> = HashMap::new();
    let mut has_normals = true;
    for (index, line) in text.lines().enumerate() {
        let fail = |message: String| ImportError::Line { file: name.to_owned(), line: index + 1, message };
        let mut words = line.split_whitespace();
        let Some(word) = words.next() else { continue };
        match word {
            "v" | "vt" | "vn" => {
                let wanted = if word == "vt" { 2 } else { 3 };
                let numbers: Vec<f32> = words
                    .take(if word == "v" { 6 } else { 3 })
                    .map(|w| w.parse().ok().filter(|n: &f32| n.is_finite()))
                    .collect::<Option<_>>()
                    .filter(|n: &Vec<f32>| n.len() >= wanted)
                    .ok_or_else(|| fail(format!("`{word}` needs {wanted} numbers")))?;
                match word {
                    "v" => {
                        positions.push(Vec3::from_slice(&numbers));
                        colours.push(numbers.get(3..6).map(Vec3::from_slice));
                    }
                    "vn" => normals.push(Vec3::from_slice(&numbers).normalize_or_zero()),
                    _ => uvs.push(Vec2::from_slice(&numbers)),
                }
            }
            "f" => {
                let mut corners = Vec::new();
                for corner in words {
                    let mut key = [0i64; 3];
                    for (slot, (part, count)) in
                        corner.split('/').zip([positions.len(), uvs.len(), normals.len()]).enumerate()
                    {
                        if part.is_empty() && slot > 0 {
                            continue;
                        }
                        let number: i64 =
                            part.parse().map_err(|_| fail(format!("`{corner}` is not a corner")))?;
                        let at = if number < 0 { count as i64 + number + 1 } else { number };
                        if at < 1 || at > count as i64 {
                            let what = ["vertex", "UV", "normal"][slot];
                            return Err(fail(format!(
                                "the face names {what} {number}, but there are {count}"
                            )));
                        }
                        key[slot] = at;
                    }
                    has_normals &= key[2] > 0;
                    corners.push(*made.entry(key).or_insert_with(|| {
                        origins.push(key[0] as usize - 1);
                        mesh.positions.push(positions[key[0] as usize - 1]);
                        mesh.weights.push(colours[key[0] as usize - 1].map_or(1.0, brightness));
                        mesh.uvs.push(if key[1] > 0 { uvs[key[1] as usize - 1] } else { Vec2::ZERO });
                        mesh.normals.push(if key[2] > 0 { normals[key[2] as usize - 1] } else { Vec3::ZERO });
                        mesh.positions.len() as u32 - 1
                    }));
                }
                if corners.len() < 3 {
                    return Err(fail(format!("the face has {} corners; it needs 3", corners.len())));
                }
                let face = mesh.triangles.len() as u32;
                let faces = face..face + corners.len() as u32 - 2;
                present.iter().for_each(|&group| groups[group].1.extend(faces.clone()));
                for i in 1..corners.len() - 1 {
                    mesh.triangles.push([corners[0], corners[i], corners[i + 1]]);
                }
            }
            "g" => {
                present.clear();
                for group in words {
                    let group: String = group.chars().take(80).collect();
                    let known = groups.iter().position(|(name, _)| *name == group);
                    if known.is_some() || groups.len() < MAX_GROUPS {
                        present.push(known.unwrap_or(groups.len()));
                        if known.is_none() {
                            groups.push((group, Vec::new()));
                        }
                    }
                }
            }
            _ => {}
        }
    }
    // Where few vertices have a colour, the others are white.
    let coloured = colours.iter().any(Option::is_some);
    let colour = |&v: &usize| colours[v].unwrap_or(Vec3::ONE);
    let vertex_colours = if coloured { origins.iter().map(colour).collect() } else { Vec::new() };
    groups.retain(|(_, faces)| !faces.is_empty());
    if colours.iter().all(Option::is_none) {
        mesh.weights.clear();
    }
    if !has_normals {
        mesh.normals.clear();
    }
    Ok(GroupedMesh { mesh, colours: vertex_colours, groups, velocities: Vec::new() })
}

#[cfg(test)]
mod tests {
    use crate::read_mesh;

    #[test]
    fn colours_behind_the_places_are_weights() {
        let mesh = read_mesh("m.obj", b"v 0 0 0 0 0 0\nv 1 0 0 1 1 1\nv 0 1 0 0 1 0\nf 1 2 3\n").unwrap();
        assert_eq!((mesh.weights[0], mesh.weights[1]), (0.0, 1.0));
        assert!((mesh.weights[2] - 0.7152).abs() < 1e-6);
        let bare = read_mesh("m.obj", b"v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n").unwrap();
        assert!(bare.weights.is_empty());
    }
    use rstest::rstest;

    #[test]
    fn a_square_becomes_two_triangles_with_its_uvs() {
        let text = "v 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 4/4\n";
        let mesh = read_mesh("square.obj", text.as_bytes()).unwrap();
        assert_eq!(mesh.triangles.len(), 2);
        assert_eq!(mesh.uvs[2], glam::Vec2::ONE);
        assert!(mesh.normals.iter().all(|n| (n.z - 1.0).abs() < 1e-6));
    }

    #[rstest]
    #[case("v 0 0 0\nf 1 2 3\n", "bad.obj, line 2: the face names vertex 2, but there are 1")]
    #[case("v 0 0 0\nv 1 0\n", "bad.obj, line 2: `v` needs 3 numbers")]
    #[case("v 0 nan 0\n", "bad.obj, line 1: `v` needs 3 numbers")]
    #[case("v 0 0 0\nv 1 0 0\nf 1 2\n", "bad.obj, line 3: the face has 2 corners; it needs 3")]
    #[case("v 0 0 0\nf x y z\n", "bad.obj, line 2: `x` is not a corner")]
    #[case("v 0 0 0\nf -2 1 1\n", "bad.obj, line 2: the face names vertex -2")]
    #[case("# nothing\n", "bad.obj: the mesh has no faces with an area")]
    #[case("v 0 0 0\nv 0 0 0\nv 0 0 0\nf 1 2 3\n", "no faces with an area")]
    fn a_bad_file_names_the_line(#[case] text: &str, #[case] message: &str) {
        let error = read_mesh("bad.obj", text.as_bytes()).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }

    #[test]
    fn bytes_that_are_no_text_are_refused() {
        assert!(read_mesh("x.obj", &[0xff, 0xfe, 0x00]).unwrap_err().to_string().contains("not a text file"));
        assert!(read_mesh("x.png", b"").unwrap_err().to_string().contains("none of .obj, .glb"));
    }
}
