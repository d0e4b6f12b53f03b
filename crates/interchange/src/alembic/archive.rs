//! Objects and properties of an archive, with their samples.

use super::ogawa::{Child, Ogawa};
use frames::MAX_SAMPLES;

/// Most numbers of one sample: three for each of twelve million vertices.
const MAX_NUMBERS: usize = 36_000_000;
/// Bytes of the digest that stands before each sample.
const DIGEST: usize = 16;
/// Bytes of the digests behind the headers of objects.
const OBJECT_DIGESTS: usize = 32;
/// Metadata that stands with its header, not in the archive's list.
const INLINE_METADATA: usize = 0xff;
/// The cycle of times that do not repeat, s: the largest double over 32.
pub(super) const ACYCLIC: f64 = f64::MAX / 32.0;

/// When samples are.
#[derive(Clone, Debug)]
struct TimeSampling {
    /// Seconds after which the times repeat; [`ACYCLIC`]: never.
    cycle: f64,
    times: Vec<f64>,
}

impl TimeSampling {
    fn at(&self, sample: usize) -> f64 {
        let n = self.times.len();
        if self.cycle >= ACYCLIC {
            return self.times[sample.min(n - 1)];
        }
        self.times[sample % n] + self.cycle * (sample / n) as f64
    }
}

/// The type of a property.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum PropertyKind {
    /// Holds other properties.
    Compound,
    /// One value a sample.
    Scalar,
    /// Any number of values a sample.
    Array,
}

/// A property.
#[derive(Clone, Debug)]
pub(super) struct Property {
    pub name: String,
    pub kind: PropertyKind,
    pub metadata: String,
    /// Type of its numbers, by the format's number of it.
    pod: u8,
    /// Number of samples.
    samples: usize,
    /// The first and the last sample that differs from the one before.
    changed: [usize; 2],
    sampling: usize,
    place: Child,
}

/// An object.
#[derive(Clone, Debug)]
pub(super) struct Object {
    pub name: String,
    pub metadata: String,
    place: Child,
}

impl Object {
    /// The name of its schema, without its version.
    pub fn schema(&self) -> &str {
        let of = self.metadata.split(';').find_map(|pair| pair.strip_prefix("schema="));
        let of = of.unwrap_or_default();
        of.rsplit_once("_v").map_or(of, |(name, _)| name)
    }
}

/// An archive.
pub(super) struct Archive<'a> {
    file: Ogawa<'a>,
    samplings: Vec<TimeSampling>,
    metadata: Vec<String>,
    top: Child,
}

/// Bytes that are read one after the other.
struct Bytes<'a> {
    bytes: &'a [u8],
    at: usize,
}

impl<'a> Bytes<'a> {
    fn take(&mut self, count: usize) -> Result<&'a [u8], String> {
        let end = self.at.checked_add(count).filter(|end| *end <= self.bytes.len());
        let end = end.ok_or("has a header that is cut short")?;
        let taken = &self.bytes[self.at..end];
        self.at = end;
        Ok(taken)
    }

    /// A whole number of 1, 2 or 4 bytes.
    fn whole(&mut self, size: usize) -> Result<usize, String> {
        Ok(self.take(size)?.iter().rev().fold(0, |sum, byte| sum << 8 | usize::from(*byte)))
    }

    fn f64(&mut self) -> Result<f64, String> {
        Ok(f64::from_le_bytes(self.take(8)?.try_into().expect("8 bytes")))
    }

    fn text(&mut self, length: usize) -> Result<String, String> {
        Ok(String::from_utf8_lossy(self.take(length)?).into_owned())
    }

    fn is_over(&self) -> bool {
        self.at >= self.bytes.len()
    }
}

impl<'a> Archive<'a> {
    /// Opens a file.
    ///
    /// # Errors
    /// A sentence on what is wrong with it.
    pub fn open(bytes: &'a [u8]) -> Result<Self, String> {
        let (file, root) = Ogawa::open(bytes)?;
        let [_, _, top, _, samplings, metadata, ..] = root[..] else {
            return Err(format!("has {} parts; an archive has 6", root.len()));
        };
        let samplings = read_samplings(file.data(samplings)?)?;
        let mut list = vec![String::new()];
        let mut of = Bytes { bytes: file.data(metadata)?, at: 0 };
        while !of.is_over() {
            let length = of.whole(1)?;
            list.push(of.text(length)?);
        }
        Ok(Self { file, samplings, metadata: list, top })
    }

