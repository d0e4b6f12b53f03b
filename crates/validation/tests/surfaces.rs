//! Surfaces against published limits; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, surfaces};

#[rstest]
#[case::a_cube_goes_to_its_limit(surfaces::cube_limit())]
#[case::creased_edges_stay_sharp(surfaces::creased_edges())]
#[case::a_rough_ring_keeps_its_volume(surfaces::smoothed_volume())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
