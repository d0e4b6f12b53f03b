//! Finished frames against mechanics; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, finishing, loops};

#[rstest]
#[case::a_slowed_fall_is_a_parabola_between_frames(finishing::retimed_fall())]
#[case::slowed_bounces_go_no_deeper_than_computed(finishing::slowed_bounce())]
#[case::fast_spin_keeps_its_whole_turns(finishing::retimed_spin())]
#[case::reverse_of_reverse_is_the_same_bytes(loops::reversed_twice())]
#[case::the_frame_after_a_blended_loop_is_its_first(loops::blended_loop())]
#[case::the_seam_figure_is_the_jump_over_the_mean_motion(loops::seam_figure())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
