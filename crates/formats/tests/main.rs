//! All tests of the crate in one program: linking one is far quicker than linking each.

mod common;

mod bvh;
mod collada;
mod collada_into;
mod constraints;
mod findings;
mod gltf;
mod gltf_constraints;
mod gltf_passed_on;
mod matrix;
mod moving_steps;
mod ncurve;
mod random;
mod read_back;
mod table;
mod usd;
mod usd_attributes;
mod usd_composed;
