//! All tests of the crate in one program: linking one is far quicker than linking each.

mod curves;
mod exact;
mod lasting;
mod made;
mod recovery;
mod rotations;
mod splicing;
