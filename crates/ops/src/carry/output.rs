//! What becomes of tracks: new ones on the target, and entries of the ledger.

use nimble_curve_scene::controller::Controller;
use nimble_curve_scene::ledger::{Fate, MeasuredError};
use nimble_curve_scene::scene::{Target, Track};

use crate::channel::count;
use crate::rotation_conversion::ConvertedRotation;

/// A controller of the target.
#[derive(Clone, Debug)]
pub(super) struct Made {
    pub controller: Controller,
    pub fate: Fate,
    pub error: Option<MeasuredError>,
}

/// How a track of the source stands to a track of the target.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Role {
    /// It became that track.
    Main,
    /// The target's track is one more beside the one that it became.
    Beside,
    /// It went into a track that another one answers for.
    Folded,
    /// It has not been carried.
    Failed,
}

/// What became of one track of the source.
#[derive(Clone, Debug)]
pub(super) struct Output {
    pub role: Role,
    /// The source's layer and property, and how many keys it has; `None` for what the source does not animate.
    pub from: Option<(usize, Target, usize)>,
    /// The layer of the result.
    pub layer: usize,
    pub target: Option<Target>,
    pub made: Option<Made>,
    pub note: String,
}

impl Output {
    pub fn made(layer: usize, track: &Track, target: &Target, turned: ConvertedRotation) -> Output {
        let ConvertedRotation { controller, fate, error, note } = turned;
        Output {
            role: Role::Main,
            from: Some((layer, track.target.clone(), count(track))),
            layer,
            target: Some(target.clone()),
            made: Some(Made { controller, fate, error }),
            note,
        }
    }

    /// A track of the target that the source has none for.
    pub fn added(layer: usize, target: &Target, turned: ConvertedRotation) -> Output {
        let ConvertedRotation { controller, fate, error, note } = turned;
        let made = Some(Made { controller, fate, error });
        Output { role: Role::Beside, from: None, layer, target: Some(target.clone()), made, note }
    }

    pub fn failed(layer: usize, track: &Track, why: impl Into<String>) -> Output {
        Output {
            role: Role::Failed,
            from: Some((layer, track.target.clone(), count(track))),
            layer,
            target: None,
            made: None,
            note: why.into(),
        }
    }

    pub fn folded(layer: usize, track: &Track, target: &Target, note: &str) -> Output {
        Output { role: Role::Folded, target: Some(target.clone()), ..Output::failed(layer, track, note) }
    }

    /// The source's layer, where it is another one than the result's.
    pub fn of_source_layer(mut self, layer: usize) -> Output {
        if let Some(from) = &mut self.from {
            from.0 = layer;
        }
        self
    }

    pub fn beside(self) -> Output {
        Output { role: Role::Beside, ..self }
    }
}
