//! What small hostile files may take of memory before they are refused.
//!
//! The peak is that of the whole process, as the kernel counts it, so all is
//! tried in one test, one after the other.

#![cfg(target_os = "linux")]

/// Most that a refused file may take, bytes.
const MOST: u64 = 300 << 20;

/// The process's resident memory now, or its peak (`VmHWM`), bytes.
fn resident(of: &str) -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with(of)).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() << 10
}

/// What a reading takes at its peak beyond what is there before, bytes.
fn taken<T, E: std::fmt::Display>(name: &str, read: impl FnOnce() -> Result<T, E>) -> u64 {
    // Sets the peak to what is resident now.
    std::fs::write("/proc/self/clear_refs", "5").unwrap();
    let before = resident("VmRSS");
    let read = read();
    let taken = resident("VmHWM").saturating_sub(before);
    let error = read.err().unwrap_or_else(|| panic!("{name} is taken")).to_string();
    assert!(error.lines().count() == 1 && error.len() < 400, "{name}: {error}");
    taken
}

fn interchange_file(name: &str) -> Vec<u8> {
    let files = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/files");
    std::fs::read(format!("{files}/{name}")).unwrap()
}

fn glb(json: &str) -> Vec<u8> {
    let json = json.to_owned() + &" ".repeat(json.len().next_multiple_of(4) - json.len());
    let mut glb = b"glTF".to_vec();
    for value in [2, 20 + json.len() as u32, json.len() as u32] {
        glb.extend(value.to_le_bytes());
    }
    glb.extend(b"JSON");
    glb.extend(json.as_bytes());
    glb
}

/// A PNG that says it has so many pixels, and has the first rows of them.
fn cut_png(width: u32, height: u32, sixteen_bits: bool) -> Vec<u8> {
    let mut bytes = Vec::new();
    let colour = if sixteen_bits { image::ExtendedColorType::Rgba16 } else { image::ExtendedColorType::Rgb8 };
    let row = vec![7; width as usize * 16 * if sixteen_bits { 8 } else { 3 }];
    image::ImageEncoder::write_image(
        image::codecs::png::PngEncoder::new(&mut bytes),
        &row,
        width,
        16,
        colour,
    )
    .unwrap();
    // The header says another height, and its sum is right.
    bytes[20..24].copy_from_slice(&height.to_be_bytes());
    let sum = crc32fast::hash(&bytes[12..29]);
    bytes[29..33].copy_from_slice(&sum.to_be_bytes());
    bytes
}

/// An HDR file without its last line.
fn cut_hdr(width: usize, height: usize) -> Vec<u8> {
    let mut bytes = format!("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y {height} +X {width}\n").into_bytes();
    let mut line = vec![2, 2, (width >> 8) as u8, width as u8];
    for _ in 0..4 {
        for from in (0..width).step_by(127) {
            line.extend([128 + (width - from).min(127) as u8, 130]);
        }
    }
    (0..height - 1).for_each(|_| bytes.extend(&line));
    bytes
}

/// An EXR file without its last bytes.
fn cut_exr(width: usize, height: usize) -> Vec<u8> {
    use exr::prelude::*;
    let mut bytes = Vec::new();
    let pixel = |_: Vec2<usize>| (f16::ONE, f16::ONE, f16::ONE);
    let image = Image::from_channels((width, height), SpecificChannels::rgb(pixel));
    image.write().to_buffered(std::io::Cursor::new(&mut bytes)).unwrap();
    bytes.truncate(bytes.len() - 100);
    bytes
}

/// Reads each file, which is refused, and looks at what that took.
fn all_take_little<T, E: std::fmt::Display>(
    files: &[(&str, Vec<u8>)],
    read: impl Fn(&str, &[u8]) -> Result<T, E>,
) {
    for (name, bytes) in files {
        let taken = taken(name, || read(name, bytes));
        println!("{name}: {} MB", taken >> 20);
        assert!(taken < MOST, "{name}: {} MB", taken >> 20);
    }
}

