//! Bodies that go on where the take before them ended: moved along the ground, and turned about the up axis.

use glam::DVec3;
use nimble_curve_scene::scene::{Scene, Take};

use super::error::JoinError;
use crate::onward::{Seam, ends};
use crate::travel::level;

/// Moves each take as a whole to where the one before it ended, and turns it by what those before it turned.
///
/// A body that sways faces a little aside at the end of a clip; what each clip turned from its start to its end leaves
/// that out.
pub(super) fn go_on(base: &Scene, takes: &mut [Take]) -> Result<(), JoinError> {
    let mut end: Option<DVec3> = None;
    let mut turned = 0.0;
    for take in takes {
        let (first, last) = ends(base, take)?;
        if let Some(end) = end {
            let up = base.space.up.index();
            let (from, to) = (level(first.place, up), level(end, up));
            let seam = Seam { base, up, turn: turned, from, to };
            seam.apply(take).map_err(|fixed| JoinError::Cannot { channel: fixed.channel, why: fixed.why })?;
        }
        turned += last.heading - first.heading;
        end = Some(ends(base, take)?.1.place);
    }
    Ok(())
}
