//! A ZIP archive of numbered OBJ files: `flag_0001.obj`, `flag_0002.obj`…

use crate::samples::{ImportedSequence, Samples};
use crate::{ImportError, MAX_FILE, obj};
use std::io::{Cursor, Read};

/// Most entries of an archive.
const MAX_ENTRIES: usize = 20_000;
/// Most bytes of all files together, unpacked.
const MAX_UNPACKED: u64 = 8 << 30;

/// A file of the sequence: its place in the archive, its name and its number.
struct Numbered {
    index: usize,
    name: String,
    number: u64,
}

pub(super) fn read(file: &str, bytes: &[u8], fps: f32) -> Result<ImportedSequence, ImportError> {
    let fail = |message: String| ImportError::file(file, message);
    let mut archive = zip::ZipArchive::new(Cursor::new(bytes))
        .map_err(|error| fail(format!("is no ZIP archive: {error}")))?;
    if archive.len() > MAX_ENTRIES {
        return Err(fail(format!("has {} files; at most {MAX_ENTRIES}", archive.len())));
    }
    let list = sequence_in(file, &archive)?;
    let step = step(file, &list)?;
    let mut samples = Samples::new(file);
    let mut left = MAX_UNPACKED;
    for of in &list {
        let within = |message: String| fail(format!("{}: {message}", of.name));
        let entry =
            archive.by_index(of.index).map_err(|error| within(format!("does not unpack: {error}")))?;
        // The size that the archive tells may be a lie: no more than that is read.
        let bound = (MAX_FILE as u64).min(left);
        let mut text = Vec::new();
        entry
            .take(bound + 1)
            .read_to_end(&mut text)
            .map_err(|error| within(format!("does not unpack: {error}")))?;
        if text.len() as u64 > bound {
            return Err(within(format!(
                "a file may have {} MB, and all together {} GB unpacked",
                MAX_FILE >> 20,
                MAX_UNPACKED >> 30
            )));
        }
        left -= text.len() as u64;
        let mesh = obj::read_grouped(&of.name, &text)?;
        let frame = (of.number - list[0].number) as f64 / step as f64;
        samples.push(frame, mesh).map_err(|message| within(format!("frame {}: {message}", of.number)))?;
    }
    samples.finish(fps, Vec::new())
}

/// The numbered OBJ files of an archive, in order.
fn sequence_in(file: &str, archive: &zip::ZipArchive<Cursor<&[u8]>>) -> Result<Vec<Numbered>, ImportError> {
    let fail = |message: String| ImportError::file(file, message);
    let (mut list, mut stem): (Vec<Numbered>, Option<String>) = (Vec::new(), None);
    for index in 0..archive.len() {
        let Some(path) = archive.name_for_index(index) else { continue };
        let name: String = path.rsplit(['/', '\\']).next().unwrap_or(path).chars().take(120).collect();
        let Some(base) = name.to_ascii_lowercase().strip_suffix(".obj").map(str::to_owned) else { continue };
        if name.starts_with('.') {
            continue;
        }
        let digits = base.chars().rev().take_while(char::is_ascii_digit).count();
        let (before, number) = base.split_at(base.len() - digits);
        let number =
            number.parse().map_err(|_| fail(format!("{name} has no number at the end of its name")))?;
        match &stem {
            None => stem = Some(before.to_owned()),
            Some(stem) if stem == before => {}
            Some(_) => return Err(fail(format!("{name} is of another sequence than {}", list[0].name))),
        }
        list.push(Numbered { index, name, number });
    }
    if list.is_empty() {
        return Err(fail("holds no OBJ files".to_owned()));
    }
    list.sort_by_key(|of| of.number);
    if let Some(twice) = list.windows(2).find(|pair| pair[0].number == pair[1].number) {
        return Err(fail(format!(
            "holds frame {} twice, as {} and {}",
            twice[0].number, twice[0].name, twice[1].name
        )));
    }
    Ok(list)
}

/// By how much the numbers rise, if that is always the same.
fn step(file: &str, list: &[Numbered]) -> Result<u64, ImportError> {
    let gaps = || list.windows(2).map(|pair| pair[1].number - pair[0].number);
    let least = gaps().min().unwrap_or(1);
    let Some(at) = gaps().position(|gap| gap != least) else { return Ok(least) };
    let (from, to) = (&list[at], &list[at + 1]);
    Err(ImportError::file(
        file,
        format!("frame {} is missing: {} follows {}", from.number + least, to.name, from.name),
    ))
}

#[cfg(test)]
mod tests {
    use crate::{is_sequence, read_sequence};
    use rstest::rstest;
    use std::io::Write;

    fn archive(files: &[(&str, &str)]) -> Vec<u8> {
        let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for (name, text) in files {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            zip.write_all(text.as_bytes()).unwrap();
        }
        zip.finish().unwrap().into_inner()
    }

