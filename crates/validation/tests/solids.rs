//! Rigid bodies against mechanics; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, solids};

#[rstest]
#[case::ball_falls_half_g_t_squared(solids::free_fall())]
#[case::ball_rolls_down_incline_at_five_sevenths_g_sin(solids::incline())]
#[case::ball_of_bounce_0_3_rebounds_to_e_squared(solids::rebound(0.3))]
#[case::ball_of_bounce_0_6_rebounds_to_e_squared(solids::rebound(0.6))]
#[case::ball_of_bounce_0_9_rebounds_to_e_squared(solids::rebound(0.9))]
#[case::sliding_box_stops_after_v_squared_over_two_mu_g(solids::sliding())]
#[case::head_on_collision_keeps_momentum(solids::collision())]
#[case::ten_stacked_boxes_stay_within_two_millimetres(solids::stack())]
#[case::nothing_passes_through_a_thin_plate(solids::plate())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}

#[test]
fn known_departures_are_no_greater_than_they_are_told() {
    for departure in validation::departures::all() {
        let most = match departure.unit {
            "J" => 1.0,
            "mm" | "mm/s" => 4.0,
            _ => 0.03 * departure.expected.abs(),
        };
        let off = (departure.measured - departure.expected).abs();
        assert!(off <= most, "{}: {off} {}", departure.statement, departure.unit);
    }
}
