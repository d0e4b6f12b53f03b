//! Faults of particles.

use super::*;

/// Says of an id what it is to be.
type Another<'a> = dyn FnMut(&str, Id, &str, &dyn Fn(&Is) -> bool) + 'a;

/// All ids of other elements that particles name.
pub(super) fn references(another: &mut Another, element: &Element, particles: &Particles) {
    let solid = |is: &Is| matches!(is, Is::Solid(_));
    let curve = |is: &Is| matches!(is, Is::Curve(_));
    let region = |is: &Is| matches!(is, Is::Region(_));
    let swarm = |is: &Is| matches!(is, Is::Particles(_));
    match &particles.from {
        Source::Solid { solid: id, .. } => another("is.particles.from.solid.solid", *id, "a solid", &solid),
        Source::Broken { solid: id, .. } => another("is.particles.from.broken.solid", *id, "a solid", &solid),
        Source::Curve { curve: id } => another("is.particles.from.curve.curve", *id, "a curve", &curve),
        Source::Particles { of } => another("is.particles.from.particles.of", *of, "particles", &swarm),
        Source::Impacts { of, .. } => {
            for (i, id) in elements_of(of) {
                another(&format!("is.particles.from.impacts.of[{i}]"), id, "a solid", &solid);
            }
        }
        Source::Point {} | Source::Grid { .. } | Source::Shape { .. } => {}
    }
    if let Some(id) = particles.births.region {
        another("is.particles.births.region", id, "a region", &region);
    }
    if let Some(id) = particles.steer.on {
        another("is.particles.steer.on", id, "a curve or solid", &|is| solid(is) || curve(is));
    }
    for (list, who) in [("only", &particles.meet.only), ("except", &particles.meet.except)] {
        for (i, id) in elements_of(who) {
            another(&format!("is.particles.meet.{list}[{i}]"), id, "a solid", &solid);
        }
    }
    for (i, becoming) in particles.becoming.iter().enumerate() {
        let at = format!("is.particles.becoming[{i}]");
        match &becoming.when {
            When::Touch { of, .. } => {
                for (n, id) in elements_of(of) {
                    another(&format!("{at}.when.touch.of[{n}]"), id, "a solid", &solid);
                }
            }
            When::Region { region: id } => {
                another(&format!("{at}.when.region.region"), *id, "a region", &region);
            }
            _ => {}
        }
        match &becoming.then {
            Then::Become { of } => another(&format!("{at}.then.become.of"), *of, "particles", &swarm),
            Then::Trail { of, .. } => another(&format!("{at}.then.trail.of"), *of, "particles", &swarm),
            Then::Split(split) if split.of.is_some_and(|of| of != element.id) => {
                another(&format!("{at}.then.split.of"), split.of.expect("just seen"), "particles", &swarm);
            }
            Then::Solid { of } => {
                let taken = |is: &Is| matches!(is, Is::Solid(solid) if solid.from_particles.is_some());
                another(&format!("{at}.then.solid.of"), *of, "a solid that comes from particles", &taken);
            }
            Then::Split(_) | Then::Die {} => {}
        }
    }
    for (i, id) in particles.show.shown().iter().enumerate() {
        another(&format!("is.particles.show.form.copy.of[{i}]"), *id, "a solid", &solid);
    }
}

impl Shot {
    pub(super) fn particle_faults(&self, f: &mut Faults, path: &str, particles: &Particles) {
        if let Source::Shape { shape: Shape::Mesh { asset, .. }, .. } = &particles.from {
            self.asset(f, &format!("{path}.from.shape.shape.mesh.asset"), asset, AssetKind::Mesh);
        }
        if let Source::Grid { count, .. } = &particles.from {
            for (part, &number) in count.iter().enumerate() {
                if !(1..=10_000).contains(&number) {
                    f.say(
                        format!("{path}.from.grid.count[{part}]"),
                        format!("{number} is outside 1 to 10000"),
                    );
                }
            }
        }
        if let Some(map) = &particles.births.map {
            self.map_faults(f, &format!("{path}.births.map"), &particles.from, map);
        }
        let Births { from_frame, to_frame, .. } = &particles.births;
        if let (Some(from), Some(to)) = (from_frame, to_frame)
            && to < from
        {
            f.say(format!("{path}.births.to_frame"), format!("{to} comes before from_frame, {from}"));
        }
        if let Some(image) = &particles.look.image {
            self.asset(f, &format!("{path}.look.image"), image, AssetKind::Image);
        }
        if particles.becoming.len() > MAX_BECOMING {
            let message = format!("{} entries; at most {MAX_BECOMING}", particles.becoming.len());
            f.say(format!("{path}.becoming"), message);
        }
        for (list, at) in [
            ("colours", particles.show.colours.iter().map(|stop| stop.at).collect::<Vec<_>>()),
            ("sizes", particles.show.sizes.iter().map(|stop| stop.at).collect()),
        ] {
            if at.len() > MAX_STOPS {
                f.say(format!("{path}.show.{list}"), format!("{} stops; at most {MAX_STOPS}", at.len()));
            } else if let Some(i) = at.windows(2).position(|pair| pair[1] < pair[0]) {
                f.say(format!("{path}.show.{list}[{}].at", i + 1), "comes before the stop above it");
            }
        }
        if let Form::Copy { of, .. } = &particles.show.form
            && !(1..=16).contains(&of.len())
        {
            f.say(format!("{path}.show.form.copy.of"), format!("{} solids; from 1 to 16", of.len()));
        }
        let number = match particles.births.how {
            Often::Number { number } | Often::AtOnce { number } => number as usize,
            Often::Rate { .. } | Often::Never {} => 0,
        };
        if number > MAX_PARTICLES {
            let message = format!("{number} particles; at most {MAX_PARTICLES}");
            f.say(format!("{path}.births.how"), message);
        }
    }

    /// A map needs UVs, or a mesh whose vertices can have colours.
    fn map_faults(&self, f: &mut Faults, path: &str, from: &Source, map: &BirthMap) {
        let on = match from {
            Source::Shape { on, .. } | Source::Solid { on, .. } | Source::Broken { on, .. } => Some(*on),
            Source::Grid { .. } if matches!(map.of, MapOf::Image { .. }) => Some(BornOn::Vertices),
            _ => None,
        };
        match on {
            None => f.say(path, "needs particles that are born on a shape, a solid or, of an image, a grid"),
            Some(BornOn::Volume) => {
                f.say(path, "has no weight inside a body; let them be born on its surface")
            }
            Some(_) => {}
        }
        if let MapOf::Image { asset } = &map.of {
            self.asset(f, &format!("{path}.of.image.asset"), asset, AssetKind::Image);
        }
    }
}
