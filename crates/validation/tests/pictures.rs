//! The renderer against light transport; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, pictures};

#[rstest]
#[case::a_matt_ball_under_a_sun_matches_lambert(pictures::sun())]
#[case::a_matt_ball_before_a_rectangle_matches_lamberts_polygon_formula(pictures::area_light())]
#[case::a_white_matt_ball_in_a_white_furnace_is_invisible(pictures::furnace("furnace-matt", 0.0, 0.0))]
#[case::a_white_metal_ball_in_a_white_furnace_is_invisible(pictures::furnace("furnace-metal", 1.0, 0.0))]
#[case::a_white_glass_ball_in_a_white_furnace_is_invisible(pictures::furnace("furnace-glass", 0.0, 1.0))]
#[case::a_white_mixed_ball_in_a_white_furnace_is_invisible(pictures::furnace("furnace-mixed", 0.4, 0.5))]
#[case::noise_falls_with_the_root_of_the_samples_or_faster(pictures::noise())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
