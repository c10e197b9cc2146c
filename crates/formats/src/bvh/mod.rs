//! BVH: a hierarchy with offsets and channels, then a row of numbers a frame.
//!
//! The format states neither unit nor up axis; whoever reads it says them. A joint's rotation channels, as listed
//! from left to right, are the factors of the product from left to right (`Zrotation Xrotation Yrotation` is
//! `R = Rz·Rx·Ry`), position channels replace the joint's offset, and end sites become nodes of the kind end. Other readers add
//! position channels to the offset: a root, which always has them, is written with an offset of zero, where both agree.

mod hierarchy;
mod lines;
mod motion;
mod read;
mod write;

pub use read::read;
pub use write::write;
pub(crate) use write::{stated, written};