    /// The object that holds all.
    pub fn top(&self) -> Object {
        Object { name: String::new(), metadata: String::new(), place: self.top }
    }

    /// The properties and the children of an object.
    ///
    /// # Errors
    /// A sentence on what is wrong with the file.
    pub fn open_object(&self, object: &Object) -> Result<(Vec<Property>, Vec<Object>), String> {
        let parts = self.file.group(object.place)?;
        let Some((&headers, places)) = parts.split_last() else { return Ok((Vec::new(), Vec::new())) };
        let Some((&properties, places)) = places.split_first() else { return Ok((Vec::new(), Vec::new())) };
        let data = self.file.data(headers)?;
        let mut headers = Bytes { bytes: &data[..data.len().saturating_sub(OBJECT_DIGESTS)], at: 0 };
        let mut objects = Vec::new();
        for &place in places {
            let length = headers.whole(4)?;
            let name = headers.text(length)?;
            let index = headers.whole(1)?;
            let metadata = self.metadata_of(&mut headers, index, 4)?;
            objects.push(Object { name, metadata, place });
        }
        Ok((self.properties(properties)?, objects))
    }

    fn metadata_of(&self, headers: &mut Bytes, index: usize, size: usize) -> Result<String, String> {
        if index == INLINE_METADATA {
            let length = headers.whole(size)?;
            return headers.text(length);
        }
        self.metadata
            .get(index)
            .cloned()
            .ok_or_else(|| format!("names metadata {index}, which it does not have"))
    }

    /// The properties in a compound one.
    ///
    /// # Errors
    /// A sentence on what is wrong with the file.
    pub fn within(&self, property: &Property) -> Result<Vec<Property>, String> {
        match property.kind {
            PropertyKind::Compound => self.properties(property.place),
            _ => Err(format!("has values in {} in place of properties", property.name)),
        }
    }

    fn properties(&self, place: Child) -> Result<Vec<Property>, String> {
        let parts = self.file.group(place)?;
        let Some((&headers, places)) = parts.split_last() else { return Ok(Vec::new()) };
        let mut headers = Bytes { bytes: self.file.data(headers)?, at: 0 };
        places.iter().map(|&place| self.property(&mut headers, place)).collect()
    }

    /// Reads a header. Its first 32 bits tell: type (2 bits), size of the numbers
    /// that follow (2), type of the values (4), whether a time sampling, the
    /// samples that changed, and nothing but the same values follow (4), extent
    /// (8), metadata (8).
    fn property(&self, headers: &mut Bytes, place: Child) -> Result<Property, String> {
        let bits = headers.whole(4)?;
        let kind = match bits & 3 {
            0 => PropertyKind::Compound,
            1 => PropertyKind::Scalar,
            _ => PropertyKind::Array,
        };
        let size = [1, 2, 4, 4][bits >> 2 & 3];
        let pod = (bits >> 4 & 15) as u8;
        let (mut samples, mut changed, mut sampling) = (0, [0, 0], 0);
        if kind != PropertyKind::Compound {
            samples = headers.whole(size)?;
            changed = if bits & 0x200 != 0 {
                [headers.whole(size)?, headers.whole(size)?]
            } else if bits & 0x800 != 0 {
                [0, 0]
            } else {
                [1, samples.saturating_sub(1)]
            };
            if bits & 0x100 != 0 {
                sampling = headers.whole(size)?;
            }
        }
        let length = headers.whole(size)?;
        let name = headers.text(length)?;
        let metadata = self.metadata_of(headers, bits >> 20 & 0xff, size)?;
        if sampling >= self.samplings.len() {
            return Err(format!("names the time sampling {sampling} in {name}, which it does not have"));
        }
        if changed[0] > changed[1] || changed[1] > samples {
            return Err(format!("has samples in {name} that change from {} to {}", changed[0], changed[1]));
        }
        Ok(Property { name, kind, metadata, pod, samples, changed, sampling, place })
    }

