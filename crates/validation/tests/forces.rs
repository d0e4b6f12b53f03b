//! Forces, time and waking against mechanics; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, forces};

#[rstest]
#[case::a_ball_falling_in_air_reaches_its_terminal_velocity(forces::terminal_velocity())]
#[case::it_gets_there_along_a_hyperbolic_tangent(forces::approach())]
#[case::an_orbit_keeps_its_energy_over_ten_turns(forces::orbit())]
#[case::slow_motion_leaves_the_way_as_it_is(forces::slow_motion())]
#[case::a_body_woken_by_a_touch_takes_up_its_momentum(forces::wake())]
#[case::a_keyed_pull_gives_the_momentum_under_its_curve(forces::keyed_pull())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
