//! What a loop's Sheet asks for: seams, and frames that are alike.

use super::input::State;
use super::input::{Path, Query};
use crate::error::{Error, Result};
use crate::jobs::blocking;
use axum::Json;
use axum::extract::State as Extract;
use frames::finish::{best_loops, seam, unreturned};
use serde::{Deserialize, Serialize};
use shot::{Id, finish::FinishOperation};
use utoipa::ToSchema;

/// Loops that are offered.
const OFFERED: usize = 5;

/// How far the frame that would follow the last of a loop is from its first.
#[derive(Serialize, ToSchema)]
pub(crate) struct Seam {
    /// As a fraction of the mean motion from a frame to the next.
    position: f32,
    /// As a fraction of the mean speed.
    velocity: f32,
}

impl From<frames::finish::Seam> for Seam {
    fn from(of: frames::finish::Seam) -> Self {
        Self { position: of.position, velocity: of.velocity }
    }
}

/// A loop that the run offers: two frames that are alike.
#[derive(Serialize, ToSchema)]
pub(crate) struct LoopOffer {
    from_frame: u32,
    frames: u32,
    seam: Seam,
}

/// A loop's seam, and other loops.
#[derive(Serialize, ToSchema)]
pub(crate) struct LoopSeam {
    /// The seam without blending; none where the two frames have not the same bodies and particles.
    seam: Option<Seam>,
    /// Ids of the elements that are not back where they began.
    unreturned: Vec<u32>,
    /// The best loops.
    offers: Vec<LoopOffer>,
}

/// A round of a shot that goes round.
#[derive(Serialize, ToSchema)]
pub(crate) struct LoopRound {
    from_frame: u32,
    /// How nearly the frame after its last meets its first; none where the two have not the same
    /// bodies and particles.
    seam: Option<Seam>,
    /// Ids of the elements that are not back where they began.
    unreturned: Vec<u32>,
    /// Whether what comes after is this round again.
    closes: bool,
}

/// The computed rounds of a shot that goes round, up to the first that closes.
#[utoipa::path(get, path = "/api/shots/{id}/rounds", params(("id" = i64, Path)), responses((status = 200, body = Vec<LoopRound>)))]
pub(crate) async fn rounds(Extract(studio): State, Path(id): Path<i64>) -> Result<Json<Vec<LoopRound>>> {
    let (shot, _) = studio.head(id).await?;
    let folder = studio.folder(&studio.store.current_run(id).await?);
    blocking(move || {
        let rounds = simulate::rounds(&shot, &folder, &studio.rounds)?;
        let of = |round: frames::finish::Round| LoopRound {
            from_frame: round.from_frame,
            closes: round.closes(),
            seam: round.seam.map(Seam::from),
            unreturned: round.unreturned.iter().map(|id| id.0).collect(),
        };
        Ok(Json(rounds.into_iter().map(of).collect()))
    })
    .await
}

#[derive(Deserialize)]
pub(crate) struct Lengths {
    /// The shortest loop offered, in frames.
    least: u32,
    /// The longest.
    most: u32,
}

/// The seam of a loop, and the loops of a length whose ends are most alike.
#[utoipa::path(get, path = "/api/shots/{id}/loops/{step}", params(("id" = i64, Path), ("step" = u32, Path), ("least" = u32, Query), ("most" = u32, Query)), responses((status = 200, body = LoopSeam), (status = 404, body = crate::error::Problem), (status = 422, body = crate::error::Problem)))]
pub(crate) async fn loops(
    Extract(studio): State,
    Path((id, step)): Path<(i64, u32)>,
    Query(lengths): Query<Lengths>,
) -> Result<Json<LoopSeam>> {
    let (shot, _) = studio.head(id).await?;
    let runs = studio.runs_of(&shot, &studio.store.current_run(id).await?).await?;
    blocking(move || {
        let element = shot.element(Id(step)).ok_or_else(|| Error::NotFound(format!("element {step}")))?;
        let Some(FinishOperation::Loop { frames, from_frame, .. }) =
            element.as_finish().map(|f| &f.operation)
        else {
            return Err(Error::Bad(format!("{} is not a loop", element.name)));
        };
        let source = runs.frames_before(&shot, Id(step))?;
        let range = source.range();
        let mut round = *from_frame..=source.at(i64::from(from_frame + frames));
        let fits = from_frame >= range.start()
            && from_frame + frames - 1 <= *range.end()
            && (source.repeats() || round.all(|number| source.fingerprint(number).is_some()));
        let (seam, unreturned) = if fits {
            (seam(&*source, *from_frame, *frames)?, unreturned(&*source, *from_frame, *frames)?)
        } else {
            (None, Vec::new())
        };
        let offers = best_loops(&*source, lengths.least.max(2)..=lengths.most, OFFERED)?;
        let offer = |pair: frames::finish::LoopPair| LoopOffer {
            from_frame: pair.from_frame,
            frames: pair.frames,
            seam: pair.seam.into(),
        };
        Ok(Json(LoopSeam {
            seam: seam.map(Seam::from),
            unreturned: unreturned.into_iter().map(|id| id.0).collect(),
            offers: offers.into_iter().map(offer).collect(),
        }))
    })
    .await
}