    /// The times at which a property changes, s.
    ///
    /// # Errors
    /// A sentence if there are too many, or they do not rise.
    pub fn times(&self, property: &Property) -> Result<Vec<f64>, String> {
        let last = property.changed[1].min(property.samples.saturating_sub(1));
        if last > MAX_SAMPLES {
            return Err(format!("has {last} samples in {}; at most {MAX_SAMPLES}", property.name));
        }
        let sampling = &self.samplings[property.sampling];
        if property.changed == [0, 0] || property.samples < 2 {
            return Ok(Vec::new());
        }
        let times: Vec<f64> = (0..=last).map(|sample| sampling.at(sample)).collect();
        match times.windows(2).all(|pair| pair[0] < pair[1]) && times.iter().all(|time| time.is_finite()) {
            true => Ok(times),
            false => Err(format!("has times in {} that do not rise", property.name)),
        }
    }

    /// The sample at a time, and the next one with how far the time is toward it, 0–1.
    ///
    /// # Errors
    /// As [`Self::times`].
    pub fn samples_at(
        &self,
        property: &Property,
        time: f64,
    ) -> Result<(usize, Option<(usize, f64)>), String> {
        let times = self.times(property)?;
        let after = times.partition_point(|at| *at <= time + 1e-9);
        if after == 0 || after == times.len() {
            return Ok((after.saturating_sub(1), None));
        }
        let (from, to) = (times[after - 1], times[after]);
        let toward = ((time - from) / (to - from)).clamp(0.0, 1.0);
        Ok((after - 1, (toward > 1e-9).then_some((after, toward))))
    }

    /// The bytes of a sample.
    fn bytes(&self, property: &Property, sample: usize) -> Result<&'a [u8], String> {
        let [first, last] = property.changed;
        // Samples that are as the one before are not stored.
        let stored = match sample {
            _ if property.changed == [0, 0] || sample < first => 0,
            _ => sample.min(last) - first + 1,
        };
        let each = if property.kind == PropertyKind::Array { 2 } else { 1 };
        let parts = self.file.group(property.place)?;
        let part = parts.get(each * stored).copied();
        let part = part.ok_or_else(|| format!("has no sample {sample} of {}", property.name))?;
        let data = self.file.data(part)?;
        Ok(data.get(DIGEST..).unwrap_or_default())
    }

    /// The numbers of a sample.
    ///
    /// # Errors
    /// A sentence on what is wrong with them.
    pub fn numbers(&self, property: &Property, sample: usize) -> Result<Vec<f64>, String> {
        if property.samples == 0 || property.kind == PropertyKind::Compound {
            return Ok(Vec::new());
        }
        let bytes = self.bytes(property, sample)?;
        let size = [1, 1, 1, 2, 2, 4, 4, 8, 8, 2, 4, 8].get(usize::from(property.pod)).copied().unwrap_or(1);
        if bytes.len() / size > MAX_NUMBERS {
            return Err(format!(
                "has {} numbers in {}; at most {MAX_NUMBERS}",
                bytes.len() / size,
                property.name
            ));
        }
        macro_rules! all {
            ($kind:ty, $size:literal, $value:expr) => {
                bytes
                    .chunks_exact($size)
                    .map(|b| $value(<$kind>::from_le_bytes(b.try_into().expect("as many bytes"))))
                    .collect()
            };
        }
        Ok(match property.pod {
            0 | 1 => bytes.iter().map(|byte| f64::from(*byte)).collect(),
            2 => bytes.iter().map(|byte| f64::from(*byte as i8)).collect(),
            3 => all!(u16, 2, f64::from),
            4 => all!(i16, 2, f64::from),
            5 => all!(u32, 4, f64::from),
            6 => all!(i32, 4, f64::from),
            7 => all!(u64, 8, |n| n as f64),
            8 => all!(i64, 8, |n| n as f64),
            9 => all!(half::f16, 2, half::f16::to_f64),
            10 => all!(f32, 4, f64::from),
            11 => all!(f64, 8, |n| n),
            other => return Err(format!("has values of type {other} in {}", property.name)),
        })
    }
}

fn read_samplings(bytes: &[u8]) -> Result<Vec<TimeSampling>, String> {
    let mut of = Bytes { bytes, at: 0 };
    let mut list = Vec::new();
    while !of.is_over() {
        of.whole(4)?;
        let cycle = of.f64()?;
        let count = of.whole(4)?;
        if count == 0 || count > bytes.len() / 8 {
            return Err(format!("has a time sampling of {count} times"));
        }
        let times = (0..count).map(|_| of.f64()).collect::<Result<Vec<_>, _>>()?;
        list.push(TimeSampling { cycle, times });
    }
    Ok(list)
}
