//! Check: what would go wrong later, each finding with its place.

mod controls;
mod keys;
mod motion;
mod names;
mod rest;
mod rotations;
mod samples;
mod takes;
mod target;

use std::fmt;

use nimble_curve_curves::value::Value;
use nimble_curve_scene::address::Addresses;
use nimble_curve_scene::evaluate::EvaluateError;
use nimble_curve_scene::scene::{PropertyKind, Scene, Take, Track};
use rayon::prelude::*;
use serde::Serialize;

pub use self::rest::is_unit_doubtful;
use super::channel::property;
use super::profile::Profile;

/// How bad a finding is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Worth knowing; often meant.
    Note,
    /// Will bite in most pipelines.
    Warning,
    /// Is wrong wherever it goes.
    Error,
}

impl fmt::Display for Severity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Severity::Note => "note",
            Severity::Warning => "warning",
            Severity::Error => "error",
        })
    }
}

/// What was found.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Code {
    /// A value that is not a finite number.
    NotANumber,
    /// Angles jump to another way of saying the same rotation.
    Flip,
    /// A scale factor below zero.
    NegativeScale,
    /// The target rig has no such node or property.
    NotOnRig,
    /// A file that is not as its standard says.
    NotToStandard,
    /// Keys outside the take's range.
    KeysOutsideRange,
    /// A take without keys.
    EmptyTake,
    /// A clip that reaches beyond its take.
    ClipOutsideTake,
    /// Parts of one performance that start or end at different frames.
    UnevenParts,
    /// The take starts at another frame than the profile wants.
    FirstFrame,
    /// Two keys on one frame.
    CrowdedKeys,
    /// A turn the long way round between two keys.
    LongWay,
    /// A foot that slides while it stands.
    SlidingFoot,
    /// A body that is elsewhere from one frame to the next.
    Jump,
    /// One sample far off between its neighbours.
    Spike,
    /// Samples that stand still until the motion is elsewhere.
    Dropout,
    /// A body that stands clearly above or below the ground.
    OffGround,
    /// A layer that is muted or has no weight.
    SilentLayer,
    /// Values beyond the limits of their attribute.
    BeyondLimits,
    /// Keys on a locked channel.
    LockedMoves,
    /// Keys on a joint that constraints drive wholly.
    DrivenKeys,
    /// A limb too short for its goal.
    OutOfReach,
    /// A pole close to the line of its limb.
    PoleOnLine,
    /// A turn that a roll takes a part of comes close to half a turn.
    RollFar,
    /// A character of an unlikely size.
    UnitScale,
    /// A scale that is not the same along all axes.
    UnevenScale,
    /// A rest pose with scale.
    RestScale,
    /// Nodes of one rig with one name.
    SameName,
    /// A name that the profile does not allow.
    NameNotAllowed,
    /// A name with leftovers of other files.
    LeftoverName,
    /// Rests otherwise on the target rig.
    OtherRest,
    /// Something else that the profile does not hold.
    NotInProfile,
    /// The range does not end where the keys do.
    RangePastKeys,
    /// Keys between whole frames.
    OffFrameKeys,
    /// A key on every frame.
    Baked,
    /// Keys that never change anything.
    StillChannel,
    /// A rotation close to the pole of its order.
    NearGimbalLock,
    /// Hips that travel without a root above them.
    NoRoot,
    /// An end or a locator that is animated.
    LocatorMoves,
    /// A weight left below full.
    PartialWeight,
    /// A switch between constraints that is left half way.
    HalfSwitch,
    /// Ends that nearly meet.
    NearlyLoops,
}

impl Code {
    /// All codes, the worst first.
    pub const ALL: [Code; 42] = [
        Code::NotANumber,
        Code::Flip,
        Code::NegativeScale,
        Code::NotOnRig,
        Code::NotToStandard,
        Code::KeysOutsideRange,
        Code::EmptyTake,
        Code::ClipOutsideTake,
        Code::UnevenParts,
        Code::FirstFrame,
        Code::CrowdedKeys,
        Code::LongWay,
        Code::SlidingFoot,
        Code::Jump,
        Code::Spike,
        Code::Dropout,
        Code::OffGround,
        Code::SilentLayer,
        Code::BeyondLimits,
        Code::LockedMoves,
        Code::DrivenKeys,
        Code::OutOfReach,
        Code::PoleOnLine,
        Code::RollFar,
        Code::UnitScale,
        Code::UnevenScale,
        Code::RestScale,
        Code::SameName,
        Code::NameNotAllowed,
        Code::LeftoverName,
        Code::OtherRest,
        Code::NotInProfile,
        Code::RangePastKeys,
        Code::OffFrameKeys,
        Code::Baked,
        Code::StillChannel,
        Code::NearGimbalLock,
        Code::NoRoot,
        Code::LocatorMoves,
        Code::PartialWeight,
        Code::HalfSwitch,
        Code::NearlyLoops,
    ];

