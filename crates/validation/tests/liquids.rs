//! Liquid against closed forms and published data; the formulas and tolerances stand in the experiments. The draught of a block, sloshing
//! and the drum take minutes and are run by `cargo xtask validate` alone.

use rstest::rstest;
use validation::{Experiment, liquids};

#[rstest]
#[case::pressure_rises_with_depth(liquids::hydrostatic_pressure())]
#[case::a_still_tank_is_still(liquids::stillness())]
#[case::a_dam_breaks_with_the_front_of_martin_and_moyce(liquids::dam_front())]
#[case::its_height_falls_as_theirs(liquids::dam_height())]
#[case::the_front_converges_at_first_order(liquids::dam_convergence())]
#[case::thick_liquid_has_the_profile_of_a_duct(liquids::duct())]
#[case::a_ball_sinks_as_stokes_and_haberman_have_it(liquids::sinking_ball())]
#[case::a_drop_rings_as_rayleigh_has_it(liquids::ringing_drop())]
#[case::a_drop_at_rest_is_the_cap_of_a_sphere(liquids::sessile_drop())]
#[case::a_ball_bobs_with_its_added_mass(liquids::bobbing())]
#[case::a_clinging_ball_and_its_liquid_keep_their_momentum(liquids::momentum())]
#[case::a_stretched_gel_relaxes(liquids::relaxation())]
#[case::mud_slumps_as_far_as_published(liquids::slump())]
#[case::a_jet_has_the_speed_of_free_fall(liquids::torricelli())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
