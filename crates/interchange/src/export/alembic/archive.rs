//! Writing of an Ogawa archive: objects with properties, each value once.

use sha2::{Digest, Sha256};
use std::collections::HashMap;

/// A child that is data, not a group.
const DATA: u64 = 1 << 63;
/// Version of the format's library whose layout this is: 1.8.
const LIBRARY_VERSION: u32 = 10_800;
/// Metadata that stands with its header.
const INLINE_METADATA: u32 = 0xff;

/// Type of the values of a property, by the format's number of it.
#[derive(Clone, Copy)]
pub(super) enum Pod {
    Bool = 0,
    Uint8 = 1,
    Uint32 = 5,
    Int32 = 6,
    Uint64 = 7,
    Float32 = 10,
    Float64 = 11,
}

/// A property that was written: its header and where its samples are.
pub(super) struct Written {
    header: Vec<u8>,
    place: u64,
}

/// An object that was written.
pub(super) struct Object {
    pub name: String,
    pub metadata: &'static str,
    pub place: u64,
}

/// The type of a property's values and its words.
#[derive(Clone, Copy)]
pub(super) struct PropertyType<'a> {
    pub name: &'a str,
    pub pod: Pod,
    /// Numbers of one value.
    pub extent: u32,
    /// Whether a sample has any number of values.
    pub is_array: bool,
    pub metadata: &'a str,
}

/// An archive that is being written.
pub(super) struct ArchiveWriter {
    out: Vec<u8>,
    known: HashMap<[u8; 16], u64>,
    /// Number of samples of the frames.
    frames: u32,
    /// First frame and the time between two, s.
    times: [f64; 2],
}

fn digest(bytes: &[u8]) -> [u8; 16] {
    Sha256::digest(bytes)[..16].try_into().expect("16 bytes")
}

impl ArchiveWriter {
    /// An archive whose samples are `frames` from `start`, s, on, `step`, s, apart.
    pub fn new(frames: u32, start: f64, step: f64) -> Self {
        // The name, a mark that the file is whole, and the version; the place of the root.
        let mut out = b"Ogawa\xff\x00\x01".to_vec();
        out.extend([0; 8]);
        Self { out, known: HashMap::new(), frames, times: [start, step] }
    }

    fn data(&mut self, bytes: &[u8]) -> u64 {
        if bytes.is_empty() {
            return DATA;
        }
        let place = self.out.len() as u64;
        self.out.extend((bytes.len() as u64).to_le_bytes());
        self.out.extend(bytes);
        place | DATA
    }

    fn group(&mut self, children: &[u64]) -> u64 {
        if children.is_empty() {
            return 0;
        }
        let place = self.out.len() as u64;
        self.out.extend((children.len() as u64).to_le_bytes());
        children.iter().for_each(|child| self.out.extend(child.to_le_bytes()));
        place
    }

    /// A sample: its digest and its bytes. One that is there is used again.
    fn sample(&mut self, bytes: &[u8], pod: Pod) -> u64 {
        if bytes.is_empty() {
            return DATA;
        }
        // Values of other types are told apart.
        let key = digest(&[bytes, &[pod as u8]].concat());
        if let Some(place) = self.known.get(&key) {
            return *place;
        }
        let place = self.data(&[&key[..], bytes].concat());
        self.known.insert(key, place);
        place
    }

    /// Writes a property with the bytes of its samples: one, or one a frame.
    pub fn property(&mut self, of: PropertyType, samples: &[Vec<u8>]) -> Written {
        let same = samples.windows(2).all(|pair| pair[0] == pair[1]);
        let stored = if same { &samples[..samples.len().min(1)] } else { samples };
        let mut places = Vec::new();
        for bytes in stored {
            places.push(self.sample(bytes, of.pod));
            if of.is_array {
                // Arrays of one dimension do not store their length.
                places.push(DATA);
            }
        }
        let place = self.group(&places);
        // Type, numbers of four bytes, type of the values, extent, metadata here.
        let mut bits = if of.is_array { 2 } else { 1 } | 2 << 2 | (of.pod as u32) << 4;
        bits |= of.extent << 12 | INLINE_METADATA << 20 | 0x400;
        bits |= if same { 0x800 } else { 0 };
        let timed = samples.len() > 1;
        bits |= if timed { 0x100 } else { 0 };
        let mut header = bits.to_le_bytes().to_vec();
        header.extend((samples.len() as u32).to_le_bytes());
        if timed {
            header.extend(1u32.to_le_bytes());
        }
        words(&mut header, of.name, of.metadata);
        Written { header, place }
    }

    /// Writes a property that holds others.
    pub fn compound(&mut self, name: &str, metadata: &str, within: &[Written]) -> Written {
        let mut header = (2 << 2 | INLINE_METADATA << 20).to_le_bytes().to_vec();
        words(&mut header, name, metadata);
        Written { header, place: self.properties(within) }
    }

    fn properties(&mut self, list: &[Written]) -> u64 {
        let mut children: Vec<u64> = list.iter().map(|property| property.place).collect();
        if list.is_empty() {
            return 0;
        }
        let headers: Vec<u8> = list.iter().flat_map(|property| property.header.iter().copied()).collect();
        children.push(self.data(&headers));
        self.group(&children)
    }

    /// Writes an object with its properties and the objects below it.
    pub fn object(&mut self, properties: &[Written], children: &[Object]) -> u64 {
        let mut headers = Vec::new();
        for child in children {
            headers.extend((child.name.len() as u32).to_le_bytes());
            headers.extend(child.name.as_bytes());
            headers.push(INLINE_METADATA as u8);
            headers.extend((child.metadata.len() as u32).to_le_bytes());
            headers.extend(child.metadata.as_bytes());
        }
        let mut places = vec![self.properties(properties)];
        places.extend(children.iter().map(|child| child.place));
        // Digests of the properties and of the children, by which readers compare objects.
        let of_properties: Vec<u8> =
            properties.iter().flat_map(|of| [&of.header[..], &of.place.to_le_bytes()].concat()).collect();
        let of_children: Vec<u8> = places[1..].iter().flat_map(|place| place.to_le_bytes()).collect();
        headers.extend(digest(&of_properties));
        headers.extend(digest(&of_children));
        places.push(self.data(&headers));
        self.group(&places)
    }

    /// The file, with the objects at its top.
    pub fn finish(mut self, top: &[Object]) -> Vec<u8> {
        let top = self.object(&[], top);
        let version = self.data(&0u32.to_le_bytes());
        let library = self.data(&LIBRARY_VERSION.to_le_bytes());
        let metadata = self.data(b"_ai_Application=Bright Ripple");
        // The first sampling is that of one sample a second, for values that stay.
        let mut samplings = Vec::new();
        let [start, step] = self.times;
        for (count, cycle, first) in [(1, 1.0, 0.0), (self.frames, step, start)] {
            samplings.extend(u32::to_le_bytes(count));
            samplings.extend(f64::to_le_bytes(cycle));
            samplings.extend(1u32.to_le_bytes());
            samplings.extend(f64::to_le_bytes(first));
        }
        let samplings = self.data(&samplings);
        let root = self.group(&[version, library, top, metadata, samplings, DATA]);
        self.out[8..16].copy_from_slice(&root.to_le_bytes());
        self.out
    }
}

fn words(header: &mut Vec<u8>, name: &str, metadata: &str) {
    for text in [name, metadata] {
        header.extend((text.len() as u32).to_le_bytes());
        header.extend(text.as_bytes());
    }
}
