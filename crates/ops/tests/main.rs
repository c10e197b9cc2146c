//! All tests of the crate in one program: linking one is far quicker than linking each.

mod asleep;
mod captured;
mod carriers;
mod carry;
mod chains;
mod check;
mod claimed;
mod claims;
mod clips;
mod closing;
mod controllers;
mod feet;
mod held;
mod home;
mod joining;
mod judged;
mod layers;
mod mirrored;
mod naming;
mod numbers;
mod other_rigs;
mod pairing;
mod placing;
mod profiles;
mod random;
mod root_refusals;
mod rooting;
mod rounds;
mod seeded;
mod timeline;
mod unscale;
mod unwind;

use nimble_curve_ops::Tolerance;

/// A thousandth of a radian, of a unit of length, of a number.
const THOUSANDTH: Tolerance = Tolerance { angle: 1e-3, length: 1e-3, number: 1e-3 };
