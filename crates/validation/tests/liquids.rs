//! Liquid against closed forms and published data; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, liquids};

#[rstest]
#[case::pressure_rises_with_depth(liquids::hydrostatic_pressure())]
#[case::a_still_tank_is_still(liquids::stillness())]
#[case::a_dam_breaks_with_the_front_of_martin_and_moyce(liquids::dam_front())]
#[case::its_height_falls_as_theirs(liquids::dam_height())]
#[case::a_jet_has_the_speed_of_free_fall(liquids::torricelli())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
