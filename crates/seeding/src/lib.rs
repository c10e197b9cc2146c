//! Small faults, many in one build: each is compiled in beside what it changes, and a variable chooses which one is alive.
//!
//! A mutation tool builds the code once for each change, which takes a minute each here; its list of changes is read instead
//! (`cargo mutants --list --json`), and a hundred and fifty of them are woven into a copy of the sources:
//!
//! ```
//! use nimble_curve_seeding::{Change, Woven, weave};
//!
//! let source = "fn half(x: f64) -> f64 { x / 2.0 }";
//! let change = Change::from_json(r#"{ "file": "half.rs", "genre": "BinaryOperator", "replacement": "*", "name": "",
//!     "span": { "start": { "line": 1, "column": 28 }, "end": { "line": 1, "column": 29 } } }"#).unwrap();
//! let Woven { text, without } = weave(source, &[(7, change)]).unwrap();
//! assert_eq!(text, "fn half(x: f64) -> f64 { (if crate::seeded_change(7) { x * 2.0 } else { x / 2.0 }) }");
//! assert!(without.is_empty());
//! ```
//!
//! Lines stay as they are, so that what the compiler refuses can be told by its line and left out.

mod change;
mod weave;

pub use change::{Change, Genre, Place, Span, shuffled};
pub use weave::{SWITCH, Woven, weave};
