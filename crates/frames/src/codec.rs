//! A frame as bytes: a head, a table of blocks, the blocks. See [`crate::table`].

use crate::error::DecodeError;
use crate::meshes::{self, MeshState};
use crate::table::{Block, Codec, Part, Table, u32_at};
use crate::{Bodies, Frame, Measured, Particles, Parts, bodies, impacts, particles, topologies};
use geometry::Topology;
use shot::{Id, fingerprint::Fingerprint};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Most bodies or particles in one block, bounded before anything is allocated.
const MAX_COUNT: u32 = 1 << 25;

/// The first bytes of a frame file.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Header {
    /// Frame of the shot.
    pub number: u32,
    /// Revision of the shot it was computed from.
    pub revision: u32,
    /// Seconds since the first frame.
    pub time_s: f64,
    /// Fingerprint of the inputs.
    pub fingerprint: Fingerprint,
}

/// The frame as bytes, with the topologies of its meshes.
pub fn encode(frame: &Frame) -> Vec<u8> {
    encode_with(frame, true)
}

/// The frame as bytes; without the topologies of its meshes if they are kept elsewhere.
pub(crate) fn encode_with(frame: &Frame, with_topologies: bool) -> Vec<u8> {
    let header = Header {
        number: frame.number,
        revision: frame.revision,
        time_s: frame.time_s,
        fingerprint: frame.fingerprint,
    };
    let mut blocks = Vec::new();
    for (id, bodies) in &frame.bodies {
        let codec = if bodies.scales.is_empty() { Codec::Bodies } else { Codec::ScaledBodies };
        blocks.push((Block::new(*id, Part::Bodies, codec, bodies.len()), bodies::encode(bodies)));
        if !bodies.impacts.is_empty() {
            let block = Block::new(*id, Part::Bodies, Codec::Impacts, bodies.impacts.len());
            blocks.push((block, impacts::encode(&bodies.impacts)));
        }
    }
    for (id, particles) in &frame.particles {
        let block = Block::new(*id, Part::Points, Codec::Particles, particles.len());
        blocks.push((block, particles::encode(particles)));
    }
    for (id, mesh) in &frame.meshes {
        if with_topologies {
            let block = Block::new(*id, Part::Mesh, Codec::Topology, mesh.topology.triangles().len());
            blocks.push((block, topologies::encode(&mesh.topology)));
        }
        let block = Block::new(*id, Part::Mesh, Codec::Mesh, mesh.positions.len());
        blocks.push((block, meshes::encode(mesh)));
    }
    let measured = serde_json::to_vec(&frame.measured).expect("measures serialise");
    Table::write(&header, &measured, blocks)
}

/// Measurements of a frame, from its head.
pub(crate) fn measured(table: &Table) -> Result<Measured, DecodeError> {
    serde_json::from_slice(&table.measured)
        .map_err(|_| DecodeError::NotAFrame("its measures are not readable"))
}

/// The frame from its bytes.
///
/// # Errors
/// [`DecodeError`] if the bytes are not what [`encode`] gave.
pub fn decode(bytes: &[u8]) -> Result<Frame, DecodeError> {
    let mut frame = Frame::default();
    decode_into(bytes, &mut frame)?;
    Ok(frame)
}

/// The frame from its bytes, in the memory of another: to read one after the
/// other takes half the time, which goes into pages of memory else.
///
/// # Errors
/// [`DecodeError`] as of [`decode`]; what is in the frame is then of no use.
pub fn decode_into(bytes: &[u8], frame: &mut Frame) -> Result<(), DecodeError> {
    let table = Table::read(&bytes)?;
    // What comes from outside may name more than is there to be unpacked.
    if table.blocks.iter().map(|block| u64::from(block.count)).sum::<u64>() > u64::from(MAX_COUNT) {
        return Err(DecodeError::NotAFrame("it holds too many bodies, points and vertices"));
    }
    let block = |block: &Block| table.block(&bytes, block);
    let mut spare = Spare::of(frame);
    unpack(&table, &Parts::All, frame, &mut spare, block, |_| Err(UNKNOWN_TOPOLOGY))?;
    frame.set_header(&table.header);
    Ok(())
}

