//! Whether an image file holds all that it says, found without keeping its
//! pixels: a file that is refused at its end must not have filled the memory.

use exr::block::reader::ChunksReader;
use std::io::Cursor;

/// Decodes an OpenEXR file block by block; the error says what is wrong.
pub(crate) fn exr(bytes: &[u8]) -> Result<(), String> {
    let blocks = exr::block::read(Cursor::new(bytes), false)
        .and_then(|reader| reader.all_chunks(false))
        .map_err(|error| error.to_string())?;
    blocks.decompress_parallel(false, |_, _| Ok(())).map_err(|error| error.to_string())
}

/// Walks the scan lines of a Radiance HDR file (G. Ward, *Real pixels*, 1991),
/// run by run; the error says what is wrong. Lines of the oldest kind, in which
/// runs are pixels, are left to the decoder.
pub(crate) fn hdr(bytes: &[u8], width: usize, height: usize) -> Result<(), String> {
    let cut = |line: usize| format!("ends within its line {} of {height}", line + 1);
    let resolution = bytes.windows(2).position(|two| two == b"\n\n").map(|at| at + 2);
    let start = resolution.and_then(|at| Some(at + bytes[at..].iter().position(|b| *b == b'\n')? + 1));
    let mut rest = &bytes[start.ok_or("has no lines of pixels")?..];
    for line in 0..height {
        let head = [2, 2, (width >> 8) as u8, width as u8];
        if rest.get(..4) != Some(&head) {
            // Plain pixels, or runs of pixels, of at least four bytes a line.
            return if rest.len() >= 4 * (height - line) { Ok(()) } else { Err(cut(line)) };
        }
        rest = &rest[4..];
        for _ in 0..4 {
            let mut filled = 0;
            while filled < width {
                let &count = rest.first().ok_or_else(|| cut(line))?;
                let (pixels, stored) =
                    if count > 128 { (count - 128, 1) } else { (count, usize::from(count)) };
                filled += usize::from(pixels);
                rest = rest.get(1 + stored..).filter(|_| pixels > 0).ok_or_else(|| cut(line))?;
            }
        }
    }
    Ok(())
}
