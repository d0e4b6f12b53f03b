//! Finishing steps: what is done to the frames of a run after it was computed.
//! They change no simulation; a run stays as it is.

use crate::parameters::Parameters;
use crate::{Copies, Element, ElementKind, Id, Shot};
use crate::{LAST_FRAME, MAX_FRAMES};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One finishing step, for one element's frames or those of the whole shot.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(deny_unknown_fields)]
#[parameters(acts = Picture)]
pub struct Finish {
    /// The element whose frames are finished; none: the whole shot. Steps of
    /// elements come before those of the whole shot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub element: Option<Id>,
    /// Number that orders the steps of the same element, rising; equal ones by id.
    #[serde(default)]
    #[parameter(label = "Order", fixed, range(0.0, LAST_FRAME as f32), step = 1.0)]
    pub order: u32,
    /// Whether the step is taken.
    #[serde(default = "on", skip_serializing_if = "Clone::clone")]
    pub enabled: bool,
    /// The operation, with its numbers.
    #[parameter(nested)]
    pub operation: FinishOperation,
}

fn on() -> bool {
    true
}

fn round() -> f32 {
    1.0
}

/// The operation of a finishing step. Frames that come in are numbered from the
/// shot's first frame on, and so are those that go out.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, JsonSchema, Parameters)]
#[serde(rename_all = "snake_case", deny_unknown_fields)]
#[parameters(acts = Picture)]
pub enum FinishOperation {
    /// Keeps a range of frames, which then begins at the shot's first frame.
    Trim {
        /// Number of the first frame kept.
        #[parameter(label = "From frame", fixed, range(0.0, LAST_FRAME as f32), step = 1.0)]
        from_frame: u32,
        /// Number of the last frame kept.
        #[parameter(label = "To frame", fixed, range(0.0, LAST_FRAME as f32), step = 1.0)]
        to_frame: u32,
    },
    /// Shows other frames, also between two: `run_frame` at a frame is the
    /// frame shown there, so that a straight line is a constant speed and a
    /// falling one goes backwards.
    Retime {
        /// Number of frames that go out.
        #[parameter(label = "Frames", fixed, range(1.0, MAX_FRAMES as f32), step = 1.0)]
        frames: u32,
        /// Number of the frame shown; keyed.
        #[parameter(label = "Frame shown", range(0.0, LAST_FRAME as f32), step = 1.0)]
        run_frame: f32,
    },
    /// Shows the frames from the last to the first.
    Reverse {},
    /// Shows the frames later or earlier; before and after them the first and the last stand.
    Shift {
        /// Number of frames later; negative: earlier.
        #[parameter(label = "Later by", unit = "frames", range(-(MAX_FRAMES as f32), MAX_FRAMES as f32), slide(-48.0, 48.0), step = 1.0)]
        frames: i32,
    },
    /// Shows the frames of a kept run after these.
    Join {
        /// Number of the kept run.
        run: u32,
    },
    /// Goes over to the frames of a kept run.
    Blend {
        /// Number of the kept run.
        run: u32,
        /// Weight of the kept run, 0–1; keyed.
        #[parameter(label = "Weight", range(0.0, 1.0), slide(0.0, 1.0), step = 0.05)]
        weight: f32,
    },
    /// Evens out motion: each frame is the mean of those around it, weighted by
    /// a Gaussian curve.
    Smooth {
        /// Number of frames on each side that count; the standard deviation is half of that.
        #[parameter(label = "On each side", unit = "frames", range(0.0, 24.0), slide(0.0, 12.0), step = 0.5)]
        radius: f32,
    },
    /// Evens out the surface of meshes without shrinking it; a closed one keeps its volume.
    SmoothShape {
        /// Number of passes.
        #[parameter(label = "Passes", fixed, range(1.0, 200.0), slide(1.0, 60.0), step = 1.0)]
        passes: u32,
    },
    /// Gives meshes thickness: a surface on each side, and walls along borders.
    Thicken {
        /// Thickness, m; keyed.
        #[parameter(
            label = "Thickness",
            unit = "mm",
            scale = 1_000.0,
            range(0.0, 10.0),
            slide(0.0, 100.0),
            step = 1.0
        )]
        thickness_m: f32,
        /// How far both surfaces lie out along the normals, as a fraction of half the thickness, −1 to 1; keyed.
        #[parameter(label = "Outward", range(-1.0, 1.0), slide(-1.0, 1.0))]
        offset: f32,
    },
    /// Refines meshes to smooth surfaces.
    Subdivide {
        /// The rule.
        scheme: SubdivisionScheme,
        /// Number of times: each makes four faces of one.
        #[parameter(label = "Levels", fixed, range(1.0, 6.0), slide(1.0, 6.0), step = 1.0)]
        levels: u32,
        /// Edges at which faces meet at more than this angle stay sharp, rad; none: none by their angle.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        #[parameter(
            label = "Over",
            fixed,
            range(0.0, std::f32::consts::PI),
            slide(0.0, 180.0),
            step = 1.0,
            blank = "none"
        )]
        crease_angle_rad: Option<f32>,
        /// Name of a group of faces or vertices whose border stays sharp.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        crease_group: Option<String>,
        /// Name of a map: edges stay sharp for that fraction of the levels.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        crease_map: Option<String>,
    },
    /// Makes a closed mesh of particles: the surface of a liquid. The particles are left out.
    ParticleMesh {
        /// Distance of the surface from a particle that is alone, in sizes of the particles; no unit.
        #[parameter(label = "Radius", unit = "sizes", range(0.3, 3.0), slide(0.5, 1.5), step = 0.05)]
        radius: f32,
        /// Distance within which particles have one surface, in sizes of the particles; no unit.
        #[parameter(label = "Joined within", unit = "sizes", range(1.0, 4.0), slide(1.0, 4.0), step = 0.1)]
        reach: f32,
        /// Edges of the mesh, in sizes of the particles; no unit.
        #[parameter(label = "Edges", unit = "sizes", range(0.25, 4.0), slide(0.25, 2.0), step = 0.05)]
        edge: f32,
        /// Number of passes in which the surface is evened out, without shrinking it.
        #[parameter(
            label = "Evened out",
            unit = "passes",
            fixed,
            range(0.0, 50.0),
            slide(0.0, 20.0),
            step = 1.0
        )]
        passes: u32,
        /// Most that the neighbourhood of a particle is drawn out along the surface, as the ratio of its longest to its shortest
        /// axis; 1: not at all. A particle that is alone stays round.
        #[serde(default = "round")]
        #[parameter(label = "Drawn out up to", unit = "×", range(1.0, 8.0), slide(1.0, 6.0), step = 0.5)]
        anisotropy: f32,
        /// Least thickness of a film, in sizes of the particles; no unit.
        #[serde(default)]
        #[parameter(label = "Film at least", unit = "sizes", range(0.0, 3.0), slide(0.0, 2.0), step = 0.1)]
        film: f32,
        /// Whether all liquids that the step takes have one surface, on which they mix; else each has its own.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        together: bool,
    },
    /// Goes round: of the frames that come in, `frames` from `from_frame` on are
    /// shown again and again.
    Loop {
        /// Number of frames of one round.
        #[parameter(label = "Frames", fixed, range(2.0, MAX_FRAMES as f32), step = 1.0)]
        frames: u32,
        /// Number of the first frame of the round.
        #[parameter(label = "From frame", fixed, range(0.0, LAST_FRAME as f32), step = 1.0)]
        from_frame: u32,
        /// Number of frames at the end of the round that are blended into those before
        /// `from_frame`; 0: none.
        #[parameter(label = "Blended over", unit = "frames", fixed, range(0.0, MAX_FRAMES as f32), slide(0.0, 48.0), step = 1.0)]
        overlap: u32,
        /// Whether the first frame stands before the run begins, so that `overlap` can reach there: a fresh copy of the first
        /// state fades in. Else the run needs those frames.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        first_stands: bool,
    },
    /// Moves and turns all by the step's own placement, and scales it.
    Place {
        /// Size as a multiple, no unit.
        #[parameter(label = "Size", unit = "×", range(1e-3, 1e3), slide(0.1, 3.0), step = 0.05)]
        scale: f32,
        /// The element about whose position it is turned and scaled; none: the origin.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        about: Option<Id>,
    },
    /// Shows the frames once for each copy of a grid, each copy at a time of its own.
    Copies {
        /// The grid, about the element's position at the first frame; of the whole shot, about the origin.
        #[parameter(nested)]
        grid: Copies,
        /// Number of frames by which each copy is later than the one before; negative: earlier.
        #[serde(default)]
        #[parameter(label = "Each later by", unit = "frames", range(-(MAX_FRAMES as f32), MAX_FRAMES as f32), slide(-24.0, 24.0), step = 1.0)]
        delay_frames: i32,
        /// Each copy is later by a further random number of frames, from 0 to this.
        #[serde(default)]
        #[parameter(label = "At random, up to", unit = "frames", fixed, range(0.0, MAX_FRAMES as f32), slide(0.0, 240.0), step = 1.0)]
        delay_jitter_frames: u32,
        /// Largest random fraction by which the size of a copy differs, 0–0.99.
        #[serde(default)]
        #[parameter(label = "± size", range(0.0, 0.99), slide(0.0, 0.95), step = 0.05)]
        size_variation: f32,
    },
}

