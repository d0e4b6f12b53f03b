//! Meshes that a file moves; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, moving_meshes};

#[rstest]
#[case::particles_leave_with_twice_its_speed_and_their_own(moving_meshes::mesh_bounce())]
#[case::balls_rebound_by_the_law_of_restitution(moving_meshes::mesh_rebound())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
