//! Places on the emitting geometry, and how many particles of a liquid they stand for.

use geometry::{Meshes, PoolError, Sites};
use glam::{Vec2, Vec3};
use shot::{
    Element, Id, MAX_PARTICLES, Shape, Shot,
    particles::{EmissionDomain, EmissionSchedule, Particles, Source},
    world::World,
};

/// What a pool's sites are of: they are found once.
pub(super) const POOL: &str = "pool";

/// Most triangles of the solids that a pool is found among.
const MAX_WALL_TRIANGLES: usize = 10_000_000;

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
                format!(" filled at {spacing}, mapped: {}", asks_surface(particles))
            })
    }

    /// The points of a pool around an element, against its pose: what solids hold where they stand at the first frame.
    ///
    /// # Errors
    /// Why it has none.
    pub fn of_pool(
        world: &World,
        element: &Element,
        particles: &Particles,
        meshes: &Meshes,
    ) -> Result<Self, PoolError> {
        let Some(spacing_m) = filled(particles) else {
            return Ok(Self { of: POOL.to_owned(), sites: Sites::points([]) });
        };
        let (mut positions, mut triangles) = (Vec::new(), Vec::new());
        for (of, solid) in world.shot().solids().filter(|(of, _)| particles.contact.collides_with(of)) {
            let Ok(mesh) = meshes.mesh(&solid.shape) else { continue };
            if triangles.len() + mesh.triangles.len().saturating_mul(of.count()) > MAX_WALL_TRIANGLES {
                return Err(PoolError::TooManyWalls(MAX_WALL_TRIANGLES));
            }
            for (copy, (position, orientation)) in world.placements(of).into_iter().enumerate() {
                let (base, scale) = (positions.len() as u32, of.size_of(copy));
                positions.extend(mesh.positions.iter().map(|x| position + orientation * (*x * scale)));
                triangles.extend(mesh.triangles.iter().map(|t| t.map(|v| v + base)));
            }
        }
        let (position, orientation) = world.pose(element);
        let points = geometry::fill_pool((&positions, &triangles), position, spacing_m, MAX_PARTICLES)?;
        let own = points.into_iter().map(|x| (orientation.inverse() * (x - position), Vec2::ZERO));
        Ok(Self { of: POOL.to_owned(), sites: Sites::points(own) })
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
            Source::Point {} | Source::Particles { .. } | Source::Impacts { .. } | Source::Liquid { .. } => {
                Sites::points([(Vec3::ZERO, Vec2::ZERO)])
            }
            // Found where the solids stand, by `of_pool`.
            Source::Pool {} => Sites::points([]),
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
        return if asks_surface(particles) {
            Sites::within(mesh, &points)
        } else {
            Sites::points(points.into_iter().map(|at| (at, Vec2::ZERO)))
        };
    }
    match domain {
        EmissionDomain::Surface => Sites::surface(mesh),
        EmissionDomain::Edges => Sites::edges(mesh),
        EmissionDomain::Vertices => Sites::vertices(mesh),
        EmissionDomain::Volume => Sites::inside(mesh),
    }
}

/// Whether what fills a mesh has values of the nearest place of its surface.
fn asks_surface(particles: &Particles) -> bool {
    particles.emission.map.is_some() || particles.emission.carries_uv
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