/// A rule by which meshes are refined.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "snake_case")]
pub enum SubdivisionScheme {
    /// Of Catmull and Clark, for quads and all other faces.
    #[default]
    CatmullClark,
    /// Of Loop, for triangles.
    Loop,
}

impl FinishOperation {
    /// Whether it works on the surfaces of meshes.
    pub fn is_of_surfaces(&self) -> bool {
        matches!(self, Self::SmoothShape { .. } | Self::Thicken { .. } | Self::Subdivide { .. })
    }

    /// Whether it is seen with the frames only if it can be taken: by their faces and numbers.
    pub fn needs_frames_to_be_checked(&self) -> bool {
        self.is_of_surfaces() || matches!(self, Self::Copies { .. })
    }
}

impl Finish {
    /// A step of the whole shot that is taken.
    pub fn new(operation: FinishOperation) -> Self {
        Self { element: None, order: 0, enabled: true, operation }
    }
}

impl Element {
    /// The finishing step it is, if it is one.
    pub fn as_finish(&self) -> Option<&Finish> {
        if let ElementKind::Finish(finish) = &self.kind { Some(finish) } else { None }
    }
}

impl Shot {
    /// Numbers of the kept runs that its finishing steps show.
    pub fn kept_runs(&self) -> Vec<u32> {
        let run = |finish: &Finish| match finish.operation {
            FinishOperation::Join { run } | FinishOperation::Blend { run, .. } => Some(run),
            _ => None,
        };
        let mut runs: Vec<u32> =
            self.elements.iter().filter_map(Element::as_finish).filter_map(run).collect();
        runs.sort_unstable();
        runs.dedup();
        runs
    }

    /// The finishing steps of one element, or of the whole shot, in the order in which they are taken.
    pub fn finishing(&self, element: Option<Id>) -> Vec<(&Element, &Finish)> {
        let mut steps: Vec<_> =
            self.elements.iter().filter_map(|step| Some((step, step.as_finish()?))).collect();
        steps.retain(|(_, finish)| finish.element == element);
        steps.sort_by_key(|(step, finish)| (finish.order, step.id));
        steps
    }

    /// Whether any finishing step is taken.
    pub fn is_finished(&self) -> bool {
        self.elements.iter().filter_map(Element::as_finish).any(|finish| finish.enabled)
    }
}
