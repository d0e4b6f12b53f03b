//! MP4: H.264 by openh264, muxed by shiguredo_mp4.

use openh264::OpenH264API;
use openh264::encoder::{Encoder, EncoderConfig, FrameRate, IntraFramePeriod, QpRange, RateControlMode};
use openh264::formats::{RgbSliceU8, YUVBuffer};
use shiguredo_mp4::boxes::{Avc1Box, AvccBox, SampleEntry, UnknownBox, VisualSampleEntryFields};
use shiguredo_mp4::mux::{Mp4FileMuxer, Mp4FileMuxerOptions, Sample, estimate_maximum_moov_box_size};
use shiguredo_mp4::{BoxSize, BoxType, TrackKind, Uint};
use std::io::Cursor;
use std::num::NonZeroU32;
use thiserror::Error;

/// Why a film could not be encoded.
#[derive(Debug, Error)]
#[error("the film cannot be encoded: {0}")]
pub struct MovieError(String);

/// Ticks a second of the film's clock.
const TIMESCALE: u32 = 90_000;

/// A film being encoded. Frames that cannot be halved lose their last row or column.
pub struct Movie {
    encoder: Encoder,
    muxer: Mp4FileMuxer,
    bytes: Vec<u8>,
    size: (usize, usize),
    duration: u32,
    frames: u32,
}

fn fail(error: impl ToString) -> MovieError {
    MovieError(error.to_string())
}

impl Movie {
    /// Begins a film of `frames` frames.
    ///
    /// # Errors
    /// [`MovieError`] if the encoder refuses the size.
    pub fn new(width: u32, height: u32, fps: f32, frames: usize) -> Result<Self, MovieError> {
        let config = EncoderConfig::new()
            .max_frame_rate(FrameRate::from_hz(fps))
            .rate_control_mode(RateControlMode::Off)
            .qp(QpRange::new(16, 24))
            .intra_frame_period(IntraFramePeriod::from_num_frames(24))
            .skip_frames(false)
            .num_threads(1);
        let encoder = Encoder::with_api_config(OpenH264API::from_source(), config).map_err(fail)?;
        let options = Mp4FileMuxerOptions {
            reserved_moov_box_size: estimate_maximum_moov_box_size(&[frames]),
            ..Default::default()
        };
        let muxer = Mp4FileMuxer::with_options(options).map_err(fail)?;
        let bytes = muxer.initial_boxes_bytes().to_vec();
        let size = (width as usize & !1, height as usize & !1);
        let duration = (TIMESCALE as f32 / fps).round() as u32;
        Ok(Self { encoder, muxer, bytes, size, duration, frames: 0 })
    }

    /// Adds a frame of sRGB code values, `width` pixels a row.
    ///
    /// # Errors
    /// [`MovieError`].
    pub fn push(&mut self, width: u32, rgb: &[u8]) -> Result<(), MovieError> {
        let (w, h) = self.size;
        let cropped: Vec<u8> =
            rgb.chunks_exact(width as usize * 3).take(h).flat_map(|row| &row[..w * 3]).copied().collect();
        let yuv = YUVBuffer::from_rgb8_source(RgbSliceU8::new(&cropped, (w, h)));
        let stream = self.encoder.encode(&yuv).map_err(fail)?.to_vec();
        let (mut data, mut sps, mut pps, mut keyframe) = (Vec::new(), Vec::new(), Vec::new(), false);
        for unit in units(&stream) {
            match unit[0] & 31 {
                7 => sps = unit.to_vec(),
                8 => pps = unit.to_vec(),
                kind => {
                    keyframe |= kind == 5;
                    data.extend((unit.len() as u32).to_be_bytes());
                    data.extend_from_slice(unit);
                }
            }
        }
        if data.is_empty() {
            return Err(fail("the encoder gave no picture"));
        }
        let sample_entry = (self.frames == 0).then(|| self.entry(sps, pps)).transpose()?;
        let sample = Sample {
            track_kind: TrackKind::Video,
            sample_entry,
            keyframe,
            timescale: NonZeroU32::new(TIMESCALE).expect("not zero"),
            duration: self.duration,
            composition_time_offset: None,
            data_offset: self.bytes.len() as u64,
            data_size: data.len(),
        };
        self.bytes.extend_from_slice(&data);
        self.muxer.append_sample(&sample).map_err(fail)?;
        self.frames += 1;
        Ok(())
    }

