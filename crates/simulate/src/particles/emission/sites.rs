//! Places on the emitting geometry, and how many particles of a liquid they stand for.

use geometry::{Meshes, Sites};
use glam::{Vec2, Vec3};
use shot::{
    Element, Id, Shape, Shot,
    particles::{EmissionDomain, EmissionSchedule, Particles, Source},
};

/// Emission sites, kept while the emitting geometry stays the same.
pub struct EmissionSites {
    /// The emitting geometry, as JSON.
    pub(super) of: String,
    pub sites: Sites,
}

/// The area of a source, m²; of one without an area that of a particle of its liquid.
pub(super) fn area_m2(particles: &Particles, sites: &Sites, spacing_m: f32) -> f64 {
    let on_faces = |domain: &EmissionDomain| *domain == EmissionDomain::Surface;
    match &particles.source {
        Source::Shape { domain, .. } | Source::Solid { domain, .. } if on_faces(domain) => sites.whole(),
        _ => f64::from(spacing_m * spacing_m),
    }
}

/// Particles for one unit of what the rate of an emission adds up.
pub fn per_emitted(particles: &Particles, sites: &Sites) -> f64 {
    let Some(liquid) = &particles.liquid else { return 1.0 };
    let volume = f64::from(liquid.particle_volume_m3());
    match particles.emission.schedule {
        EmissionSchedule::Flow { .. } => 1.0 / volume,
        EmissionSchedule::Jet {} => area_m2(particles, sites, liquid.spacing_m) / volume,
        _ => 1.0,
    }
}

fn shape_of(shot: &Shot, id: Id) -> Option<&Shape> {
    shot.element(id).and_then(|e| e.as_solid()).map(|solid| &solid.shape)
}

impl EmissionSites {
    /// The emitting geometry, as JSON.
    pub(super) fn named(shot: &Shot, particles: &Particles) -> String {
        match &particles.source {
            Source::Solid { solid, domain } | Source::Broken { solid, domain } => {
                serde_json::to_string(&(shape_of(shot, *solid), domain))
            }
            Source::Curve { curve } => serde_json::to_string(&shot.element(*curve).map(|e| &e.kind)),
            from => serde_json::to_string(from),
        }
        .expect("it serialises")
            + &filled(particles).map_or(String::new(), |spacing| {
                format!(" filled at {spacing}, mapped: {}", particles.emission.map.is_some())
            })
    }

    pub fn find(shot: &Shot, particles: &Particles, meshes: &Meshes) -> Self {
        let on_shape = |shape: Option<&Shape>, domain: EmissionDomain| {
            let mesh = shape.and_then(|shape| meshes.mesh(shape).ok()).unwrap_or_default();
            on_mesh(&mesh, domain, particles)
        };
        let sites = match &particles.source {
            Source::Shape { shape, domain } => on_shape(Some(shape), *domain),
            Source::Solid { solid, domain } | Source::Broken { solid, domain } => {
                on_shape(shape_of(shot, *solid), *domain)
            }
            Source::Curve { curve } | Source::Seam { curve, .. } => {
                match shot.element(*curve).map(|e| &e.kind) {
                    Some(shot::ElementKind::Curve(curve)) => Sites::line(&curve.strokes()),
                    _ => Sites::points([]),
                }
            }
            Source::Grid { count, spacing_m } => Sites::points(grid(*count, *spacing_m)),
            Source::Point {} | Source::Particles { .. } | Source::Impacts { .. } => {
                Sites::points([(Vec3::ZERO, Vec2::ZERO)])
            }
        };
        Self { of: Self::named(shot, particles), sites }
    }
}

/// About how many particles fill the source of a liquid; 0 if it is not closed.
pub fn fills(shot: &Shot, particles: &Particles, meshes: &Meshes) -> f64 {
    let (shape, bodies) = match &particles.source {
        Source::Shape { shape, .. } => (Some(shape), 1),
        Source::Solid { solid, .. } => {
            (shape_of(shot, *solid), shot.element(*solid).map_or(0, Element::count))
        }
        _ => (None, 0),
    };
    let (Some(mesh), Some(spacing_m)) = (shape.and_then(|shape| meshes.mesh(shape).ok()), filled(particles))
    else {
        return 0.0;
    };
    bodies as f64 * geometry::points_within(&mesh, spacing_m)
}

/// The spacing at which the source is filled with liquid, if it is.
pub(super) fn filled(particles: &Particles) -> Option<f32> {
    let liquid = particles.liquid.as_ref()?;
    (particles.emission.schedule == EmissionSchedule::Fill {}).then_some(liquid.spacing_m)
}

/// The solid that is filled with liquid: its own surface is no wall to the liquid.
pub fn filled_solid(particles: &Particles) -> Option<Id> {
    let Source::Solid { solid, .. } = particles.source else { return None };
    filled(particles).map(|_| solid)
}

pub(super) fn on_mesh(mesh: &geometry::Mesh, domain: EmissionDomain, particles: &Particles) -> Sites {
    if let Some(spacing_m) = filled(particles) {
        let points = geometry::fill(mesh, spacing_m);
        return match particles.emission.map {
            Some(_) => Sites::within(mesh, &points),
            None => Sites::points(points.into_iter().map(|at| (at, Vec2::ZERO))),
        };
    }
    match domain {
        EmissionDomain::Surface => Sites::surface(mesh),
        EmissionDomain::Edges => Sites::edges(mesh),
        EmissionDomain::Vertices => Sites::vertices(mesh),
        EmissionDomain::Volume => Sites::inside(mesh),
    }
}

/// Sites at points, with UVs along x and against z as on a plane.
fn grid(count: [u32; 3], spacing: Vec3) -> impl Iterator<Item = (Vec3, Vec2)> {
    let centred = |i: u32, n: u32| i as f32 - (n as f32 - 1.0) * 0.5;
    let fraction = |i: u32, n: u32| (i as f32 + 0.5) / n as f32;
    let [nx, ny, nz] = count;
    (0..ny).flat_map(move |y| {
        (0..nz).flat_map(move |z| {
            (0..nx).map(move |x| {
                let position = Vec3::new(centred(x, nx), centred(y, ny), centred(z, nz)) * spacing;
                (position, Vec2::new(fraction(x, nx), 1.0 - fraction(z, nz)))
            })
        })
    })
}