    fn square(height: f32) -> String {
        format!(
            "v 0 {height} 0\nv 1 {height} 0\nv 1 {height} 1\nv 0 {height} 1\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\ng sail\nf 1/1 4/4 3/3\ng mast\nf 1/1 3/3 2/2\n"
        )
    }

    #[test]
    fn numbered_files_become_samples_with_uvs_and_groups() {
        let (a, b, c) = (square(0.0), square(1.0), square(4.0));
        let bytes = archive(&[
            ("x/flag_12.obj", &c),
            ("x/flag_08.obj", &a),
            ("readme.txt", "-"),
            ("x/flag_10.obj", &b),
        ]);
        assert!(is_sequence("flags.zip", &bytes));
        let read = read_sequence("flags.zip", &bytes, 25.0).unwrap();
        let samples = read.sequence.samples();
        assert_eq!(samples.iter().map(|s| s.frame).collect::<Vec<_>>(), [0.0, 1.0, 2.0]);
        assert_eq!((samples[2].positions[0].y, read.sequence.rate()), (4.0, 25.0));
        let topology = &samples[0].topology;
        assert!(std::sync::Arc::ptr_eq(topology, &samples[2].topology));
        assert_eq!(topology.uvs().len(), 4);
        let names: Vec<&str> = topology.attributes().iter().map(|a| a.name.as_str()).collect();
        assert_eq!(names, ["uv", "sail", "mast"]);
        assert!(read.notices.is_empty());
    }

    #[test]
    fn normals_that_are_made_from_the_faces_do_not_change_the_topology() {
        // A roof that becomes flat: the crease of the first frame stays.
        let roof = |height: f32| {
            format!(
                "v 0 0 0\nv 0 0 1\nv 1 {height} 0\nv 1 {height} 1\nv 2 0 0\nv 2 0 1\nf 1 2 4 3\nf 3 4 6 5\n"
            )
        };
        let (a, b) = (roof(1.0), roof(0.0));
        let read = read_sequence("roof.zip", &archive(&[("r1.obj", &a), ("r2.obj", &b)]), 24.0).unwrap();
        let samples = read.sequence.samples();
        assert_eq!(samples[0].topology, samples[1].topology);
        assert_eq!(samples[0].positions.len(), 8, "the ridge is split");
    }

    #[test]
    fn other_faces_are_told_and_allowed() {
        let (a, b) = (square(0.0), square(1.0).replace("g mast\nf 1/1 3/3 2/2\n", ""));
        let read = read_sequence("s.zip", &archive(&[("s1.obj", &a), ("s2.obj", &b)]), 24.0).unwrap();
        assert_ne!(read.sequence.samples()[0].topology, read.sequence.samples()[1].topology);
        assert!(read.notices[0].contains("the faces change once"), "{:?}", read.notices);
    }

    #[rstest]
    #[case(&[("a1.obj", 0.0), ("a2.obj", 0.0), ("a4.obj", 0.0)], "frame 3 is missing: a4.obj follows a2.obj")]
    #[case(&[("a1.obj", 0.0)], "has one frame; a sequence needs two or more")]
    #[case(&[("a1.obj", 0.0), ("b2.obj", 0.0)], "b2.obj is of another sequence than a1.obj")]
    #[case(&[("a1.obj", 0.0), ("a01.obj", 0.0)], "holds frame 1 twice")]
    #[case(&[("a.obj", 0.0)], "a.obj has no number")]
    #[case(&[], "holds no OBJ files")]
    #[case(&[("a1.obj", 0.0), ("a2.obj", f32::NAN)], "a2.obj, line 1: `v` needs 3 numbers")]
    fn what_is_wrong_is_told_with_the_file_and_the_frame(
        #[case] files: &[(&str, f32)],
        #[case] message: &str,
    ) {
        let texts: Vec<(&str, String)> =
            files.iter().map(|(name, height)| (*name, square(*height))).collect();
        let files: Vec<(&str, &str)> = texts.iter().map(|(name, text)| (*name, text.as_str())).collect();
        let error = read_sequence("s.zip", &archive(&files), 24.0).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }

    #[test]
    fn archives_that_are_none_or_lie_are_refused() {
        assert!(
            read_sequence("s.zip", b"PK\x03\x04 no", 24.0)
                .unwrap_err()
                .to_string()
                .contains("no ZIP archive")
        );
        // A small file that unpacks to more than a file may have.
        let zeros = "#".repeat(1 << 20).repeat(300);
        let bytes = archive(&[("a1.obj", &zeros), ("a2.obj", "")]);
        assert!(bytes.len() < 4 << 20);
        let error = read_sequence("s.zip", &bytes, 24.0).unwrap_err().to_string();
        assert!(error.contains("a1.obj: a file may have"), "{error}");
    }
}