    fn entry(&self, sps: Vec<u8>, pps: Vec<u8>) -> Result<SampleEntry, MovieError> {
        if sps.len() < 4 || pps.is_empty() {
            return Err(fail("the encoder gave no parameters"));
        }
        let avcc_box = AvccBox {
            avc_profile_indication: sps[1],
            profile_compatibility: sps[2],
            avc_level_indication: sps[3],
            length_size_minus_one: Uint::new(3),
            sps_list: vec![sps],
            pps_list: vec![pps],
            chroma_format: None,
            bit_depth_luma_minus8: None,
            bit_depth_chroma_minus8: None,
            sps_ext_list: Vec::new(),
        };
        let visual = VisualSampleEntryFields {
            data_reference_index: VisualSampleEntryFields::DEFAULT_DATA_REFERENCE_INDEX,
            width: self.size.0 as u16,
            height: self.size.1 as u16,
            horizresolution: VisualSampleEntryFields::DEFAULT_HORIZRESOLUTION,
            vertresolution: VisualSampleEntryFields::DEFAULT_VERTRESOLUTION,
            frame_count: VisualSampleEntryFields::DEFAULT_FRAME_COUNT,
            compressorname: VisualSampleEntryFields::NULL_COMPRESSORNAME,
            depth: VisualSampleEntryFields::DEFAULT_DEPTH,
        };
        Ok(SampleEntry::Avc1(Avc1Box { visual, avcc_box, unknown_boxes: vec![colour()] }))
    }

    /// The file.
    ///
    /// # Errors
    /// [`MovieError`] if no frame was added.
    pub fn finish(mut self) -> Result<Vec<u8>, MovieError> {
        if self.frames == 0 {
            return Err(fail("it has no frames"));
        }
        let finalized = self.muxer.finalize().map_err(fail)?;
        for (offset, bytes) in finalized.offset_and_bytes_pairs() {
            let end = offset as usize + bytes.len();
            if self.bytes.len() < end {
                self.bytes.resize(end, 0);
            }
            self.bytes[offset as usize..end].copy_from_slice(bytes);
        }
        Ok(self.bytes)
    }
}

/// Most frames of a film of drawings, and pixels of each along a side.
const MAX_DRAWINGS: usize = 2_000;
const MAX_SIDE: u32 = 4_096;

/// A film of drawings that come as JPEG files, each behind its length as a u32, little-endian.
///
/// # Errors
/// [`MovieError`] names the drawing, from 1, that is cut short, is no JPEG file or has another size.
pub fn movie_of_drawings(bytes: &[u8], fps: f32) -> Result<Vec<u8>, MovieError> {
    let mut drawings = Vec::new();
    let mut rest = bytes;
    while !rest.is_empty() {
        let number = drawings.len() + 1;
        let cut = || fail(format!("drawing {number} is cut short"));
        let (length, after) = rest.split_first_chunk().ok_or_else(cut)?;
        let length = u32::from_le_bytes(*length) as usize;
        drawings.push(after.get(..length).ok_or_else(cut)?);
        rest = &after[length..];
        if drawings.len() > MAX_DRAWINGS {
            return Err(fail(format!("it has more than {MAX_DRAWINGS} drawings")));
        }
    }
    let mut movie: Option<(Movie, (u32, u32))> = None;
    for (i, drawing) in drawings.iter().enumerate() {
        let wrong = |message: String| fail(format!("drawing {} {message}", i + 1));
        let mut reader = image::ImageReader::with_format(Cursor::new(drawing), image::ImageFormat::Jpeg);
        let mut limits = image::Limits::default();
        (limits.max_image_width, limits.max_image_height) = (Some(MAX_SIDE), Some(MAX_SIDE));
        reader.limits(limits);
        let picture = reader.decode().map_err(|error| wrong(format!("is not read: {error}")))?.into_rgb8();
        let size = picture.dimensions();
        if size.0 < 16 || size.1 < 16 {
            return Err(wrong(format!("has {} × {} pixels; at least 16 × 16", size.0, size.1)));
        }
        let (movie, first) = match &mut movie {
            Some(movie) => movie,
            none => none.insert((Movie::new(size.0, size.1, fps, drawings.len())?, size)),
        };
        if *first != size {
            return Err(wrong(format!("has {} × {} pixels, not {} × {}", size.0, size.1, first.0, first.1)));
        }
        movie.push(size.0, &picture)?;
    }
    movie.ok_or_else(|| fail("it has no frames"))?.0.finish()
}

