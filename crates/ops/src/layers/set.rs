//! How layers are to be.

use nimble_curve_scene::controller::Weight;
use nimble_curve_scene::scene::{LayerMode, RotationMixing, Scene};

use super::LayersError;

/// What to set on a layer; what is `None` stays.
#[derive(Clone, Debug, Default)]
pub struct LayerSettings {
    /// How much of it counts.
    pub weight: Option<f64>,
    /// Whether it is switched off.
    pub muted: Option<bool>,
    /// How it joins what lies under it.
    pub mode: Option<LayerMode>,
    /// How its rotations do.
    pub rotations: Option<RotationMixing>,
    /// A new name.
    pub name: Option<String>,
}

/// Sets what is given on the layer of a name in every take that has it; returns how many there were.
///
/// # Errors
/// See [`LayersError`].
pub fn set(scene: &mut Scene, layer: &str, settings: &LayerSettings) -> Result<usize, LayersError> {
    if settings.weight.is_some_and(|weight| !weight.is_finite()) {
        return Err(LayersError::Weight);
    }
    let mut found = 0;
    for take in &mut scene.takes {
        let taken = |name: &String| name != layer && take.layers.iter().any(|other| other.name == *name);
        let has = take.layers.iter().any(|other| other.name == layer);
        if let Some(name) = settings.name.as_ref().filter(|name| has && taken(name)) {
            return Err(LayersError::Taken(name.clone()));
        }
        for layer in take.layers.iter_mut().filter(|other| other.name == layer) {
            found += 1;
            if let Some(weight) = settings.weight {
                layer.weight = Weight::Constant(weight);
            }
            layer.muted = settings.muted.unwrap_or(layer.muted);
            layer.mode = settings.mode.unwrap_or(layer.mode);
            layer.rotations = settings.rotations.unwrap_or(layer.rotations);
            if let Some(name) = &settings.name {
                layer.name.clone_from(name);
            }
        }
    }
    if found == 0 { Err(LayersError::NoLayer(layer.to_owned())) } else { Ok(found) }
}
