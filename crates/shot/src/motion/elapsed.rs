//! What adds up over time: a pattern drifts by the speed that it has, though
//! that may be keyed, so that a change of speed never throws it about.

use super::Sampler;
use crate::{
    Element, ElementKind, Id,
    force::ForceKind,
    particles::EmissionSchedule,
    region::Volume,
    world::{Pose, World},
};
use glam::{DVec3, Vec3};
use std::collections::HashMap;

/// What has added up in a force or region since the first frame.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Elapsed {
    /// How far its pattern has drifted, m.
    pub drift_m: DVec3,
    /// How often its eddies have changed.
    pub changes: f64,
    /// How many gusts have gone by.
    pub gusts: f64,
    /// How many particles a rate has given; of a flow m³, of a jet the way that it has gone, m.
    pub emitted: f64,
}

impl Elapsed {
    /// What an element as it is adds up a second; `axis` is its −y axis.
    pub fn rate(element: &Element, axis: Vec3) -> Self {
        let often = |time: f32| if time > 0.0 { 1.0 / f64::from(time) } else { 0.0 };
        match &element.kind {
            ElementKind::Force(force) => match &force.kind {
                // Eddies are carried by the mean wind (G. I. Taylor, *The spectrum of turbulence*, 1938).
                ForceKind::Wind(wind) => Self {
                    drift_m: axis.as_dvec3() * f64::from(wind.speed_m_s),
                    changes: f64::from(wind.speed_m_s.abs() * wind.eddy) * often(wind.eddy_m),
                    gusts: often(wind.gust_s),
                    emitted: 0.0,
                },
                ForceKind::Turbulence(turbulence) => Self {
                    drift_m: turbulence.drift_m_s.as_dvec3(),
                    changes: often(turbulence.change_s),
                    ..Self::default()
                },
                _ => Self::default(),
            },
            ElementKind::Region(region) => match region.volume {
                Volume::Noise { drift_m_s, .. } => Self { drift_m: drift_m_s.as_dvec3(), ..Self::default() },
                _ => Self::default(),
            },
            ElementKind::Particles(particles) => match particles.emission.schedule {
                EmissionSchedule::Rate { per_s: rate } | EmissionSchedule::Flow { m3_s: rate } => {
                    Self { emitted: f64::from(rate), ..Self::default() }
                }
                EmissionSchedule::Jet {} => {
                    Self { emitted: f64::from(particles.start.speed_m_s.max(0.0)), ..Self::default() }
                }
                _ => Self::default(),
            },
            _ => Self::default(),
        }
    }

    /// All of it as numbers.
    pub(crate) fn numbers(self) -> [f64; 6] {
        let Self { drift_m, changes, gusts, emitted } = self;
        [drift_m.x, drift_m.y, drift_m.z, changes, gusts, emitted]
    }

    pub(super) fn minus(self, other: Self) -> Self {
        self.plus(other, -1.0)
    }

    fn plus(self, rate: Self, seconds: f64) -> Self {
        Self {
            drift_m: self.drift_m + rate.drift_m * seconds,
            changes: self.changes + rate.changes * seconds,
            gusts: self.gusts + rate.gusts * seconds,
            emitted: self.emitted + rate.emitted * seconds,
        }
    }
}

/// By the world's seconds at each frame of the shot, what has added up.
pub(super) type Sums = HashMap<Id, Vec<(f64, Elapsed)>>;

/// Samples between two frames.
const PARTS: u32 = 4;

impl Sampler {
    /// What has added up in an element when the world's clock is at `seconds`;
    /// `element` and its −y axis are as they are then.
    pub fn elapsed(&self, element: &Element, axis: Vec3, seconds: f64) -> Elapsed {
        let rate = Elapsed::rate(element, axis);
        let Some(sums) = self.sums.get_or_init(|| self.add_up()).get(&element.id) else {
            return Elapsed::default().plus(rate, seconds);
        };
        let after = sums.partition_point(|(at, _)| *at <= seconds);
        let (start, from) = sums[after.max(1) - 1];
        match sums.get(after) {
            Some((end, to)) if end > &start => {
                let fraction = (seconds - start) / (end - start);
                let mean = Elapsed {
                    drift_m: to.drift_m - from.drift_m,
                    changes: to.changes - from.changes,
                    gusts: to.gusts - from.gusts,
                    emitted: to.emitted - from.emitted,
                };
                from.plus(mean, fraction)
            }
            _ => from.plus(rate, seconds - start),
        }
    }

