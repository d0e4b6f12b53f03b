//! The Check list, with its one-press fixes.

use super::assets::keep_mesh;
use super::input::State;
use super::input::{Input, Path};
use super::shots::{ShotState, state};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use crate::studio::Studio;
use axum::Json;
use axum::extract::State as Extract;
use frames::Event;
use glam::Vec3;
use serde::{Deserialize, Serialize};
use shot::check::{Entry, Mistake, check};
use shot::motion::Sampler;
use shot::world::World;
use shot::{Cloth, Collision, Element, Id, Moves, Shape, Shot, Solid};
use simulate::deformable_check::{
    EDGES_FOR_FOLDS, MOST_THICKNESS, check_deformables, gap_at_start, idle_pins, lay_strokes,
};
use simulate::solids::{separate, start_overlaps};
use utoipa::ToSchema;

/// Most substeps that a fix sets.
const MAX_SUBSTEPS: u32 = 256;

/// One entry of the Check list.
#[derive(Serialize, ToSchema)]
pub(crate) struct CheckEntry {
    /// Kind of mistake, in snake case.
    #[schema(value_type = String)]
    mistake: Mistake,
    /// Ids of the elements concerned.
    elements: Vec<u32>,
    reason: String,
    /// Label of the one-press fix.
    fix: Option<String>,
}

impl From<Entry> for CheckEntry {
    fn from(entry: Entry) -> Self {
        let elements = entry.elements.into_iter().map(|id| id.0).collect();
        Self { mistake: entry.mistake, elements, reason: entry.reason, fix: entry.fix }
    }
}

