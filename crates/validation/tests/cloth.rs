//! Cloth against statics and mechanics; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, cloth, drape, flags};

#[rstest]
#[case::a_hung_strip_stretches_by_its_weight(cloth::hung_strip())]
#[case::a_strip_hangs_as_a_catenary(cloth::catenary())]
#[case::a_clamped_strip_hangs_as_the_elastica(cloth::clamped_strip(false))]
#[case::so_it_does_on_an_irregular_mesh(cloth::clamped_strip(true))]
#[case::a_skin_grows_under_pressure(cloth::skin_pressure())]
#[case::a_swing_without_damping_keeps_its_amplitude(cloth::swinging_strip())]
#[case::a_sheet_slides_as_its_friction_allows(cloth::sliding_sheet())]
#[case::a_sheet_that_friction_holds_stays(cloth::resting_sheet())]
#[case::a_falling_sheet_comes_to_its_terminal_speed(cloth::falling_sheet())]
#[case::no_energy_comes_from_nowhere_in_a_minute(cloth::energy_of_a_minute())]
#[case::canvas_drapes_as_fabrics_of_its_bending_length(drape::drape_coefficient("canvas"))]
#[case::silk_drapes_as_fabrics_of_its_bending_length(drape::drape_coefficient("silk"))]
#[case::wool_drapes_as_fabrics_of_its_bending_length(drape::drape_coefficient("wool"))]
#[case::netting_drapes_as_fabrics_of_its_bending_length(drape::drape_coefficient("netting"))]
#[case::oilcloth_drapes_as_fabrics_of_its_bending_length(drape::drape_coefficient("oilcloth"))]
#[case::a_flag_begins_to_wave_at_the_speed_of_linear_stability(flags::flag_onset())]
#[case::its_waves_have_the_frequency_of_linear_stability(flags::flag_frequency())]
#[case::a_heavy_slender_flag_waves_from_the_speed_of_its_mass_ratio(flags::carried_air_onset(0.1))]
#[case::a_light_slender_flag_waves_from_the_speed_of_its_mass_ratio(flags::carried_air_onset(0.25))]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