/// The memory of a frame that was read before, to be used again.
pub(crate) struct Spare {
    particles: BTreeMap<Id, Particles>,
    meshes: BTreeMap<Id, MeshState>,
    /// Bytes that topologies in the frame's files may still unpack to.
    topologies: usize,
}

impl Spare {
    /// Takes the memory of a frame, in which nothing is left.
    pub fn of(frame: &mut Frame) -> Self {
        let Frame { particles, meshes, .. } = std::mem::take(frame);
        Self { particles, meshes, topologies: topologies::MAX_BYTES }
    }
}

/// A frame without the topology of one of its meshes.
pub(crate) const UNKNOWN_TOPOLOGY: DecodeError =
    DecodeError::NotAFrame("the topology of a mesh is missing or damaged");

/// Adds the blocks of a file to a frame; each is read when it comes to it.
/// `topology` finds those that are not in the file.
pub(crate) fn unpack<B: AsRef<[u8]>, E: From<DecodeError>>(
    table: &Table,
    parts: &Parts,
    frame: &mut Frame,
    spare: &mut Spare,
    read: impl Fn(&Block) -> Result<B, E>,
    topology: impl Fn(Fingerprint) -> Result<Arc<Topology>, E>,
) -> Result<(), E> {
    let mut own: Option<Arc<Topology>> = None;
    frame.measured.add(measured(table)?);
    for block in table.blocks.iter().filter(|block| parts.has(block.element)) {
        if block.count > MAX_COUNT {
            return Err(DecodeError::NotAFrame("it holds a block of too many").into());
        }
        let (bytes, count) = (read(block)?, block.count as usize);
        match block.codec {
            Codec::Bodies | Codec::ScaledBodies => {
                let scaled = block.codec == Codec::ScaledBodies;
                let bodies: Bodies = bodies::decode(bytes.as_ref(), count, scaled)?;
                frame.bodies.insert(block.element, bodies);
            }
            Codec::Impacts => {
                let bodies = frame.bodies.get_mut(&block.element);
                let bodies = bodies.ok_or(DecodeError::NotAFrame("it holds impacts without bodies"))?;
                bodies.impacts = impacts::decode(bytes.as_ref(), count)?;
            }
            Codec::Particles => {
                let mut room = spare.particles.remove(&block.element).unwrap_or_default();
                particles::decode(bytes.as_ref(), count, &mut room)?;
                frame.particles.insert(block.element, room);
            }
            Codec::Topology => {
                let left = spare.topologies.checked_sub(topologies::unpacked(bytes.as_ref())?);
                spare.topologies =
                    left.ok_or(DecodeError::NotAFrame("its topologies are too large together"))?;
                own = Some(Arc::new(topologies::decode(bytes.as_ref())?));
            }
            Codec::Mesh => {
                let hash = meshes::hash_of(bytes.as_ref())?;
                let room = spare.meshes.remove(&block.element);
                let (positions, velocities, known) = match room {
                    Some(room) => (room.positions, room.velocities, Some(room.topology)),
                    None => (Vec::new(), Vec::new(), None),
                };
                let known = own.take().into_iter().chain(known).find(|known| known.hash() == hash);
                let topology = match known {
                    Some(known) => topologies::shared(hash, || Ok::<_, E>(known))?,
                    None => topology(hash)?,
                };
                if topology.vertices() != count {
                    return Err(DecodeError::NotAFrame("a mesh has another number of vertices").into());
                }
                let mut mesh = MeshState { topology, positions, velocities, attributes: Vec::new() };
                meshes::decode(bytes.as_ref(), &mut mesh)?;
                frame.meshes.insert(block.element, mesh);
            }
        }
    }
    Ok(())
}

