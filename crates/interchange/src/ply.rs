//! PLY (G. Turk, *The PLY polygon file format*, 1994), text and binary: vertices
//! with normals, UVs and colours, and faces; all else is passed over.

use crate::{ImportError, MAX_FACES};
use geometry::{Mesh, brightness};
use glam::{Vec2, Vec3};

/// Most properties of an element, and most elements.
const MAX_PROPERTIES: usize = 256;
/// Most corners of a face.
const MAX_CORNERS: usize = 1_000;

#[derive(Clone, Copy, PartialEq)]
enum Format {
    Text,
    Little,
    Big,
}

#[derive(Clone, Copy)]
struct Scalar {
    size: usize,
    signed: bool,
    float: bool,
}

impl Scalar {
    fn named(name: &str) -> Option<Self> {
        let of = |size, signed, float| Some(Self { size, signed, float });
        match name {
            "char" | "int8" => of(1, true, false),
            "uchar" | "uint8" => of(1, false, false),
            "short" | "int16" => of(2, true, false),
            "ushort" | "uint16" => of(2, false, false),
            "int" | "int32" => of(4, true, false),
            "uint" | "uint32" => of(4, false, false),
            "float" | "float32" => of(4, true, true),
            "double" | "float64" => of(8, true, true),
            _ => None,
        }
    }

    /// The largest value of a colour of this kind.
    fn whole(self) -> f64 {
        if self.float { 1.0 } else { (1u64 << (8 * self.size)) as f64 - 1.0 }
    }
}

struct Property {
    name: String,
    scalar: Scalar,
    /// Kind of the length, if it is a list.
    list: Option<Scalar>,
}

struct Element {
    name: String,
    count: usize,
    properties: Vec<Property>,
}

/// Values one after the other.
struct Values<'a> {
    bytes: &'a [u8],
    at: usize,
    format: Format,
}

impl Values<'_> {
    fn next(&mut self, scalar: Scalar) -> Option<f64> {
        if self.format == Format::Text {
            let start = self.at + self.bytes[self.at..].iter().position(|b| !b.is_ascii_whitespace())?;
            let rest = &self.bytes[start..];
            let end = rest.iter().position(u8::is_ascii_whitespace).unwrap_or(rest.len());
            self.at = start + end;
            return std::str::from_utf8(&rest[..end]).ok()?.parse().ok();
        }
        let bytes = self.bytes.get(self.at..self.at + scalar.size)?;
        self.at += scalar.size;
        let mut whole = [0u8; 8];
        for (i, byte) in bytes.iter().enumerate() {
            whole[if self.format == Format::Little { i } else { scalar.size - 1 - i }] = *byte;
        }
        let bits = u64::from_le_bytes(whole);
        Some(match (scalar.float, scalar.size, scalar.signed) {
            (true, 4, _) => f64::from(f32::from_bits(bits as u32)),
            (true, ..) => f64::from_bits(bits),
            (false, 1, true) => f64::from(bits as u8 as i8),
            (false, 2, true) => f64::from(bits as u16 as i16),
            (false, 4, true) => f64::from(bits as u32 as i32),
            _ => bits as f64,
        })
    }
}

pub(crate) fn read(name: &str, bytes: &[u8]) -> Result<Mesh, ImportError> {
    let fail = |message: String| ImportError::file(name, message);
    let (format, elements, at) = head(bytes).map_err(fail)?;
    let mut values = Values { bytes, at, format };
    let mut mesh = Mesh::default();
    for element in &elements {
        // Each takes at least a byte of the file, so no more is made than is there.
        if element.count > bytes.len() || element.properties.len() > MAX_PROPERTIES {
            return Err(fail(format!(
                "says that it has {} of {}, which it is too short for",
                element.count, element.name
            )));
        }
        let short = |i: usize| fail(format!("ends within {} {}", element.name, i + 1));
        match element.name.as_str() {
            "vertex" => vertices(element, &mut values, &mut mesh, &short)?,
            "face" => faces(element, &mut values, &mut mesh, &fail, &short)?,
            _ => {
                for i in 0..element.count {
                    skip(element, &mut values).ok_or_else(|| short(i))?;
                }
            }
        }
    }
    Ok(mesh)
}

