//! Soft bodies against beam theory and elastic waves; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, soft};

#[rstest]
#[case::a_bar_sags_as_a_beam(soft::cantilever())]
#[case::a_hung_bar_narrows_by_poissons_ratio(soft::contraction())]
#[case::a_ball_rings_in_its_lowest_mode(soft::ringing_sphere())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
