//! Experiments with a known answer: closed forms and published data.
//!
//! Each [`Experiment`] is a test (`tests/`) and a row with a plot in
//! `docs/validation.md`, written by `cargo xtask validate`.
#![forbid(unsafe_code)]
#![warn(missing_docs)]

pub mod cloth;
pub mod departures;
pub mod drape;
pub mod finishing;
pub mod flags;
pub mod forces;
pub mod liquids;
pub mod loops;
pub mod moving_meshes;
pub mod particles;
pub mod pictures;
pub mod soft;
pub mod solids;
pub mod surfaces;

/// One measurement against its closed form.
#[derive(Clone, Debug)]
pub struct Experiment {
    /// File name of the plot, and anchor.
    pub key: &'static str,
    /// What is stated, as a sentence.
    pub statement: String,
    /// The formula of the expected value.
    pub formula: &'static str,
    /// The expected value.
    pub expected: f64,
    /// What was measured.
    pub measured: f64,
    /// Allowed difference: of the expected value, or absolute if that is 0.
    pub tolerance: f64,
    /// Unit of both values.
    pub unit: &'static str,
    /// Axes of the plot.
    pub axes: (&'static str, &'static str),
    /// Measured curve.
    pub curve: Vec<(f64, f64)>,
    /// Expected curve.
    pub reference: Vec<(f64, f64)>,
}

impl Experiment {
    /// Difference from what is expected: relative, or absolute if that is 0.
    pub fn error(&self) -> f64 {
        let difference = (self.measured - self.expected).abs();
        if self.expected == 0.0 { difference } else { difference / self.expected.abs() }
    }

    /// Whether the difference is allowed.
    pub fn holds(&self) -> bool {
        self.error() <= self.tolerance
    }

    /// Panics with all numbers if the difference is not allowed.
    pub fn assert_holds(&self) {
        let Self { statement, expected, measured, tolerance, .. } = self;
        let error = self.error();
        assert!(
            self.holds(),
            "{statement}: {expected} expected, {measured} measured, {error:.4} off, {tolerance} allowed"
        );
    }
}

/// A chapter of the page, and its experiments.
pub type Chapter = (&'static str, fn() -> Vec<Experiment>);

/// The chapters of the page.
pub const CHAPTERS: [Chapter; 14] = [
    ("Solids", solids::all),
    ("Forces", forces::all),
    ("Particles", particles::all),
    ("Cloth", cloth::all),
    ("Drape", drape::all),
    ("Flags", flags::all),
    ("Soft bodies", soft::all),
    ("Liquid", liquids::all),
    ("Ropes and films", liquids::ropes_and_films),
    ("Moving meshes", moving_meshes::all),
    ("Finishing", finishing::all),
    ("Loops", loops::all),
    ("Surfaces", surfaces::all),
    ("Renderer", pictures::all),
];
