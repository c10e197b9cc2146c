//! All tests of the crate in one program: linking one is far quicker than linking each.

mod agreement;
mod claims;
mod constrained;
mod evaluation;
mod followed;
mod found;
mod matched;
mod rematched;
mod restated;
mod several;
mod thinned;
mod worked;
