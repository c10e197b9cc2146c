//! Operations: each takes a scene and returns a new one with a ledger of what became of every channel.

mod baked;
mod channel;

pub mod adapt;
mod anatomy;
pub mod bake;
pub mod budget;
pub mod capture;
pub mod carry;
pub mod check;
pub mod clips;
pub mod compare;
mod contact;
pub mod controllers;
pub mod conversion;
pub mod cycle;
mod fitting;
mod grip;
mod layered_rotation;
pub mod layers;
mod linear;
mod mixing;
mod names;
pub mod nodes;
mod onward;
pub mod pairing;
pub mod place;
pub mod profile;
pub mod reorder;
pub mod retime;
mod rigs;
pub mod root;
mod rotation_conversion;
mod sampled_function;
pub mod select;
pub mod space;
mod standing;
pub mod survey;
pub mod travel;
pub mod unbake;
pub mod unwind;

pub use anatomy::feet;
pub use channel::Tolerance;
pub use names::{body_part, body_part_rank, is_hand_or_foot};
pub use rigs::{RigPairing, apart};