/// What is likely wrong in the shot.
#[utoipa::path(get, path = "/api/shots/{id}/check", params(("id" = i64, Path)), responses((status = 200, body = Vec<CheckEntry>)))]
pub(crate) async fn list(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<CheckEntry>>> {
    let (shot, _) = studio.head(id).await?;
    let run = studio.folder(&studio.store.current_run(id).await?);
    blocking(move || {
        let meshes = studio.loader.meshes(&studio.data, &shot)?;
        let mut entries = check(&shot);
        entries.extend(overlaps(&shot, &meshes)?);
        let unborn = simulate::not_to_be_born(&shot, &meshes).unwrap_or_default().into_iter();
        entries.extend(unborn.map(|(id, why)| Entry {
            mistake: Mistake::CannotBeBorn,
            elements: vec![id],
            reason: format!("{why}."),
            fix: None,
        }));
        entries.extend(check_deformables(&shot, &meshes));
        entries.extend(from_run(&shot, &run));
        Ok(Json(entries.into_iter().map(CheckEntry::from).collect()))
    })
    .await
}

fn name(shot: &Shot, (id, copy): (Id, u32)) -> String {
    let Some(element) = shot.element(id) else { return "a body".to_owned() };
    if element.count() == 1 { element.name.clone() } else { format!("{} {}", element.name, copy + 1) }
}

pub(crate) fn overlaps(shot: &Shot, meshes: &geometry::Meshes) -> Result<Option<Entry>> {
    let found = start_overlaps(shot, meshes)?;
    let Some(worst) = found.first() else { return Ok(None) };
    let mut elements: Vec<Id> = found.iter().flat_map(|o| [o.a.0, o.b.0]).collect();
    elements.sort();
    elements.dedup();
    let more = match found.len() {
        1 => String::new(),
        n => format!(" {} pairs in all.", n),
    };
    let (a, b) = (name(shot, worst.a), name(shot, worst.b));
    let reason = format!("{a} starts {:.1} mm inside {b} and will jump apart.{more}", worst.depth_m * 1e3);
    Ok(Some(Entry { mistake: Mistake::StartOverlap, elements, reason, fix: Some("Separate".to_owned()) }))
}

/// What happened in the fresh frames of a run, by frame.
fn events(shot: &Shot, run: &frames::RunFolder, fresh: &[bool]) -> Vec<(u32, Event)> {
    let numbers = shot.timing.frames().zip(fresh).filter_map(|(number, fresh)| fresh.then_some(number));
    let mut measurements = run.measurements();
    let frames = numbers.filter_map(|number| Some((number, measurements.remove(&number)?)));
    frames.flat_map(|(number, of)| of.events.into_iter().map(move |event| (number, event))).collect()
}

/// The largest number of substeps that events of a kind ask for.
fn substeps_wanted(shot: &Shot, run: &frames::RunFolder, kind: Mistake) -> Option<u32> {
    let events = events(shot, run, &simulate::fresh(shot, run)).into_iter();
    events
        .filter_map(|(_, event)| match event {
            Event::Tunnelled { substeps, .. } if kind == Mistake::Tunnelled => Some(substeps),
            Event::TooFast { substeps, .. } if kind == Mistake::TooFast => Some(substeps),
            Event::LiquidTooFast { substeps, .. } if kind == Mistake::LiquidTooFast => Some(substeps),
            _ => None,
        })
        .max()
}

fn from_run(shot: &Shot, run: &frames::RunFolder) -> Vec<Entry> {
    let fresh = simulate::fresh(shot, run);
    let mut entries: Vec<Entry> = Vec::new();
    for (number, event) in events(shot, run, &fresh) {
        let (mistake, elements, reason, fix) = match event {
            Event::LeftWorld { element, copy } => (
                Mistake::LeftWorld,
                vec![element],
                format!("{} left the world at frame {number}.", name(shot, (element, copy))),
                None,
            ),
            Event::TooFast { element, copy, past, substeps } => (
                Mistake::TooFast,
                vec![element, past],
                format!(
                    "{} and {} come together so fast at frame {number} that they may pass through each other; \
                     {substeps} substeps are short enough.",
                    name(shot, (element, copy)),
                    name(shot, (past, 0))
                ),
                Some(format!("Use {substeps} substeps")),
            ),
            Event::Tunnelled { element, copy, through, substeps } => (
                Mistake::Tunnelled,
                vec![element, through],
                format!(
                    "{} went through {} at frame {number}; {substeps} substeps would have caught it.",
                    name(shot, (element, copy)),
                    name(shot, (through, 0))
                ),
                Some(format!("Use {substeps} substeps")),
            ),
            Event::LiquidTooFast { element, speed_m_s, substeps } => (
                Mistake::LiquidTooFast,
                vec![element],
                format!(
                    "{} moves at {speed_m_s:.0} m/s at frame {number}, too fast for the most steps of a substep: it may \
                     pass through solids and lose volume.",
                    name(shot, (element, 0))
                ),
                Some(format!("Use {} substeps", substeps.min(MAX_SUBSTEPS))),
            ),
            Event::NotConverged { element, residual } => (
                Mistake::NotConverged,
                vec![element],
                format!(
                    "The pressure of {} was not found at frame {number}: {:.1} % of the divergence is left. It may be shut in \
                     without room; leave it a way out, or use more substeps.",
                    name(shot, (element, 0)),
                    100.0 * residual
                ),
                None,
            ),
        };
        if !entries.iter().any(|e| e.mistake == mistake && e.elements == elements) {
            entries.push(Entry { mistake, elements, reason, fix });
        }
    }
    let missing = fresh.iter().filter(|fresh| !**fresh).count();
    if missing > 0 {
        entries.push(Entry {
            mistake: Mistake::FramesMissing,
            elements: Vec::new(),
            reason: format!(
                "{missing} of {} frames are not computed yet; a film computes them first.",
                fresh.len()
            ),
            fix: Some("Compute".to_owned()),
        });
    }
    entries
}

/// Which entry to mend.
#[derive(Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub(crate) struct Fix {
    #[schema(value_type = String)]
    mistake: Mistake,
    elements: Vec<u32>,
}

