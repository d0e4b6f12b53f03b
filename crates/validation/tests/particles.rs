//! Particles against mechanics and chance; the formulas and tolerances stand in the experiments.

use rstest::rstest;
use validation::{Experiment, particles};

#[rstest]
#[case::a_thrown_particle_follows_its_parabola(particles::flight())]
#[case::in_air_it_falls_along_a_hyperbolic_tangent(particles::drag())]
#[case::it_bounces_by_its_restitution(particles::bounce())]
#[case::it_slides_as_friction_allows(particles::incline())]
#[case::none_passes_a_thin_plate(particles::plate())]
#[case::a_split_keeps_momentum(particles::split())]
#[case::what_is_handed_over_keeps_momentum(particles::handed_over())]
#[case::packed_particles_keep_their_distance(particles::apart())]
#[case::births_are_even_by_area(particles::by_area())]
#[case::births_are_even_by_length(particles::by_length())]
#[case::births_are_even_by_volume(particles::by_volume())]
#[case::births_go_by_the_weight_of_a_map(particles::by_map())]
fn holds(#[case] experiment: Experiment) {
    experiment.assert_holds();
}
