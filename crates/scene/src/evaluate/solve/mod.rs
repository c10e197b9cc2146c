//! Constraints worked out at an instant: nodes in order of what depends on what, each by its own curves first and then by its
//! constraints, in the order of the file.

mod back;
mod beside;
mod kinds;
mod limb;
mod plan;
mod solver;
mod stand;
mod state;

pub use self::back::{Serves, Wanted};
pub use self::kinds::twist;
pub use self::plan::{driving, solvable};
pub use self::solver::Solver;
pub use self::stand::{Parts, Stand};