/// Moves the first of some elements up until it lies over the others.
fn put_on_top(shot: &mut Shot, meshes: &geometry::Meshes, elements: &[u32]) -> Result<()> {
    let sampler = Sampler::new(shot).map_err(Error::Faults)?;
    let acting = f64::from(shot.timing.first);
    let now = sampler.at(acting).map_err(|error| Error::Bad(error.to_string()))?;
    let unsolved = |_: Id, _: f64| None;
    let world = World::new(&now, &sampler, acting, &unsolved);
    let heights = |id: u32| -> Result<[f32; 2]> {
        let element = now.element(Id(id)).ok_or_else(|| Error::NotFound(format!("element {id}")))?;
        let solid = element.as_solid().ok_or_else(|| Error::Bad(format!("{} has no mesh", element.name)))?;
        let mesh = meshes.mesh(&solid.shape).map_err(|error| Error::Bad(error.to_string()))?;
        let mut range = [f32::INFINITY, f32::NEG_INFINITY];
        for (copy, (position, orientation)) in world.placements(element).into_iter().enumerate() {
            let size = element.size_of(copy);
            for p in &mesh.positions {
                let y = (position + orientation * (*p * size)).y;
                range = [range[0].min(y), range[1].max(y)];
            }
        }
        Ok(range)
    };
    let Some((first, others)) = elements.split_first() else { return Ok(()) };
    let lowest = heights(*first)?[0];
    let mut top = f32::NEG_INFINITY;
    for other in others {
        top = top.max(heights(*other)?[1]);
    }
    let Some(element) = shot.elements.iter_mut().find(|element| element.id.0 == *first) else {
        return Ok(());
    };
    let thickness = match (element.as_cloth(), element.as_soft()) {
        (Some(cloth), _) => cloth.thickness_m,
        (_, Some(soft)) => soft.thickness_m,
        _ => 0.0,
    };
    element.shift(Vec3::Y * (top + 1.01 * thickness - lowest).max(0.0));
    Ok(())
}

/// Gives elements repaired meshes of their own.
fn repair(studio: &Studio, shot: &mut Shot, elements: &[u32]) -> Result<()> {
    let meshes = studio.loader.meshes(&studio.data, shot)?;
    let Shot { elements: all, assets, .. } = shot;
    for element in all.iter_mut().filter(|element| elements.contains(&element.id.0)) {
        let name = element.name.clone();
        let Some(solid) = element.as_solid_mut() else { continue };
        let mesh = meshes.mesh(&solid.shape).map_err(|error| Error::Bad(error.to_string()))?;
        let mesh = mesh.repaired();
        mesh.check().map_err(|error| Error::Bad(format!("{name}: {error}")))?;
        solid.shape = Shape::Mesh { asset: keep_mesh(studio, assets, &name, mesh)?, scale: 1.0 };
    }
    Ok(())
}

/// The solids that an entry concerns.
fn wanted_solids<'a>(shot: &'a mut Shot, fix: &'a Fix) -> impl Iterator<Item = &'a mut Solid> {
    let wanted = |element: &&mut Element| fix.elements.contains(&element.id.0);
    shot.elements.iter_mut().filter(wanted).filter_map(Element::as_solid_mut)
}

