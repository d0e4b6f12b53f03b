//! Images in (PNG, JPEG, HDR, EXR) and out (PNG, EXR).

use crate::{ImportError, MAX_PIXELS, complete};
use exr::prelude::*;
use geometry::Image as Texture;
use half::f16;
use image::{ImageFormat, ImageReader};
use picture::{Environment, Picture, display};
use std::io::Cursor;

/// Reads an image laid on UVs, PNG or JPEG, told by its bytes.
///
/// # Errors
/// [`ImportError`] says what is wrong with the file.
pub fn read_image(name: &str, bytes: &[u8]) -> std::result::Result<Texture, ImportError> {
    let decoded = decode(name, bytes, &[ImageFormat::Png, ImageFormat::Jpeg], "PNG or JPEG")?.to_rgb8();
    let table: Vec<f32> = (0..256).map(|code| display::linear(code as f32 / 255.0)).collect();
    Ok(Texture {
        width: decoded.width() as usize,
        height: decoded.height() as usize,
        rgb: decoded.pixels().map(|pixel| pixel.0.map(|code| table[usize::from(code)])).collect(),
    })
}

/// Reads a latitude–longitude environment image, EXR or HDR, told by its bytes.
/// Gives with it the number of pixels that were mended, see [`mend`].
///
/// # Errors
/// [`ImportError`] says what is wrong with the file.
pub fn read_environment(name: &str, bytes: &[u8]) -> std::result::Result<(Environment, usize), ImportError> {
    let mut environment = if bytes.starts_with(&[0x76, 0x2f, 0x31, 0x01]) {
        read_exr(name, bytes)?
    } else {
        let decoded = decode(name, bytes, &[ImageFormat::Hdr], "EXR or HDR")?.to_rgb32f();
        Environment {
            width: decoded.width() as usize,
            height: decoded.height() as usize,
            rgb: decoded.pixels().map(|pixel| pixel.0).collect(),
        }
    };
    let mended = mend(&mut environment);
    Ok((environment, mended))
}

/// Mends the pixels of an image that light cannot have: lossy compression
/// leaves negative ones, and some writers put infinities where the sun is.
/// Gives how many there were.
pub fn mend(environment: &mut Environment) -> usize {
    let brightest = environment.rgb.iter().flatten().copied().filter(|v| v.is_finite()).fold(0.0, f32::max);
    let mut mended = 0;
    for rgb in &mut environment.rgb {
        if rgb.iter().all(|v| v.is_finite() && *v >= 0.0) {
            continue;
        }
        mended += 1;
        for v in rgb {
            *v = match *v {
                v if v == f32::INFINITY => brightest,
                v if v.is_finite() => v.max(0.0),
                _ => 0.0,
            };
        }
    }
    mended
}

/// Decodes an image of one of some formats, told by its bytes, of at most [`MAX_PIXELS`].
pub(crate) fn decode(
    name: &str,
    bytes: &[u8],
    formats: &[ImageFormat],
    wanted: &str,
) -> std::result::Result<image::DynamicImage, ImportError> {
    let fail = |error: image::ImageError| ImportError::file(name, error);
    let open = || ImageReader::new(Cursor::new(bytes)).with_guessed_format();
    let reader = open().map_err(|error| ImportError::file(name, error))?;
    if !reader.format().is_some_and(|format| formats.contains(&format)) {
        return Err(ImportError::file(name, format!("is not {wanted}")));
    }
    let (width, height) = reader.into_dimensions().map_err(fail)?;
    if u64::from(width) * u64::from(height) > MAX_PIXELS || width == 0 || height == 0 {
        return Err(ImportError::file(
            name,
            format!("{width} × {height} pixels; at most {MAX_PIXELS} in all"),
        ));
    }
    if let Some(message) = cut_short(bytes, width, height) {
        return Err(ImportError::file(name, message));
    }
    let mut reader = open().map_err(|error| ImportError::file(name, error))?;
    let mut limits = image::Limits::default();
    // Two bytes a channel only up to half as many pixels.
    limits.max_alloc = Some(4 * MAX_PIXELS);
    if reader.format() != Some(ImageFormat::Hdr) {
        reader.limits(limits);
    }
    reader.decode().map_err(fail)
}

