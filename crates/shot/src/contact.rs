//! Coefficients of a pair of bodies in contact.

/// Friction or restitution of a pair from the coefficients of the two bodies:
/// their mean.
///
/// The contact laws of solids and of particles, and the Sheet, all use this rule.
pub fn pair_coefficient(a: f32, b: f32) -> f32 {
    0.5 * (a + b)
}