fn head(bytes: &[u8]) -> Result<(Format, Vec<Element>, usize), String> {
    let broken = || "is not a PLY file".to_owned();
    if !bytes.starts_with(b"ply") {
        return Err(broken());
    }
    let (mut format, mut elements, mut at) = (None, Vec::<Element>::new(), 0);
    loop {
        let rest = bytes.get(at..).filter(|rest| !rest.is_empty()).ok_or("has a head without an end")?;
        let end = rest.iter().take(4_096).position(|b| *b == b'\n').ok_or("has a head without an end")?;
        at += end + 1;
        let line = std::str::from_utf8(&rest[..end]).map_err(|_| broken())?;
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[..] {
            ["format", kind, _] => {
                format = match kind {
                    "ascii" => Some(Format::Text),
                    "binary_little_endian" => Some(Format::Little),
                    "binary_big_endian" => Some(Format::Big),
                    _ => return Err(format!("has the format {kind}, which is not known")),
                }
            }
            ["element", name, count] => {
                let count = count.parse().map_err(|_| format!("has a count {count} that is no number"))?;
                if elements.len() >= MAX_PROPERTIES {
                    return Err("has too many kinds of elements".to_owned());
                }
                elements.push(Element { name: name.to_owned(), count, properties: Vec::new() });
            }
            ["property", "list", length, kind, name] => property(&mut elements, kind, Some(length), name)?,
            ["property", kind, name] => property(&mut elements, kind, None, name)?,
            ["end_header"] => return Ok((format.ok_or_else(broken)?, elements, at)),
            _ => {}
        }
    }
}

fn property(elements: &mut [Element], kind: &str, length: Option<&str>, name: &str) -> Result<(), String> {
    let scalar = |name: &str| {
        Scalar::named(name).ok_or_else(|| format!("has a value of kind {name}, which is not known"))
    };
    let element = elements.last_mut().ok_or("names a property before an element")?;
    let list = length.map(scalar).transpose()?;
    element.properties.push(Property { name: name.to_owned(), scalar: scalar(kind)?, list });
    Ok(())
}

fn skip(element: &Element, values: &mut Values) -> Option<()> {
    for property in &element.properties {
        let count = property.list.map_or(Some(1.0), |length| values.next(length))?;
        for _ in 0..count as u64 {
            values.next(property.scalar)?;
        }
    }
    Some(())
}

fn vertices(
    element: &Element,
    values: &mut Values,
    mesh: &mut Mesh,
    short: &dyn Fn(usize) -> ImportError,
) -> Result<(), ImportError> {
    let find = |names: &[&str]| element.properties.iter().position(|p| names.contains(&p.name.as_str()));
    let triple = |names: [&[&str]; 3]| {
        let [a, b, c] = names.map(find);
        Some([a?, b?, c?])
    };
    let position = triple([&["x"], &["y"], &["z"]]);
    let normal = triple([&["nx"], &["ny"], &["nz"]]);
    let colour = triple([&["red", "r"], &["green", "g"], &["blue", "b"]]);
    let uv = find(&["s", "u", "texture_u"]).zip(find(&["t", "v", "texture_v"]));
    let mut row = vec![0.0f64; element.properties.len()];
    for i in 0..element.count {
        for (slot, property) in row.iter_mut().zip(&element.properties) {
            match property.list {
                None => *slot = values.next(property.scalar).ok_or_else(|| short(i))?,
                Some(length) => {
                    for _ in 0..values.next(length).ok_or_else(|| short(i))? as u64 {
                        values.next(property.scalar).ok_or_else(|| short(i))?;
                    }
                }
            }
        }
        let vector = |at: [usize; 3]| Vec3::from(at.map(|at| row[at] as f32));
        mesh.positions.push(position.map_or(Vec3::ZERO, vector));
        if let Some(normal) = normal {
            mesh.normals.push(vector(normal).normalize_or_zero());
        }
        let uv = uv.map_or(Vec2::ZERO, |(u, v)| Vec2::new(row[u] as f32, row[v] as f32));
        mesh.uvs.push(uv);
        if let Some(colour) = colour {
            let rgb = colour.map(|at| (row[at] / element.properties[at].scalar.whole()) as f32);
            mesh.weights.push(brightness(Vec3::from(rgb)));
        }
    }
    Ok(())
}

fn faces(
    element: &Element,
    values: &mut Values,
    mesh: &mut Mesh,
    fail: &dyn Fn(String) -> ImportError,
    short: &dyn Fn(usize) -> ImportError,
) -> Result<(), ImportError> {
    for i in 0..element.count {
        for property in &element.properties {
            let count = match property.list {
                None => 1,
                Some(length) => values.next(length).ok_or_else(|| short(i))? as usize,
            };
            let is_corners = ["vertex_indices", "vertex_index"].contains(&property.name.as_str());
            if is_corners && !(3..=MAX_CORNERS).contains(&count) {
                return Err(fail(format!("face {} has {count} corners; 3 to {MAX_CORNERS} are read", i + 1)));
            }
            let mut corners = Vec::new();
            for _ in 0..count {
                let value = values.next(property.scalar).ok_or_else(|| short(i))?;
                if is_corners {
                    corners.push(value as u32);
                }
            }
            for k in 1..corners.len().saturating_sub(1) {
                mesh.triangles.push([corners[0], corners[k], corners[k + 1]]);
            }
        }
        if mesh.triangles.len() > MAX_FACES {
            return Err(fail(format!("has more than {MAX_FACES} triangles")));
        }
    }
    Ok(())
}