/// Why a Radiance HDR file is not whole, if it is not.
fn cut_short(bytes: &[u8], width: u32, height: u32) -> Option<String> {
    bytes.starts_with(b"#?").then(|| complete::hdr(bytes, width as usize, height as usize).err())?
}

fn read_exr(name: &str, bytes: &[u8]) -> std::result::Result<Environment, ImportError> {
    let meta = exr::meta::MetaData::read_from_buffered(Cursor::new(bytes), false)
        .map_err(|error| ImportError::file(name, error))?;
    let pixels: u64 = meta.headers.iter().map(|h| h.layer_size.area() as u64).sum();
    if pixels > MAX_PIXELS {
        return Err(ImportError::file(name, format!("{pixels} pixels; at most {MAX_PIXELS}")));
    }
    complete::exr(bytes).map_err(|error| ImportError::file(name, error))?;
    let image = exr::prelude::read()
        .no_deep_data()
        .largest_resolution_level()
        .rgb_channels(
            |size, _| Environment { width: size.x(), height: size.y(), rgb: vec![[0.0; 3]; size.area()] },
            |image: &mut Environment, at, (r, g, b): (f32, f32, f32)| {
                image.rgb[at.y() * image.width + at.x()] = [r, g, b];
            },
        )
        .first_valid_layer()
        .all_attributes()
        .from_buffered(Cursor::new(bytes))
        .map_err(|error| ImportError::file(name, error))?;
    Ok(image.layer_data.channel_data.pixels)
}

/// A PNG file of one channel.
pub(crate) fn grey_png(width: u32, height: u32, values: Vec<u8>) -> Vec<u8> {
    let mut bytes = Vec::new();
    let grey = image::GrayImage::from_raw(width, height, values).expect("a value a pixel");
    grey.write_to(&mut Cursor::new(&mut bytes), ImageFormat::Png).expect("memory takes all that is written");
    bytes
}

/// Reads a PNG back: pixels across and down, and sRGB code values.
///
/// # Errors
/// [`ImportError`] says what is wrong with the file.
pub fn read_png(bytes: &[u8]) -> std::result::Result<(u32, u32, Vec<u8>), ImportError> {
    let decoded = decode("PNG", bytes, &[ImageFormat::Png], "PNG")?.to_rgb8();
    Ok((decoded.width(), decoded.height(), decoded.into_raw()))
}

/// Key of the text in a picture that tells what it was made from.
const MADE_FROM: &str = "madeFrom";

/// A PNG file with a text in it that tells what it was made from.
pub fn with_made_from(png: &[u8], made_from: &str) -> Vec<u8> {
    // After the signature and the header chunk.
    const AT: usize = 8 + 25;
    let mut chunk = b"tEXt".to_vec();
    chunk.extend(MADE_FROM.as_bytes());
    chunk.push(0);
    chunk.extend(made_from.as_bytes());
    let length = (chunk.len() as u32 - 4).to_be_bytes();
    let sum = crc32fast::hash(&chunk).to_be_bytes();
    [&png[..AT], &length, &chunk, &sum, &png[AT..]].concat()
}

/// The fingerprint of its inputs that a PNG file carries.
pub fn png_made_from(bytes: &[u8]) -> Option<String> {
    let mut rest = bytes.strip_prefix(b"\x89PNG\r\n\x1a\n")?;
    loop {
        let (length, after) = rest.split_first_chunk::<4>()?;
        let (chunk, after) = after.split_at_checked(u32::from_be_bytes(*length) as usize + 4)?;
        if let Some(text) =
            chunk.strip_prefix(b"tEXt").and_then(|text| text.strip_prefix(MADE_FROM.as_bytes()))
        {
            return String::from_utf8(text.strip_prefix(&[0])?.to_vec()).ok();
        }
        if chunk.starts_with(b"IDAT") {
            return None;
        }
        rest = after.get(4..)?;
    }
}

