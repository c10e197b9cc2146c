//! All tests of the crate in one program: linking one is far quicker than linking each.

mod common;

mod bad_input;
mod bounded;
mod called;
mod carry;
mod check;
mod clips;
mod compare;
mod controls;
mod convert;
mod dependencies;
mod docs;
mod faces;
mod ground;
mod hidden;
mod judged;
mod layers;
mod lists;
mod main_job;
mod matching;
mod nodes;
mod noisy;
mod options;
mod placing;
mod random;
mod reorder;
mod rigs;
mod root;
mod run;
mod seen;
mod sensed;
mod sized;
mod told;
mod unbake;
mod words;
