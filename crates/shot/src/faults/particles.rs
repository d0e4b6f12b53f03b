//! Faults of particles.

use super::*;

/// A source that cannot be filled, in words.
fn not_filled(source: &Source) -> Option<&'static str> {
    match source {
        Source::Shape { .. } | Source::Solid { .. } | Source::Pool {} => None,
        Source::Point {} => Some("a point"),
        Source::Grid { .. } => Some("a grid"),
        Source::Curve { .. } | Source::Seam { .. } => Some("a curve"),
        Source::Particles { .. } | Source::Liquid { .. } => Some("particles"),
        Source::Broken { .. } | Source::Impacts { .. } => Some("an event"),
    }
}

impl Shot {
    pub(super) fn particle_faults(&self, f: &mut Faults, path: &str, particles: &Particles) {
        if let Source::Shape { shape: Shape::Mesh { asset, .. }, .. } = &particles.source {
            self.mesh_asset(f, &format!("{path}.source.shape.shape.mesh.asset"), asset);
        }
        if let Some(liquid) = &particles.liquid {
            let scaled = format!("{path}.liquid.scaled");
            let (count, most) = (liquid.scaled.len(), super::maps::MAX_SCALED);
            super::maps::bounded(f, scaled, count, most, "factors");
        }
        if let Some(map) = &particles.emission.map {
            let fills = particles.emission.schedule == EmissionSchedule::Fill {};
            self.map_faults(f, &format!("{path}.emission.map"), &particles.source, fills, map);
        }
        let Emission { from_frame, to_frame, .. } = &particles.emission;
        if let (Some(from), Some(to)) = (from_frame, to_frame)
            && to < from
        {
            f.say(format!("{path}.emission.to_frame"), format!("{to} comes before from_frame, {from}"));
        }
        self.look_faults(f, &format!("{path}.look"), &particles.look);
        if particles.events.len() > MAX_EVENTS {
            let message = format!("{} entries; at most {MAX_EVENTS}", particles.events.len());
            f.say(format!("{path}.events"), message);
        }
        for (list, at) in [
            ("colours", particles.appearance.colours.iter().map(|stop| stop.at).collect::<Vec<_>>()),
            ("sizes", particles.appearance.sizes.iter().map(|stop| stop.at).collect()),
        ] {
            if at.len() > MAX_STOPS {
                f.say(
                    format!("{path}.appearance.{list}"),
                    format!("{} stops; at most {MAX_STOPS}", at.len()),
                );
            } else if let Some(i) = at.windows(2).position(|pair| pair[1] < pair[0]) {
                f.say(format!("{path}.appearance.{list}[{}].at", i + 1), "comes before the stop above it");
            }
        }
        if let Form::Instance { solids, .. } = &particles.appearance.form
            && !(1..=16).contains(&solids.len())
        {
            f.say(
                format!("{path}.appearance.form.instance.solids"),
                format!("{} solids; from 1 to 16", solids.len()),
            );
        }
        let number = match particles.emission.schedule {
            EmissionSchedule::Total { count } | EmissionSchedule::Burst { count } => count as usize,
            _ => 0,
        };
        if let (Some(_), true) = (&particles.carried, particles.liquid.is_some()) {
            f.say(format!("{path}.carried"), "is of a liquid itself; only grains can be carried");
        }
        if particles.emission.schedule.is_of_liquid() && particles.liquid.is_none() {
            f.say(
                format!("{path}.emission.schedule"),
                "needs a liquid; set a number or a rate, or make it a liquid",
            );
        }
        let schedule = particles.emission.schedule;
        let of_event =
            matches!(particles.source, Source::Seam { .. } | Source::Broken { .. } | Source::Impacts { .. });
        let from_area = matches!(schedule, EmissionSchedule::Flow { .. } | EmissionSchedule::Jet {});
        let why = match (schedule, not_filled(&particles.source)) {
            (EmissionSchedule::Fill {}, Some(source)) => {
                Some(format!("fills a shape, a solid or a pool, and the source is {source}"))
            }
            (EmissionSchedule::Fill {}, None) => None,
            (EmissionSchedule::Released {}, _) if !matches!(particles.source, Source::Liquid { .. }) => {
                Some("is of particles that a liquid releases; choose a liquid as the source".to_owned())
            }
            (EmissionSchedule::Released {}, _) => None,
            _ if matches!(particles.source, Source::Liquid { .. }) => Some(
                "is of a liquid, whose own numbers say how many it releases; set it to released".to_owned(),
            ),
            _ if matches!(particles.source, Source::Pool {}) => {
                Some("is of a pool, which is filled at once".to_owned())
            }
            (_, Some(source)) if from_area && of_event => {
                Some(format!("comes from a shape, a solid or a point, and the source is {source}"))
            }
            _ => None,
        };
        if let Some(why) = why {
            f.say(format!("{path}.emission.schedule"), why);
        }
        if number > MAX_PARTICLES {
            let message = format!("{number} particles; at most {MAX_PARTICLES}");
            f.say(format!("{path}.emission.schedule"), message);
        }
    }

    /// A map needs UVs, or a mesh whose vertices can have colours.
    fn map_faults(&self, f: &mut Faults, path: &str, from: &Source, fills: bool, map: &EmissionMap) {
        let domain = match from {
            Source::Shape { domain, .. } | Source::Solid { domain, .. } | Source::Broken { domain, .. } => {
                Some(*domain)
            }
            Source::Grid { .. } if matches!(map.source, MapSource::Image { .. }) => {
                Some(EmissionDomain::Vertices)
            }
            _ => None,
        };
        match domain {
            None => f.say(path, "needs particles that are born on a shape, a solid or, of an image, a grid"),
            Some(EmissionDomain::Volume) if !fills => {
                f.say(path, "has no weight inside a body; let them be born on its surface")
            }
            Some(_) => {}
        }
        let on = match from {
            Source::Solid { solid, .. } => self.element(*solid).and_then(Element::as_solid),
            _ => None,
        };
        match &map.source {
            MapSource::Image { asset } => {
                self.asset(f, &format!("{path}.source.image.asset"), asset, AssetKind::Image);
            }
            MapSource::Map { map } => match on {
                Some(solid) => super::maps::map_named(f, format!("{path}.source.map.map"), solid, map),
                None => f.say(format!("{path}.source.map"), "needs particles that are born on a solid"),
            },
            MapSource::Quantity { .. } if on.is_none() => {
                f.say(format!("{path}.source.quantity"), "needs particles that are born on a solid");
            }
            MapSource::Quantity { .. } | MapSource::Vertices {} => {}
        }
    }
}