/// The fingerprint of its inputs that an OpenEXR file carries.
pub fn exr_made_from(bytes: &[u8]) -> Option<String> {
    let meta = exr::meta::MetaData::read_from_buffered(Cursor::new(bytes), false).ok()?;
    let header = meta.headers.first()?;
    // A reader cannot tell which of the two maps an attribute was written from.
    let key = Text::from(MADE_FROM);
    match header.own_attributes.other.get(&key).or_else(|| header.shared_attributes.other.get(&key))? {
        AttributeValue::Text(text) => Some(text.to_string()),
        _ => None,
    }
}

/// A picture as PNG: display-referred sRGB, eight bits.
///
/// # Errors
/// [`ImportError`] if it cannot be encoded.
pub fn write_png(width: u32, height: u32, rgb: &[u8]) -> std::result::Result<Vec<u8>, ImportError> {
    let mut bytes = Cursor::new(Vec::new());
    image::write_buffer_with_format(
        &mut bytes,
        rgb,
        width,
        height,
        image::ExtendedColorType::Rgb8,
        ImageFormat::Png,
    )
    .map_err(|error| ImportError::file("PNG", error))?;
    Ok(bytes.into_inner())
}

/// A picture as OpenEXR: scene-linear half floats with Rec. 709 primaries in
/// R, G, B; `depth.Z` (m, float), `normal.X`, `.Y`, `.Z` and `element.id`; with
/// a text that tells what it was made from, unless that is empty.
///
/// # Errors
/// [`ImportError`] if it cannot be encoded.
pub fn write_exr(picture: &Picture, made_from: &str) -> std::result::Result<Vec<u8>, ImportError> {
    let size = Vec2(picture.width as usize, picture.height as usize);
    let half = |pick: &dyn Fn(usize) -> f32| {
        FlatSamples::F16((0..picture.rgb.len()).map(|i| f16::from_f32(pick(i).min(65_504.0))).collect())
    };
    let mut channels = SmallVec::<[AnyChannel<FlatSamples>; 4]>::new();
    for (axis, name) in ["R", "G", "B"].into_iter().enumerate() {
        channels.push(AnyChannel::new(name, half(&|i| picture.rgb[i][axis])));
    }
    for (axis, name) in ["normal.X", "normal.Y", "normal.Z"].into_iter().enumerate() {
        channels.push(AnyChannel::new(name, half(&|i| picture.normal[i][axis])));
    }
    channels.push(AnyChannel::new("depth.Z", FlatSamples::F32(picture.depth.clone())));
    channels.push(AnyChannel::new("element.id", FlatSamples::U32(picture.element.clone())));
    let mut attributes = ImageAttributes::new(IntegerBounds::from_dimensions(size));
    attributes.chromaticities = Some(attribute::Chromaticities {
        red: Vec2(0.64, 0.33),
        green: Vec2(0.30, 0.60),
        blue: Vec2(0.15, 0.06),
        white: Vec2(0.3127, 0.3290),
    });
    let mut layer_attributes = LayerAttributes::default();
    layer_attributes
        .other
        .insert(Text::from("colorSpace"), AttributeValue::Text(Text::from("scene-linear Rec.709")));
    layer_attributes.exposure = Some(picture.exposure);
    // The attributes of each map are written in an order by chance, so that this
    // one goes to the other map: the same picture has the same bytes.
    if !made_from.is_empty() {
        attributes.other.insert(Text::from(MADE_FROM), AttributeValue::Text(Text::from(made_from)));
    }
    let encoding = Encoding { compression: Compression::ZIP16, ..Encoding::FAST_LOSSLESS };
    let layer = Layer::new(size, layer_attributes, encoding, AnyChannels::sort(channels));
    let mut bytes = Cursor::new(Vec::new());
    Image { attributes, layer_data: layer }
        .write()
        .non_parallel()
        .to_buffered(&mut bytes)
        .map_err(|error| ImportError::file("EXR", error))?;
    Ok(bytes.into_inner())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn picture() -> Picture {
        let n = 12;
        Picture {
            width: 4,
            height: 3,
            rgb: (0..n).map(|i| [0.01 * i as f32, 0.3, 7.0 * i as f32]).collect(),
            depth: (0..n).map(|i| i as f32 * 1.5).collect(),
            normal: vec![[0.0, 1.0, 0.0]; n],
            element: (0..n as u32).collect(),
            exposure: 0.5,
        }
    }

    #[test]
    fn exr_and_png_agree_through_the_display_transform() {
        let picture = picture();
        let (linear, mended) = read_environment("p.exr", &write_exr(&picture, "").unwrap()).unwrap();
        assert_eq!(mended, 0);
        let png = write_png(4, 3, &picture.show()).unwrap();
        let shown = image::load_from_memory(&png).unwrap().to_rgb8();
        for (rgb, pixel) in linear.rgb.iter().zip(shown.pixels()) {
            for (a, b) in display::show(*rgb, 0.5).iter().zip(pixel.0) {
                assert!(a.abs_diff(b) <= 1);
            }
        }
    }

    #[test]
    fn pictures_tell_what_they_were_made_from() {
        let png = write_png(4, 3, &picture().show()).unwrap();
        let told = with_made_from(&png, "0123abc");
        assert_eq!((png_made_from(&told).as_deref(), png_made_from(&png)), (Some("0123abc"), None));
        assert_eq!(read_png(&told).unwrap(), read_png(&png).unwrap());
        assert_eq!(exr_made_from(&write_exr(&picture(), "0123abc").unwrap()).as_deref(), Some("0123abc"));
        assert_eq!(exr_made_from(&write_exr(&picture(), "").unwrap()), None);
        let first = write_exr(&picture(), "0123abc").unwrap();
        assert!((0..20).all(|_| write_exr(&picture(), "0123abc").unwrap() == first));
        assert_eq!((png_made_from(&told[..50]), exr_made_from(b"no")), (None, None));
    }

    #[test]
    fn layers_are_there_with_their_types() {
        let bytes = write_exr(&picture(), "a test").unwrap();
        let meta = exr::meta::MetaData::read_from_buffered(Cursor::new(bytes), true).unwrap();
        let names: Vec<String> = meta.headers[0].channels.list.iter().map(|c| c.name.to_string()).collect();
        assert_eq!(names, ["B", "G", "R", "depth.Z", "element.id", "normal.X", "normal.Y", "normal.Z"]);
    }

    #[test]
    fn pixels_that_light_cannot_have_are_mended_and_counted() {
        let rgb = vec![[1.0, -0.01, 0.5], [f32::INFINITY, 2.0, 3.0], [f32::NAN, 0.0, 0.0], [0.1; 3]];
        let mut environment = Environment { width: 2, height: 2, rgb };
        assert_eq!(mend(&mut environment), 3);
        assert_eq!(environment.rgb, [[1.0, 0.0, 0.5], [3.0, 2.0, 3.0], [0.0; 3], [0.1; 3]]);
        assert_eq!(mend(&mut environment), 0);
    }

    #[test]
    fn a_file_that_is_not_what_its_name_says_is_refused() {
        let png = write_png(1, 1, &[1, 2, 3]).unwrap();
        assert!(
            read_environment("sky.hdr", &png).unwrap_err().to_string().contains("sky.hdr: is not EXR or HDR")
        );
        assert!(
            read_image("wood.png", b"v 0 0 0")
                .unwrap_err()
                .to_string()
                .contains("wood.png: is not PNG or JPEG")
        );
        assert!(read_image("wood.png", &png[..20]).is_err());
    }
}
