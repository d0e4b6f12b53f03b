//! STL, binary and text: triangles without anything else; corners in one place
//! are one vertex.

use crate::{ImportError, MAX_FACES};
use geometry::Mesh;
use glam::Vec3;
use std::collections::HashMap;

const HEAD: usize = 84;
const FACET: usize = 50;

pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    let count = bytes.get(80..HEAD).map(|b| u32::from_le_bytes(b.try_into().expect("4 bytes")) as usize);
    // A text file begins with `solid`; so do many binary ones.
    let binary = count.is_some_and(|count| count.checked_mul(FACET) == bytes.len().checked_sub(HEAD));
    if binary { read_binary(name, bytes) } else { read_text(name, bytes) }
}

#[derive(Default)]
struct Welding {
    mesh: Mesh,
    known: HashMap<[u32; 3], u32>,
}

impl Welding {
    fn corner(&mut self, at: Vec3) -> u32 {
        // 0 and −0 are one place.
        let key = (at + Vec3::ZERO).to_array().map(f32::to_bits);
        *self.known.entry(key).or_insert_with(|| {
            self.mesh.positions.push(at);
            self.mesh.positions.len() as u32 - 1
        })
    }
}

fn read_binary(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    let facets = bytes[HEAD..].chunks_exact(FACET);
    if facets.len() > MAX_FACES {
        return Err(ImportError::file(name, format!("{} faces; at most {MAX_FACES}", facets.len())));
    }
    let mut welding = Welding::default();
    for (i, facet) in facets.enumerate() {
        let number = |at: usize| f32::from_le_bytes(facet[at..at + 4].try_into().expect("4 bytes"));
        let corners = [12, 24, 36].map(|at| Vec3::new(number(at), number(at + 4), number(at + 8)));
        if !corners.iter().all(|corner| corner.is_finite()) {
            return Err(ImportError::file(
                name,
                format!("triangle {} has a place that is not finite", i + 1),
            ));
        }
        let triangle = corners.map(|corner| welding.corner(corner));
        welding.mesh.triangles.push(triangle);
    }
    Ok(welding.mesh)
}

fn read_text(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    let text = std::str::from_utf8(bytes).ok().filter(|text| text.trim_start().starts_with("solid"));
    let text = text.ok_or_else(|| {
        ImportError::file(name, "is not an STL file: it is neither text nor as long as its triangles")
    })?;
    let mut welding = Welding::default();
    let mut corners = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let fail = |message: String| ImportError::Line { file: name.to_owned(), line: index + 1, message };
        let mut words = line.split_whitespace();
        match words.next() {
            Some("vertex") => {
                let numbers: Vec<f32> =
                    words.filter_map(|word| word.parse().ok()).filter(|n: &f32| n.is_finite()).collect();
                if numbers.len() != 3 {
                    return Err(fail("`vertex` needs 3 numbers".to_owned()));
                }
                corners.push(welding.corner(Vec3::from_slice(&numbers)));
            }
            Some("endfacet") => {
                if corners.len() != 3 {
                    return Err(fail(format!("the facet has {} corners; it needs 3", corners.len())));
                }
                welding.mesh.triangles.push([corners[0], corners[1], corners[2]]);
                corners.clear();
            }
            _ => {}
        }
    }
    Ok(welding.mesh)
}

#[cfg(test)]
mod tests {
    use crate::read_mesh;
    use rstest::rstest;

    fn binary(triangles: &[[[f32; 3]; 3]]) -> Vec<u8> {
        let mut bytes = b"solid made by a binary writer".to_vec();
        bytes.resize(80, b' ');
        bytes.extend((triangles.len() as u32).to_le_bytes());
        for corners in triangles {
            bytes.extend([0; 12]);
            corners.iter().flatten().for_each(|value| bytes.extend(value.to_le_bytes()));
            bytes.extend([0; 2]);
        }
        bytes
    }

    const SQUARE: [[[f32; 3]; 3]; 2] = [
        [[0.0, 0.0, 0.0], [1.0, 0.0, 0.0], [1.0, 1.0, 0.0]],
        [[0.0, 0.0, 0.0], [1.0, 1.0, 0.0], [0.0, 1.0, -0.0]],
    ];

    #[test]
    fn both_kinds_give_the_same_welded_mesh() {
        let mut text = "solid square\n".to_owned();
        for corners in SQUARE {
            text += "facet normal 0 0 1\nouter loop\n";
            corners.iter().for_each(|[x, y, z]| text += &format!("vertex {x} {y} {z}\n"));
            text += "endloop\nendfacet\n";
        }
        text += "endsolid square\n";
        let (a, b) =
            (read_mesh("s.stl", &binary(&SQUARE)).unwrap(), read_mesh("s.stl", text.as_bytes()).unwrap());
        assert_eq!((a.positions.len(), &a.triangles), (4, &b.triangles));
        assert_eq!(a.positions, b.positions);
    }

    #[rstest]
    #[case(b"v 0 0 0".to_vec(), "is not an STL file")]
    #[case(binary(&SQUARE)[..120].to_vec(), "is not an STL file")]
    #[case(binary(&[[[f32::NAN, 0.0, 0.0], [1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]]), "triangle 1 has a place that is not finite")]
    #[case(b"solid\nfacet normal 0 0 1\nvertex 0 0\n".to_vec(), "line 3: `vertex` needs 3 numbers")]
    #[case(b"solid\nvertex 0 0 1\nendfacet\n".to_vec(), "line 3: the facet has 1 corners")]
    fn what_is_wrong_is_said(#[case] bytes: Vec<u8>, #[case] why: &str) {
        let error = read_mesh("s.stl", &bytes).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }
}