/// A mesh as a binary PLY file: positions, normals, UVs, weights as grey
/// colours from 0 to 1, and faces. Read back, it is the same mesh within the
/// rounding of normals and weights.
pub fn write(mesh: &Mesh) -> Vec<u8> {
    let count = mesh.positions.len();
    let (normals, uvs, weights) =
        (mesh.normals.len() == count, mesh.uvs.len() == count, mesh.weights.len() == count);
    let mut head = format!("ply\nformat binary_little_endian 1.0\nelement vertex {count}\n");
    let groups = [(true, "x y z"), (normals, "nx ny nz"), (uvs, "s t"), (weights, "red green blue")];
    for name in groups.into_iter().filter(|(has, _)| *has).flat_map(|(_, names)| names.split(' ')) {
        head += &format!("property float {name}\n");
    }
    let faces = mesh.triangles.len();
    head += &format!("element face {faces}\nproperty list uchar uint vertex_indices\nend_header\n");
    let mut bytes = head.into_bytes();
    bytes.reserve(count * 44 + faces * 13);
    let put = |bytes: &mut Vec<u8>, values: &[f32]| values.iter().for_each(|v| bytes.extend(v.to_le_bytes()));
    for i in 0..count {
        put(&mut bytes, &mesh.positions[i].to_array());
        if normals {
            put(&mut bytes, &mesh.normals[i].to_array());
        }
        if uvs {
            put(&mut bytes, &mesh.uvs[i].to_array());
        }
        if weights {
            put(&mut bytes, &[mesh.weights[i]; 3]);
        }
    }
    for triangle in &mesh.triangles {
        bytes.push(3);
        triangle.iter().for_each(|v| bytes.extend(v.to_le_bytes()));
    }
    bytes
}

#[cfg(test)]
mod tests {
    use crate::read_mesh;
    use rstest::rstest;

    const HEAD: &str = "ply\nformat FORMAT 1.0\ncomment made for a test\nelement vertex 4\nproperty float x\n\
        property float y\nproperty double z\nproperty uchar red\nproperty uchar green\nproperty uchar blue\n\
        element edge 1\nproperty short a\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n";

    const PLACES: [[f32; 2]; 4] = [[0.0, 0.0], [2.0, 0.0], [2.0, 1.0], [0.0, 1.0]];

    fn binary(big: bool) -> Vec<u8> {
        let name = if big { "binary_big_endian" } else { "binary_little_endian" };
        let mut bytes = HEAD.replace("FORMAT", name).into_bytes();
        let mut put = |le: &[u8]| {
            if big {
                bytes.extend(le.iter().rev());
            } else {
                bytes.extend(le);
            }
        };
        for [x, y] in PLACES {
            put(&x.to_le_bytes());
            put(&y.to_le_bytes());
            put(&0.5f64.to_le_bytes());
            (0..3).for_each(|_| put(&[255]));
        }
        put(&7i16.to_le_bytes());
        put(&[4]);
        (0..4i32).for_each(|corner| put(&corner.to_le_bytes()));
        bytes
    }

    fn text() -> Vec<u8> {
        let mut text = HEAD.replace("FORMAT", "ascii");
        PLACES.iter().for_each(|[x, y]| text += &format!("{x} {y} 0.5 255 255 255\n"));
        text += "7\n4 0 1 2 3\n";
        text.into_bytes()
    }

    #[rstest]
    #[case(text())]
    #[case(binary(false))]
    #[case(binary(true))]
    fn every_format_gives_the_same_mesh(#[case] bytes: Vec<u8>) {
        let mesh = read_mesh("square.ply", &bytes).unwrap();
        assert_eq!(mesh.triangles, [[0, 1, 2], [0, 2, 3]]);
        assert_eq!(mesh.positions[2], glam::Vec3::new(2.0, 1.0, 0.5));
        assert!(mesh.weights.iter().all(|weight| (weight - 1.0).abs() < 1e-6));
    }

    #[rstest]
    #[case(b"v 0 0 0".to_vec(), "is not a PLY file")]
    #[case(b"ply\nformat ascii 1.0\nelement vertex 4\n".to_vec(), "a head without an end")]
    #[case(b"ply\nformat ascii 1.0\nelement vertex 99999999999\nproperty float x\nend_header\n".to_vec(), "too short for")]
    #[case(text()[..text().len() - 4].to_vec(), "ends within face 1")]
    #[case(binary(false)[..300].to_vec(), "ends within vertex")]
    #[case(String::from_utf8(text()).unwrap().replace("4 0 1 2 3", "4 0 1 2 9").into_bytes(), "names vertex 9")]
    #[case(String::from_utf8(text()).unwrap().replace("4 0 1 2 3", "2 0 1").into_bytes(), "has 2 corners")]
    fn what_is_wrong_is_said(#[case] bytes: Vec<u8>, #[case] why: &str) {
        let error = read_mesh("square.ply", &bytes).unwrap_err().to_string();
        assert!(error.contains(why), "{error}");
    }
}