/// Applies the one-press fix of an entry.
#[utoipa::path(post, path = "/api/shots/{id}/fix", params(("id" = i64, Path)), request_body = Fix, responses((status = 200, body = ShotState)))]
pub(crate) async fn fix(
    Extract(studio): State,
    Path(id): Path<i64>,
    Input(fix): Input<Fix>,
) -> Result<Json<ShotState>> {
    let (mut shot, revision) = studio.head(id).await?;
    if fix.mistake == Mistake::FramesMissing {
        studio.play(id, None).await?;
        return state(&studio, id).await;
    }
    let wanted = |element: &Element| fix.elements.contains(&element.id.0);
    let label = match fix.mistake {
        Mistake::NothingStillBelow => {
            let lowest = shot.solids().map(|(e, _)| e.placement.position_m.y).fold(f32::INFINITY, f32::min);
            let floor = Element::solid("Floor", Shape::plane(20.0, 20.0), Moves::Still);
            shot.add(floor.at(0.0, (lowest - 1.0).min(0.0), 0.0));
            "Floor added"
        }
        Mistake::StartOverlap => {
            let (copy, at) = (studio.clone(), shot.clone());
            let positions =
                blocking(move || Ok(separate(&at, &copy.loader.meshes(&copy.data, &at)?)?)).await?;
            for position in positions {
                let Some(element) = shot.elements.iter_mut().find(|e| e.id == position.element) else {
                    continue;
                };
                element.shift(position.shift_m);
                if let Some(copies) = element.as_solid_mut().and_then(|solid| solid.copies.as_mut()) {
                    copies.spacing_m *= position.spread;
                }
            }
            "Bodies separated"
        }
        Mistake::HullFillsHollow => {
            for element in shot.elements.iter_mut().filter(|element| wanted(element)) {
                if let Some(solid) = element.as_solid_mut() {
                    solid.body.collision = Collision::Exact;
                }
            }
            "Collision shape set to exact"
        }
        Mistake::MarginLarge => {
            for element in shot.elements.iter_mut().filter(|element| wanted(element)) {
                if let Some(solid) = element.as_solid_mut() {
                    solid.body.margin_m = None;
                }
            }
            "Margin set by size"
        }
        Mistake::Tunnelled | Mistake::TooFast | Mistake::LiquidTooFast => {
            let run = studio.folder(&studio.store.current_run(id).await?);
            let (at, kind) = (shot.clone(), fix.mistake);
            let wanted = blocking(move || Ok(substeps_wanted(&at, &run, kind))).await?;
            let substeps = wanted.unwrap_or(shot.physics.substeps * 4);
            shot.physics.substeps = substeps.min(MAX_SUBSTEPS);
            "Substeps raised"
        }
        Mistake::OpenSoftBody => {
            for solid in wanted_solids(&mut shot, &fix) {
                let soft = solid.soft.take().unwrap_or_default();
                solid.cloth = Some(Cloth { edge_m: soft.edge_m, pins: soft.pins, ..Cloth::default() });
            }
            "Made cloth"
        }
        Mistake::OpenSkin => {
            for cloth in wanted_solids(&mut shot, &fix).filter_map(|solid| solid.cloth.as_mut()) {
                cloth.shut_in_air = None;
            }
            "Air passes"
        }
        Mistake::TooCoarse | Mistake::TooThick => {
            let copy = studio.clone();
            let (mut at, folds) = (shot.clone(), fix.mistake == Mistake::TooCoarse);
            let elements = fix.elements.clone();
            shot = blocking(move || {
                let meshes = copy.loader.meshes(&copy.data, &at)?;
                for element in at.elements.iter_mut().filter(|element| elements.contains(&element.id.0)) {
                    let Some(solid) = element.as_solid_mut() else { continue };
                    let (shape, Some(cloth)) = (&solid.shape, &mut solid.cloth) else { continue };
                    if folds {
                        let mesh = meshes.mesh(shape).map_err(|error| Error::Bad(error.to_string()))?;
                        cloth.edge_m = mesh.bounds().size().max_element() / EDGES_FOR_FOLDS;
                    }
                    cloth.thickness_m = cloth.thickness_m.min(MOST_THICKNESS * cloth.edge_m);
                }
                Ok(at)
            })
            .await?;
            if fix.mistake == Mistake::TooCoarse { "Shorter edges" } else { "Half an edge thick" }
        }
        Mistake::CrossesAtStart => {
            for solid in wanted_solids(&mut shot, &fix) {
                solid.cloth.iter_mut().for_each(|cloth| cloth.preroll_s = cloth.preroll_s.max(1.0));
                solid.soft.iter_mut().for_each(|soft| soft.preroll_s = soft.preroll_s.max(1.0));
            }
            "Drawn apart before the first frame"
        }
        Mistake::StartsInSolid => {
            let (copy, mut at, elements) = (studio.clone(), shot.clone(), fix.elements.clone());
            shot = blocking(move || {
                let meshes = copy.loader.meshes(&copy.data, &at)?;
                put_on_top(&mut at, &meshes, &elements)?;
                Ok(at)
            })
            .await?;
            "Put on top"
        }
        Mistake::TooClose => {
            let (copy, at, elements) = (studio.clone(), shot.clone(), fix.elements.clone());
            let first = elements.first().copied().unwrap_or_default();
            let gap = blocking(move || {
                let meshes = copy.loader.meshes(&copy.data, &at)?;
                Ok(gap_at_start(&at, &meshes, Id(first)))
            })
            .await?;
            // No thinner than a cloth may be.
            let most = gap.map_or(f32::INFINITY, |gap| gap.max(shot::parameters::MIN_THICKNESS_M));
            for solid in wanted_solids(&mut shot, &fix) {
                solid.cloth.iter_mut().for_each(|cloth| cloth.thickness_m = cloth.thickness_m.min(most));
                solid.soft.iter_mut().for_each(|soft| soft.thickness_m = soft.thickness_m.min(most));
            }
            "Thinner"
        }
        Mistake::MassRatio => {
            shot.physics.substeps = (2 * shot.physics.substeps).min(MAX_SUBSTEPS);
            "Substeps doubled"
        }
        Mistake::PinHoldsNothing => {
            let (copy, at, elements) = (studio.clone(), shot.clone(), fix.elements.clone());
            let idle = blocking(move || {
                let meshes = copy.loader.meshes(&copy.data, &at)?;
                let of = |id: &u32| at.element(Id(*id)).map(|of| (Id(*id), idle_pins(&at, &meshes, of)));
                Ok(elements.iter().filter_map(of).collect::<Vec<_>>())
            })
            .await?;
            for (id, pins) in idle {
                let Some(element) = shot.elements.iter_mut().find(|element| element.id == id) else {
                    continue;
                };
                let Some(solid) = element.as_solid_mut() else { continue };
                for pin in pins {
                    match (&mut solid.cloth, &mut solid.soft) {
                        (Some(cloth), _) => drop(cloth.pins.remove(pin)),
                        (None, Some(soft)) => drop(soft.pins.remove(pin)),
                        (None, None) => {}
                    }
                }
            }
            "Pin removed"
        }
        Mistake::StrokesOffMesh => {
            let (copy, mut at, elements) = (studio.clone(), shot.clone(), fix.elements.clone());
            shot = blocking(move || {
                let meshes = copy.loader.meshes(&copy.data, &at)?;
                let concerned = |element: &&mut Element| elements.contains(&element.id.0);
                at.elements.iter_mut().filter(concerned).for_each(|element| lay_strokes(element, &meshes));
                Ok(at)
            })
            .await?;
            "Strokes laid on the mesh"
        }
        Mistake::UnsoundMesh => {
            let (copy, mut at, elements) = (studio.clone(), shot.clone(), fix.elements.clone());
            shot = blocking(move || {
                repair(&copy, &mut at, &elements)?;
                Ok(at)
            })
            .await?;
            "Mesh repaired"
        }
        Mistake::UnlikeSpacings => {
            let of = |element: &Element| Some(element.as_particles()?.liquid.as_ref()?.spacing_m);
            let finest =
                shot.elements.iter().filter(|e| wanted(e)).filter_map(of).fold(f32::INFINITY, f32::min);
            for element in shot.elements.iter_mut().filter(|element| fix.elements.contains(&element.id.0)) {
                let Some(liquid) = element.as_particles_mut().and_then(|set| set.liquid.as_mut()) else {
                    continue;
                };
                liquid.spacing_m = finest;
            }
            "Same spacing"
        }
        Mistake::LeftWorld
        | Mistake::NotConverged
        | Mistake::FramesMissing
        | Mistake::ForceOnNothing
        | Mistake::RegionEmpty
        | Mistake::EndlessBecoming
        | Mistake::OutsideGate
        | Mistake::CannotBeBorn => {
            return Err(Error::Bad("this entry has no one-press fix".to_owned()));
        }
    };
    studio.change(id, revision, label, &shot).await?;
    state(&studio, id).await
}