    /// The code as it is written.
    pub fn name(self) -> &'static str {
        self.about().0
    }

    /// How bad it is.
    pub fn severity(self) -> Severity {
        match self {
            code if code <= Code::NotOnRig => Severity::Error,
            code if code <= Code::NotInProfile => Severity::Warning,
            _ => Severity::Note,
        }
    }

    /// What it means, as a sentence.
    pub fn meaning(self) -> &'static str {
        self.about().1
    }

    fn about(self) -> (&'static str, &'static str) {
        match self {
            Code::NotANumber => ("not-a-number", "values that are not finite numbers"),
            Code::Flip => ("flip", "angles jump while the rotation hardly moves"),
            Code::NegativeScale => {
                ("negative-scale", "scale below zero: mirrored geometry, turned-round normals")
            }
            Code::NotOnRig => ("not-on-rig", "animated here, but not to be found on the target rig"),
            Code::NotToStandard => (
                "not-to-standard",
                "the file is not as its standard says, and was read as what is plainly meant",
            ),
            Code::KeysOutsideRange => {
                ("keys-outside-range", "keys outside the take's range, which would be exported along")
            }
            Code::EmptyTake => ("empty-take", "a take without keys"),
            Code::ClipOutsideTake => ("clip-outside-take", "a clip that reaches beyond its take"),
            Code::UnevenParts => {
                ("uneven-parts", "parts of one performance that start or end at other frames")
            }
            Code::FirstFrame => ("first-frame", "the take starts at another frame than the profile wants"),
            Code::CrowdedKeys => ("crowded-keys", "two keys on one frame"),
            Code::LongWay => ("long-way", "a turn the long way round between two keys"),
            Code::SlidingFoot => ("sliding-foot", "a foot slides while it stands"),
            Code::Jump => ("jump", "the body is elsewhere from one frame to the next"),
            Code::Spike => ("spike", "one sample far off between its neighbours: no motion"),
            Code::Dropout => {
                ("dropout", "samples that stand still until the motion is elsewhere: nothing was seen")
            }
            Code::OffGround => ("off-ground", "the body floats above the ground, or sinks into it"),
            Code::SilentLayer => {
                ("silent-layer", "a layer that is muted or has no weight: it will be lost or come back")
            }
            Code::BeyondLimits => ("beyond-limits", "values beyond the limits of their attribute"),
            Code::LockedMoves => ("locked-moves", "keys on locked channels"),
            Code::DrivenKeys => {
                ("driven-keys", "keys on joints that constraints drive: they count for nothing")
            }
            Code::OutOfReach => ("out-of-reach", "a limb that is too short for its goal"),
            Code::RollFar => {
                ("roll-far", "a roll takes its part of a turn close to half a turn, beyond which it leaps")
            }
            Code::PoleOnLine => ("pole-on-line", "a pole close to the line of its limb, which spins there"),
            Code::UnitScale => ("unit-scale", "a character of an unlikely size: is the unit right?"),
            Code::UnevenScale => {
                ("uneven-scale", "scale that differs between the axes: shears what is below")
            }
            Code::RestScale => ("rest-scale", "a rest pose with scale"),
            Code::SameName => ("same-name", "nodes of one rig with one name"),
            Code::NameNotAllowed => ("name-not-allowed", "names that the profile does not allow"),
            Code::LeftoverName => ("leftover-name", "names with leftovers of other files"),
            Code::OtherRest => ("other-rest", "rests otherwise on the target rig"),
            Code::NotInProfile => ("not-in-profile", "not what the profile holds"),
            Code::RangePastKeys => ("range-past-keys", "the range does not end where the keys do"),
            Code::OffFrameKeys => ("off-frame-keys", "keys between whole frames"),
            Code::Baked => ("baked", "a key on every frame"),
            Code::StillChannel => ("still-channel", "keys that never change anything"),
            Code::NearGimbalLock => ("near-gimbal-lock", "close to the gimbal lock of its rotation order"),
            Code::NoRoot => ("no-root", "the hips travel, and no root stands above them"),
            Code::LocatorMoves => ("locator-moves", "ends and locators among what is animated"),
            Code::PartialWeight => ("partial-weight", "weights left below 100%"),
            Code::HalfSwitch => ("half-switch", "the weight of a constraint between none and all"),
            Code::NearlyLoops => ("nearly-loops", "the ends nearly meet"),
        }
    }
}