/// A frame file of the earlier layout (`BRFRAME1`) in the present one; its
/// blocks are taken over as they are. None if the bytes are no such file.
pub(crate) fn from_earlier(bytes: &[u8]) -> Option<Vec<u8>> {
    let (body, sum) = bytes.split_last_chunk::<4>()?;
    if !body.starts_with(b"BRFRAME1") || body.len() < 48 || crc32fast::hash(body) != u32::from_le_bytes(*sum)
    {
        return None;
    }
    let (count, measured) = (u32_at(body, 40) as usize, u32_at(body, 44) as usize);
    let table = body.get(48..48 + count.checked_mul(20)?)?;
    let measures = body.get(48 + table.len()..)?.get(..measured)?;
    let block = |entry: &[u8]| {
        let (part, codec) = match u32_at(entry, 4) {
            1 => (Part::Bodies, Codec::Bodies),
            2 => (Part::Points, Codec::Particles),
            3 => (Part::Bodies, Codec::ScaledBodies),
            _ => return None,
        };
        let bytes = body.get(u32_at(entry, 12) as usize..)?.get(..u32_at(entry, 16) as usize)?;
        Some((Block::new(Id(u32_at(entry, 0)), part, codec, u32_at(entry, 8) as usize), bytes.to_vec()))
    };
    let header = Header {
        number: u32_at(body, 8),
        revision: u32_at(body, 12),
        time_s: f64::from_le_bytes(body[16..24].try_into().ok()?),
        fingerprint: Fingerprint(body[24..40].try_into().ok()?),
    };
    let blocks = table.chunks_exact(20).map(block).collect::<Option<Vec<_>>>()?;
    Some(Table::write(&header, measures, blocks))
}