    /// Adds up what changes with time.
    fn add_up(&self) -> Sums {
        let base = self.base();
        let adds = |element: &&Element| {
            let orientations = element.attached.is_some() || element.aim.is_some();
            (self.moves(element.id) || orientations)
                && Elapsed::rate(element, Vec3::NEG_Y) != Elapsed::default()
                || self.moves(element.id)
                    && matches!(
                        element.kind,
                        ElementKind::Force(_) | ElementKind::Region(_) | ElementKind::Particles(_)
                    )
        };
        let ids: Vec<Id> = base.elements.iter().filter(adds).map(|element| element.id).collect();
        let mut sums: Sums = ids.iter().map(|&id| (id, Vec::new())).collect();
        if ids.is_empty() {
            return sums;
        }
        let timing = base.timing;
        let first = f64::from(timing.first);
        let seconds = |frame: f64| (self.world_frame(frame) - first) / f64::from(timing.fps);
        let unsolved = |_: Id, _: f64| -> Option<Pose> { None };
        let mut now = base.clone();
        let mut total: HashMap<Id, Elapsed> = HashMap::new();
        for frame in timing.frames() {
            let start = f64::from(frame);
            for id in &ids {
                let so_far = total.get(id).copied().unwrap_or_default();
                sums.get_mut(id).expect("it was put in").push((seconds(start), so_far));
            }
            let step = (seconds(start + 1.0) - seconds(start)) / f64::from(PARTS);
            for part in 0..PARTS {
                let acting = self.acting_frame(start + (f64::from(part) + 0.5) / f64::from(PARTS));
                // A formula that fails here fails again, and is told, when the frame is computed.
                if self.apply(&mut now, acting).is_err() {
                    continue;
                }
                let world = World::new(&now, self, acting, &unsolved);
                for id in &ids {
                    let Some(element) = now.element(*id) else { continue };
                    let axis = world.pose(element).1 * Vec3::NEG_Y;
                    let so_far = total.entry(*id).or_default();
                    *so_far = so_far.plus(Elapsed::rate(element, axis), step);
                }
            }
        }
        sums
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        Shot,
        force::{Force, Wind},
        motion::Channel,
    };

    fn windy(speed: Channel) -> (Shot, Id) {
        let mut shot = Shot::empty("Test");
        shot.timing.fps = 20.0;
        let wind =
            Force::new(ForceKind::Wind(Wind { eddy: 0.5, eddy_m: 2.0, gust_s: 0.5, ..Wind::default() }));
        let mut element = Element::new("Wind", ElementKind::Force(wind));
        element.channels.insert("kind.force.kind.wind.speed_m_s".to_owned(), speed);
        let id = shot.add(element);
        (shot, id)
    }

    fn elapsed(shot: &Shot, id: Id, frame: f64) -> Elapsed {
        let sampler = Sampler::new(shot).unwrap();
        let now = sampler.at(frame).unwrap();
        sampler.elapsed(now.element(id).unwrap(), Vec3::NEG_Y, (frame - 1.0) / 20.0)
    }

    #[test]
    fn a_constant_adds_up_as_a_product() {
        let (mut shot, id) = windy(Channel::keyed([(1.0, 6.0f32), (21.0, 6.0)]));
        let keyed = elapsed(&shot, id, 15.5);
        shot.named_mut("Wind").unwrap().channels.clear();
        let constant = elapsed(&shot, id, 15.5);
        assert!(keyed.drift_m.distance(constant.drift_m) < 1e-9);
        assert!((constant.drift_m.y + 6.0 * 14.5 / 20.0).abs() < 1e-9);
        assert!((keyed.changes - 1.5 * 14.5 / 20.0).abs() < 1e-9 && (keyed.gusts - 1.45).abs() < 1e-9);
    }

    #[test]
    fn a_wind_that_rises_drifts_by_the_mean_of_its_speeds() {
        // From 0 to 20 m/s within a second, then steady.
        let (shot, id) = windy(Channel::keyed([(1.0, 0.0f32), (21.0, 20.0)]));
        let at = |frame| -elapsed(&shot, id, frame).drift_m.y;
        assert!((at(21.0) - 10.0).abs() < 1e-6, "{}", at(21.0));
        assert!((at(41.0) - 30.0).abs() < 1e-6, "{}", at(41.0));
        assert!((at(200.0) - at(199.0) - 1.0).abs() < 1e-6, "beyond the last frame too");
    }

    #[test]
    fn a_world_that_stands_still_adds_nothing_up() {
        let (mut shot, id) = windy(Channel::keyed([(1.0, 20.0f32)]));
        shot.physics.time_scale = 0.0;
        let sampler = Sampler::new(&shot).unwrap();
        let now = sampler.at(1.0).unwrap();
        assert_eq!(sampler.elapsed(now.element(id).unwrap(), Vec3::NEG_Y, 0.0).drift_m, DVec3::ZERO);
    }
}