#[test]
fn a_refused_file_takes_less_than_300_mb() {
    let nested = |open: &str, close: &str, n: usize| format!("{}{}", open.repeat(n), close.repeat(n));
    let svg = |inner: &str| format!("<svg xmlns=\"http://www.w3.org/2000/svg\">{inner}</svg>").into_bytes();
    let bomb: String = (0..9)
        .map(|i| format!("<!ENTITY a{} \"{}\">", i + 1, format!("&a{i};").repeat(12)))
        .collect::<String>();
    let bomb = format!(
        "<!DOCTYPE svg [<!ENTITY a0 \"long\">{bomb}]><svg xmlns=\"http://www.w3.org/2000/svg\"><text>&a9;</text></svg>"
    );
    let drawings = [
        ("groups.svg", svg(&nested("<g>", "</g>", 100_000))),
        ("arcs.svg", svg(&format!("<path d=\"M0 0 {}\"/>", "A1e30 1e30 0 0 0 1 1 ".repeat(300_000)))),
        ("paths.svg", svg(&"<path d=\"M0 0L1 1\"/>".repeat(600_000))),
        ("entities.svg", bomb.into_bytes()),
    ];
    all_take_little(&drawings, interchange::outline_svg);

    let accessor = r#"{"componentType":5126,"type":"VEC3","count":"#;
    let scene = r#""scenes":[{"nodes":[0]}],"nodes":[{"mesh":0}],"meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}]"#;
    let draco = interchange_file("floats-draco.glb");
    let meshopt = interchange_file("floats-meshopt.glb");
    let replaced = |bytes: &[u8], from: &str, to: &str| {
        assert_eq!(from.len(), to.len());
        let at = bytes.windows(from.len()).position(|w| w == from.as_bytes()).unwrap();
        let mut bytes = bytes.to_vec();
        bytes[at..at + to.len()].copy_from_slice(to.as_bytes());
        bytes
    };
    let mut files = vec![
        ("sparse.glb", glb(&format!("{{{scene},\"accessors\":[{accessor}3,\"sparse\":{{\"count\":4294967296,\"indices\":{{\"bufferView\":0,\"componentType\":5125}},\"values\":{{\"bufferView\":0}}}}}}]}}"))),
        ("empty.glb", glb(&format!("{{{scene},\"accessors\":[{accessor}12000000}}]}}"))),
        ("circle.glb", glb(r#"{"scenes":[{"nodes":[0]}],"nodes":[{"children":[0,0,0,0]}]}"#)),
        ("values.glb", glb(&format!("{{{scene},\"extras\":[{}0]}}", r#"{"a":0},"#.repeat(2_000_000)))),
        ("vertices.ply", b"ply\nformat binary_little_endian 1.0\nelement vertex 4294967295\nproperty float x\nend_header\n".to_vec()),
        ("faces.stl", [&[0u8; 80][..], &u32::MAX.to_le_bytes(), &[0; 50]].concat()),
        ("far.obj", ("v 0 0 0\n".repeat(2_000_000) + "f 1 2 9999999\n").into_bytes()),
        ("cut.glb", draco[..draco.len() - 900].to_vec()),
        ("counts.glb", replaced(&meshopt, "\"count\":1728}}}", "\"count\":9e99}}}")),
    ];
    let mut unfinished = b"solid a\n".to_vec();
    unfinished.extend(
        "facet normal 0 0 1\nouter loop\nvertex 0 0 0\nvertex 1 0 0\nvertex 0 1 0\nendloop\nendfacet\n"
            .repeat(100_000)
            .bytes(),
    );
    unfinished.extend(b"facet normal 0 0 1\nouter loop\nvertex 0 0");
    files.push(("unfinished.stl", unfinished));
    all_take_little(&files, interchange::read_mesh);

    let images = [
        ("cut.png", cut_png(8192, 8192, false)),
        ("deep.png", cut_png(8192, 8192, true)),
        ("large.png", cut_png(60_000, 60_000, false)),
    ];
    all_take_little(&images, interchange::read_image);
    let environments = [("cut.hdr", cut_hdr(8192, 4096)), ("cut.exr", cut_exr(8192, 4096))];
    all_take_little(&environments, interchange::read_environment);

    let documents = [
        ("nested.json", nested("[", "]", 100_000).into_bytes()),
        ("values.json", format!("{{\"elements\":[{}0]}}", "{},".repeat(6_000_000)).into_bytes()),
        ("name.json", format!("{{\"name\":\"{}\"}}", "a".repeat(24 << 20)).into_bytes()),
    ];
    all_take_little(&documents, |_, bytes| shot::read(bytes));
}
