//! Finished frames against mechanics; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, finishing};

#[rstest]
#[case::a_slowed_fall_is_a_parabola_between_frames(finishing::retimed_fall())]
#[case::slowed_bounces_go_no_deeper_than_computed(finishing::slowed_bounce())]
#[case::fast_spin_keeps_its_whole_turns(finishing::retimed_spin())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
