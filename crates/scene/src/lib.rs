//! Scenes: rigs, controllers and layers, what they come to at a time, and whether one scene is what another one says.
//!
//! [`scene::Scene`] holds everything; [`evaluate`] poses it; a [`ledger::Ledger`] says what became of every channel; [`judge`]
//! measures a result along a claim. Nothing here changes a scene.

pub mod address;
pub mod choice;
pub mod constraint;
pub mod controller;
mod driven;
pub mod evaluate;
pub mod hierarchy;
pub mod judge;
pub mod ledger;
pub mod parts;
pub mod rig;
pub mod scene;
pub mod similar;
pub mod space;
mod target;
pub mod validate;
