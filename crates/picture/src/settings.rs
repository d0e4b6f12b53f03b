//! How a picture is rendered.

/// How to render.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Settings {
    /// Pixels across.
    pub width: u32,
    /// Pixels down.
    pub height: u32,
    /// Paths a pixel.
    pub samples: u32,
    /// Bound on what one path adds after its first surface, as the exposure
    /// shows it: 1 is white. It tames light found by rare chance, at the price
    /// of some of it; infinite for pictures that are to be scene-linear.
    pub clamp: f32,
    /// Whether mirrors and glass that a path meets after a matt surface are
    /// taken as rougher than they are, so that light through them is sampled
    /// and not found by rare chance; caustics come out softer.
    pub soften: bool,
}

impl Settings {
    /// A bound for drafts, as the exposure shows it.
    pub const DRAFT_CLAMP: f32 = 3.0;
}

impl Default for Settings {
    fn default() -> Self {
        Self { width: 1280, height: 720, samples: 64, clamp: f32::INFINITY, soften: true }
    }
}