/// The units of an H.264 byte stream (ITU-T H.264, annex B).
fn units(stream: &[u8]) -> Vec<&[u8]> {
    let starts: Vec<usize> =
        (0..stream.len().saturating_sub(2)).filter(|&i| stream[i..].starts_with(&[0, 0, 1])).collect();
    let ends = starts.iter().skip(1).copied().chain([stream.len()]);
    starts
        .iter()
        .zip(ends)
        .map(|(&start, end)| {
            let unit = &stream[start + 3..end];
            let zeros = unit.iter().rev().take_while(|&&byte| byte == 0).count();
            &unit[..unit.len() - zeros]
        })
        .filter(|unit| !unit.is_empty())
        .collect()
}

/// How the film's numbers are colours (ISO/IEC 23091-2 by ISO/IEC 14496-12):
/// Rec. 709 primaries, the sRGB curve, and the Rec. 601 matrix at video range,
/// by which the encoder's crate turns RGB into luma and chroma.
fn colour() -> UnknownBox {
    const PRIMARIES_REC_709: u16 = 1;
    const CURVE_SRGB: u16 = 13;
    const MATRIX_REC_601: u16 = 6;
    let mut payload = b"nclx".to_vec();
    for value in [PRIMARIES_REC_709, CURVE_SRGB, MATRIX_REC_601] {
        payload.extend(value.to_be_bytes());
    }
    payload.push(0);
    let box_type = BoxType::Normal(*b"colr");
    let box_size = BoxSize::with_payload_size(box_type, payload.len() as u64);
    UnknownBox { box_type, box_size, payload }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_film_is_an_mp4_with_all_its_frames() {
        let mut movie = Movie::new(65, 33, 24.0, 30).unwrap();
        for i in 0..30u8 {
            let rgb: Vec<u8> = (0..65 * 33).flat_map(|p: u32| [(p % 251) as u8, i * 8, 90]).collect();
            movie.push(65, &rgb).unwrap();
        }
        let bytes = movie.finish().unwrap();
        assert_eq!(&bytes[4..8], b"ftyp");
        let at = bytes.windows(4).position(|w| w == b"stsz").unwrap();
        assert_eq!(u32::from_be_bytes(bytes[at + 12..at + 16].try_into().unwrap()), 30);
        let colour = bytes.windows(4).position(|w| w == b"colr").expect("it states its colours");
        assert_eq!(bytes[colour + 4..colour + 15], *b"nclx\0\x01\0\x0d\0\x06\0");
        let moov = bytes.windows(4).position(|w| w == b"moov").unwrap();
        assert!(moov < bytes.windows(4).position(|w| w == b"mdat").unwrap(), "plays before it is whole");
    }

    /// A JPEG file of one colour behind its length.
    fn drawing(width: u32, red: u8) -> Vec<u8> {
        let mut jpeg = Vec::new();
        let picture = image::RgbImage::from_pixel(width, 32, image::Rgb([red, 80, 20]));
        picture.write_to(&mut Cursor::new(&mut jpeg), image::ImageFormat::Jpeg).unwrap();
        [&(jpeg.len() as u32).to_le_bytes()[..], &jpeg].concat()
    }

    #[test]
    fn drawings_become_a_film() {
        let bytes: Vec<u8> = (0..12).flat_map(|i| drawing(48, i * 20)).collect();
        let film = movie_of_drawings(&bytes, 24.0).unwrap();
        let at = film.windows(4).position(|w| w == b"stsz").unwrap();
        assert_eq!(u32::from_be_bytes(film[at + 12..at + 16].try_into().unwrap()), 12);
    }

    #[rstest::rstest]
    #[case(Vec::new(), "it has no frames")]
    #[case(vec![9, 0, 0, 0, 1], "drawing 1 is cut short")]
    #[case(vec![2, 0, 0, 0, 1, 2], "drawing 1 is not read")]
    #[case([drawing(48, 1), drawing(64, 1)].concat(), "drawing 2 has 64 × 32 pixels, not 48 × 32")]
    fn drawings_that_are_none_are_named(#[case] bytes: Vec<u8>, #[case] message: &str) {
        let error = movie_of_drawings(&bytes, 24.0).unwrap_err().to_string();
        assert!(error.contains(message), "{error}");
    }

    #[test]
    fn a_film_without_frames_is_refused() {
        assert!(Movie::new(64, 64, 24.0, 0).unwrap().finish().is_err());
    }
}