/// One thing that was found.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Finding {
    /// What it is.
    pub code: Code,
    /// The take, where it is of one.
    pub take: Option<String>,
    /// The node, channel, layer, clip or setting.
    pub place: String,
    /// The frames, first and last, where it has some.
    pub frames: Option<(f64, f64)>,
    /// How much, in words with units.
    pub detail: String,
}

impl Finding {
    fn new(code: Code, place: impl Into<String>, detail: impl Into<String>) -> Finding {
        Finding { code, take: None, place: place.into(), frames: None, detail: detail.into() }
    }

    fn in_take(self, take: &Take) -> Finding {
        Finding { take: Some(take.name.clone()), ..self }
    }

    fn at(self, first: f64, last: f64) -> Finding {
        Finding { frames: Some((first, last)), ..self }
    }
}

/// What to check against.
#[derive(Clone, Copy, Debug, Default)]
pub struct CheckOptions<'a> {
    /// The rig that is to get the animation.
    pub rig: Option<&'a Scene>,
    /// The application that is to get it.
    pub profile: Option<&'a Profile>,
    /// Where the file that the scene came from is not as its standard says, in its reader's words.
    pub mended: &'a [String],
}

/// What each check of a track looks at.
struct Channel<'a> {
    scene: &'a Scene,
    take: &'a Take,
    layer: usize,
    track: &'a Track,
    address: String,
    kind: PropertyKind,
    rest: Value,
}

impl Channel<'_> {
    fn finding(&self, code: Code, detail: impl Into<String>) -> Finding {
        Finding::new(code, self.address.clone(), detail).in_take(self.take)
    }
}

/// Looks for all that [`Code`] lists; the findings are in its order, then by take and place in the scene.
///
/// # Errors
/// Where a pose cannot be evaluated: controllers that are only text, without samples.
pub fn check(scene: &Scene, options: &CheckOptions<'_>) -> Result<Vec<Finding>, EvaluateError> {
    let addresses = Addresses::new(scene);
    let mended = options.mended.iter().map(|what| Finding::new(Code::NotToStandard, "file", what));
    let mut findings: Vec<Finding> = mended.collect();
    findings.extend(rest::findings(scene, &addresses));
    findings.extend(names::findings(scene, &addresses, options.profile));
    findings.extend(takes::findings(scene, &addresses, options.profile));
    for take in &scene.takes {
        let channels: Vec<Channel<'_>> = (take.tracks())
            .filter_map(|(layer, track)| {
                let (kind, rest) = property(scene, take, layer, track)?;
                let address = addresses.property(&track.target);
                Some(Channel { scene, take, layer, track, address, kind, rest })
            })
            .collect();
        let found: Vec<Vec<Finding>> = channels
            .par_iter()
            .map(|channel| {
                let mut own = keys::findings(channel);
                own.extend(samples::findings(channel));
                own.extend(rotations::findings(channel));
                own.extend(options.rig.into_iter().flat_map(|rig| target::limits(channel, rig)));
                own
            })
            .collect();
        findings.extend(found.into_iter().flatten());
        findings.extend(rotations::near_poles(scene, take, &addresses)?);
        findings.extend(motion::findings(scene, take, &addresses)?);
        findings.extend(controls::findings(scene, take, &addresses)?);
    }
    if let Some(rig) = options.rig {
        findings.extend(target::findings(scene, &addresses, rig));
    }
    // The sort is stable: places stay in the scene's order.
    findings.sort_by_key(|finding| finding.code);
    Ok(findings)
}
