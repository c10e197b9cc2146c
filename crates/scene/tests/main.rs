//! Scenes as those who build on them see them.

mod rigs;