/// A file as it was written before: head, table, measures, blocks, one checksum.
#[cfg(test)]
pub(crate) fn earlier(frame: &Frame) -> Vec<u8> {
    let blocks: Vec<(u32, u32, Vec<u8>)> = (frame.bodies.iter())
        .map(|(id, bodies)| (id.0, bodies.len() as u32, bodies::encode(bodies)))
        .collect();
    let measured = serde_json::to_vec(&frame.measured).unwrap();
    let mut old = b"BRFRAME1".to_vec();
    old.extend(frame.number.to_le_bytes());
    old.extend(frame.revision.to_le_bytes());
    old.extend(frame.time_s.to_le_bytes());
    old.extend(frame.fingerprint.0);
    old.extend((blocks.len() as u32).to_le_bytes());
    old.extend((measured.len() as u32).to_le_bytes());
    let mut offset = 48 + 20 * blocks.len() + measured.len();
    for (id, count, block) in &blocks {
        for value in [*id, 1, *count, offset as u32, block.len() as u32] {
            old.extend(value.to_le_bytes());
        }
        offset += block.len();
    }
    old.extend(&measured);
    blocks.iter().for_each(|(.., block)| old.extend(block));
    old.extend(crc32fast::hash(&old).to_le_bytes());
    old
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::quantise::ORIENTATION_ERROR_RAD;
    use crate::quantise::{ANGULAR_VELOCITY_ERROR, POSITION_ERROR_M, VELOCITY_ERROR};
    use glam::{Quat, Vec3};
    use proptest::prelude::*;

    fn one(position: Vec3, orientation: Quat, velocity: Vec3, angular_velocity: Vec3) -> Frame {
        let mut frame = Frame::new(7, 0.25);
        let mut bodies = Bodies::default();
        bodies.push(position, orientation, velocity, angular_velocity);
        bodies.push(Vec3::ZERO, Quat::IDENTITY, Vec3::ZERO, Vec3::ZERO);
        frame.bodies.insert(Id(3), bodies);
        frame
    }

    fn vector(range: f32) -> impl Strategy<Value = Vec3> {
        [-range..range, -range..range, -range..range].prop_map(Vec3::from)
    }

    proptest! {
        #[test]
        fn what_is_read_differs_by_no_more_than_the_stated_errors(
            position in vector(200.0), axis in vector(1.0), angle in -7f32..7.0, velocity in vector(50.0), angular_velocity in vector(100.0)
        ) {
            let orientation = Quat::from_axis_angle(axis.try_normalize().unwrap_or(Vec3::X), angle);
            let back = decode(&encode(&one(position, orientation, velocity, angular_velocity))).unwrap();
            let bodies = &back.bodies[&Id(3)];
            // f32 itself resolves 200 m to 1.5e-5 m.
            prop_assert!((bodies.positions[0] - position).abs().max_element() <= POSITION_ERROR_M + 2e-5);
            prop_assert!(2.0 * (bodies.orientations[0] * orientation.inverse()).xyz().length().asin() <= ORIENTATION_ERROR_RAD);
            prop_assert!((bodies.velocities[0] - velocity).abs().max_element() <= VELOCITY_ERROR * 1.01);
            prop_assert!((bodies.angular_velocities[0] - angular_velocity).abs().max_element() <= ANGULAR_VELOCITY_ERROR * 1.01);
        }

        #[test]
        fn a_changed_byte_is_noticed(at in 0usize..200, change in 1u8..) {
            let mut bytes = encode(&one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y));
            let at = at % bytes.len();
            bytes[at] ^= change;
            prop_assert!(decode(&bytes).is_err());
        }

        #[test]
        fn a_shortened_file_is_noticed(keep in 0usize..400) {
            let bytes = encode(&one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y));
            prop_assume!(keep < bytes.len());
            prop_assert!(decode(&bytes[..keep]).is_err());
        }
    }

    #[test]
    fn one_element_is_read_without_the_blocks_of_others() {
        let mut frame = one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y);
        frame.bodies.insert(Id(4), frame.bodies[&Id(3)].clone());
        let bytes = encode(&frame);
        let table = Table::read(&&bytes[..]).unwrap();
        let mut part = Frame::default();
        let read = |block: &Block| {
            assert_eq!(block.element, Id(4));
            table.block(&&bytes[..], block)
        };
        let mut spare = Spare::of(&mut part);
        unpack(&table, &Parts::Element(Id(4)), &mut part, &mut spare, read, |_| Err(UNKNOWN_TOPOLOGY))
            .unwrap();
        assert_eq!(part.bodies.keys().collect::<Vec<_>>(), [&Id(4)]);
    }

    /// What comes from outside may say that it unpacks to more than there is memory.
    #[test]
    fn many_topologies_that_unpack_to_much_are_refused_before_they_are() {
        let mut claim = topologies::encode(&Topology::of(&geometry::primitive::plane(1.0, 1.0)));
        claim[16..20].copy_from_slice(&(600u32 << 20).to_le_bytes());
        let head = claim.len() - 4;
        let sum = crc32fast::hash(&claim[..head]).to_le_bytes();
        claim[head..].copy_from_slice(&sum);
        assert_eq!(topologies::unpacked(&claim), Ok(600 << 20));
        let header = Header { number: 1, revision: 0, time_s: 0.0, fingerprint: Fingerprint::default() };
        let block = |id| (Block::new(Id(id), Part::Mesh, Codec::Topology, 2), claim.clone());
        let measured = serde_json::to_vec(&Measured::default()).unwrap();
        // So much was left by those before.
        let table = Table::read(&&Table::write(&header, &measured, vec![block(1), block(2)])[..]).unwrap();
        let mut frame = Frame::default();
        let mut spare = Spare::of(&mut frame);
        spare.topologies = 500 << 20;
        let read = |_: &Block| Ok::<_, DecodeError>(claim.clone());
        let error = unpack(&table, &Parts::All, &mut frame, &mut spare, read, |_| Err(UNKNOWN_TOPOLOGY));
        assert_eq!(error, Err(DecodeError::NotAFrame("its topologies are too large together")));
    }

    #[test]
    fn a_file_of_the_earlier_layout_loses_nothing() {
        let frame = Frame {
            revision: 12,
            fingerprint: Fingerprint([9; 16]),
            ..one(Vec3::ONE, Quat::IDENTITY, Vec3::X, Vec3::Y)
        };
        let mut old = earlier(&frame);
        assert_eq!(from_earlier(&old).unwrap(), encode(&frame));
        old[70] ^= 1;
        assert_eq!(from_earlier(&old), None);
    }
}
