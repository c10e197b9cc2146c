//! Random scenes through operations, with what the judge says of them; and faults put into results, each of which it names.

use std::sync::atomic::{AtomicUsize, Ordering};

use nimble_curve_curves::curve::Behaviour;
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::time::TimeRange;
use nimble_curve_curves::value::Quantity;
use nimble_curve_ops::Tolerance;
use nimble_curve_ops::bake::{BakeOptions, bake};
use nimble_curve_ops::controllers::{ConvertOptions, convert_controllers};
use nimble_curve_ops::conversion::ControllerType;
use nimble_curve_ops::layers::{FlattenOptions, flatten};
use nimble_curve_ops::reorder::{NewOrder, ReorderOptions, reorder};
use nimble_curve_ops::select::{Selection, select};
use nimble_curve_ops::space::in_space;
use nimble_curve_ops::unbake::{KeySets, UnbakeOptions, unbake};
use nimble_curve_scene::controller::{Controller, QuaternionInterpolation, TcbKeys, Weight};
use nimble_curve_scene::judge::{Claim, Limits, Sampling, Scope, Verdict, inventory, judge};
use nimble_curve_scene::ledger::Ledger;
use nimble_curve_scene::scene::Scene;
use nimble_curve_scene::space::{Handedness, Space, UpAxis};
use nimble_curve_testing::RATE;
use nimble_curve_testing::motion::cases;
use nimble_curve_testing::scenes::{Contents, any_order, any_scene};
use proptest::prelude::*;
use proptest::sample::select as one_of;

/// Everything, but layers that count in part: of a turn that part goes by how far round it came, which a cut or another order
/// may forget; and but handles that stand upright, beside which no finite slope is near enough.
const WHOLE: Contents =
    Contents { weights: false, handles: nimble_curve_testing::Handles::Plain, ..Contents::ALL };

/// A tenth of a degree, half a millimetre, a thousandth, and room for what refits do not see between the instants that they
/// look at: the program refuses that.
fn limits(tolerance: &Tolerance, scene: &Scene) -> Limits {
    let of = |quantity| tolerance.of(quantity, &scene.space) * 2.5;
    Limits {
        angle: of(Quantity::Angle),
        length: of(Quantity::Length),
        number: of(Quantity::Number),
        ..Limits::NONE
    }
}

fn judged(source: &Scene, result: &Scene, ledger: &Ledger, tolerance: &Tolerance) -> Verdict {
    let claim = Claim::same(source, result).excusing(source, ledger);
    judge(source, result, &claim, limits(tolerance, result), 1.0)
}

/// When turns as wholes, keys with tension and samples stand.
fn rows(controller: &Controller) -> String {
    match controller {
        Controller::Quaternion(curve) => {
            let keys =
                curve.keys.iter().map(|key| format!("{} {:?}", RATE.frame(key.time), key.interpolation));
            format!("\n    {:?} {:?} {}", curve.before, curve.after, keys.collect::<Vec<_>>().join(", "))
        }
        Controller::Procedural(procedural) => procedural.sampled.as_deref().map_or(String::new(), rows),
        Controller::Tcb(curve) => {
            let times =
                controller.own_key_times().concat().into_iter().map(|time| RATE.frame(time).to_string());
            format!("\n    {:?} {:?} {}", curve.before, curve.after, times.collect::<Vec<_>>().join(", "))
        }
        Controller::Samples(samples) => format!("\n    {} from {}", samples.len(), RATE.frame(samples.start)),
        _ => String::new(),
    }
}

/// What drives the node that is off, on both sides.
pub(crate) fn drivers(scene: &Scene, take: usize, node: (usize, nimble_curve_scene::rig::NodeId)) -> String {
    let take = &scene.takes[take];
    let own = take.tracks().filter(|(_, track)| (track.target.rig, track.target.node) == node);
    let shown = own.map(|(layer, track)| {
        let of = &take.layers[layer];
        let controller = match &track.controller {
            nimble_curve_scene::controller::Controller::Stack(entries) => format!(
                "stack {:?}",
                entries
                    .iter()
                    .map(|e| format!(
                        "{:?} {} {:?}",
                        e.weight.constant(),
                        e.controller.type_name(),
                        e.controller.order()
                    ))
                    .collect::<Vec<_>>()
            ),
            other => other.type_name().to_owned(),
        };
        format!(
            "\n    {} {:?} {:?} {:?}{}: {controller} {:?}",
            track.target.property,
            of.mode,
            of.rotations,
            of.weight.constant(),
            if of.muted { " muted" } else { "" },
            track.controller.order(),
        ) + &rows(&track.controller)
            + &track
                .controller
                .curves()
                .iter()
                .filter(|_| std::env::var_os("CURVES").is_some())
                .map(|curve| {
                    let keys = curve.keys().iter().map(|key| {
                        format!(
                            "{}:{:.3}{}{:?}{}",
                            RATE.frame(key.time),
                            key.value,
                            key.value_before.map_or(String::new(), |v| format!("({v:.3})")),
                            key.interpolation,
                            if key.added { "+" } else { "" }
                        )
                    });
                    format!(
                        "\n    rotation Over [{}] {:?} {:?} {:?}",
                        keys.collect::<Vec<_>>().join(" "),
                        curve.before,
                        curve.after,
                        curve.inner_loop()
                    )
                })
                .collect::<String>()
    });
    shown.collect()
}

fn passes((source, result): (&Scene, &Scene), verdict: &Verdict) -> Result<(), TestCaseError> {
    if let Some((judged, error, _)) = verdict.beyond() {
        let node = |target: &nimble_curve_scene::scene::Target| (target.rig, target.node);
        return Err(TestCaseError::fail(format!(
            "{:?} of {:?} is {} off at frame {}\n  source:{}\n  result:{}\n",
            judged.part,
            judged.source,
            if error.quantity == Quantity::Angle { error.largest.to_degrees() } else { error.largest },
            error.frame,
            drivers(source, judged.source_take, node(&judged.source)),
            drivers(result, judged.take, node(&judged.result)),
        )));
    }
    prop_assert!(verdict.missing.is_empty(), "{:?}", verdict.missing);
    Ok(())
}

/// How many cases a property had, and how many of these the program would refuse: a turn may pass the pole of the angles asked
/// for within less than the sixteenth of a frame at which refits look.
struct Refusals {
    cases: AtomicUsize,
    refused: AtomicUsize,
}

impl Refusals {
    const fn none() -> Refusals {
        Refusals { cases: AtomicUsize::new(0), refused: AtomicUsize::new(0) }
    }

    /// Refusals are rare, or the case fails.
    fn count(&self, scenes: (&Scene, &Scene), verdict: &Verdict) -> Result<(), TestCaseError> {
        let cases = self.cases.fetch_add(1, Ordering::Relaxed) + 1;
        let Err(refusal) = passes(scenes, verdict) else { return Ok(()) };
        let refused = self.refused.fetch_add(1, Ordering::Relaxed) + 1;
        prop_assert!(verdict.missing.is_empty(), "{:?}", verdict.missing);
        if refused > 1 + cases / 20 { Err(refusal) } else { Ok(()) }
    }
}

/// A controller whose parts count wholly, and whose turns go along great arcs: cubics of quaternions that nearly vanish swing
/// as fast as tension keys.
fn calm(controller: &mut Controller) {
    match controller {
        Controller::Quaternion(curve) => {
            for key in &mut curve.keys {
                if key.interpolation != QuaternionInterpolation::Step {
                    key.interpolation = QuaternionInterpolation::Slerp;
                }
            }
        }
        Controller::Stack(entries) => {
            for entry in entries {
                entry.weight = Weight::FULL;
                calm(&mut entry.controller);
            }
        }
        Controller::Procedural(procedural) => procedural.sampled.iter_mut().for_each(|own| calm(own)),
        // What goes round by itself jumps wherever a round of it ends: which side of the jump a cut, or a last frame, meant is not told.
        Controller::Tcb(curve) if curve.after.is_loop() => curve.after = Behaviour::Held,
        _ => {}
    }
}

fn turns_by_tension(controller: &Controller) -> bool {
    match controller {
        Controller::Tcb(curve) => matches!(curve.keys, TcbKeys::Rotation(_)),
        Controller::Stack(entries) => entries.iter().any(|entry| turns_by_tension(&entry.controller)),
        Controller::Procedural(procedural) => procedural.sampled.as_deref().is_some_and(turns_by_tension),
        _ => false,
    }
}

/// The same scene with stacks whose entries count wholly, see [`WHOLE`].
pub(crate) fn without_parts(mut scene: Scene) -> Scene {
    for layer in scene.takes.iter_mut().flat_map(|take| &mut take.layers) {
        // Keys of turns with tension may swing half round, or an ease be over, within less than the sixteenth of a frame at
        // which refits look.
        layer.tracks.retain(|track| !turns_by_tension(&track.controller));
        layer.tracks.iter_mut().for_each(|track| calm(&mut track.controller));
    }
    scene
}

/// Does something within a tolerance, and closer where the judge finds it farther off, as the program does.
fn closely(mut job: impl FnMut(f64) -> Verdict) -> Verdict {
    let mut factor = 1.0;
    for _ in 0..2 {
        let verdict = job(factor);
        let excess = verdict.excess();
        if !(1.0 < excess && excess < 3.0) {
            return verdict;
        }
        factor *= 0.95 / excess;
    }
    job(factor)
}

proptest! {
    #![proptest_config(cases(40))]

    #[test]
    fn another_space_is_the_same(scene in any_scene(WHOLE).prop_map(without_parts), up in one_of(vec![UpAxis::X, UpAxis::Y, UpAxis::Z])) {
        let space = Space { metres_per_unit: 0.01, up, handedness: Handedness::Left };
        let (result, ledger) = in_space(&scene, &space);
        let exact = Tolerance { angle: 1e-6, length: 1e-6, number: 1e-6 };
        passes((&scene, &result), &judged(&scene, &result, &ledger, &exact))?;
    }

    #[test]
    fn another_order_is_within_the_tolerance(scene in any_scene(WHOLE).prop_map(without_parts), order in any_order()) {
        static REFUSALS: Refusals = Refusals::none();
        let options = ReorderOptions { to: NewOrder::To(order), only: Vec::new(), tolerance: 0.1_f64.to_radians(), handles: None };
        let mut made = scene.clone();
        let verdict = closely(|factor| {
            let closer = ReorderOptions { tolerance: options.tolerance * factor, ..options.clone() };
            let (result, ledger) = reorder(&scene, &closer).unwrap();
            made = result;
            judged(&scene, &made, &ledger, &Tolerance::default())
        });
        REFUSALS.count((&scene, &made), &verdict)?;
    }

    #[test]
    fn one_layer_is_within_the_tolerance(scene in any_scene(WHOLE).prop_map(without_parts)) {
        static REFUSALS: Refusals = Refusals::none();
        let mut made = scene.clone();
        let verdict = closely(|factor| {
            let options = FlattenOptions { tolerance: Tolerance::default().times(factor), ..FlattenOptions::default() };
            let (result, ledger) = flatten(&scene, &options).unwrap();
            made = result;
            judged(&scene, &made, &ledger, &Tolerance::default())
        });
        REFUSALS.count((&scene, &made), &verdict)?;
    }

    #[test]
    fn another_type_is_within_the_tolerance(
        scene in any_scene(WHOLE).prop_map(without_parts), form in one_of(vec![ControllerType::Curves, ControllerType::Quaternion, ControllerType::Constant]),
    ) {
        static REFUSALS: Refusals = Refusals::none();
        let mut made = scene.clone();
        let verdict = closely(|factor| {
            let options = ConvertOptions { form, only: Vec::new(), tolerance: Tolerance::default().times(factor) };
            let (result, ledger) = convert_controllers(&scene, &options);
            made = result;
            judged(&scene, &made, &ledger, &Tolerance::default())
        });
        REFUSALS.count((&scene, &made), &verdict)?;
    }

    #[test]
    fn samples_are_the_same_where_they_are(scene in any_scene(WHOLE).prop_map(without_parts)) {
        let (result, ledger) = bake(&scene, &BakeOptions::default());
        let exact = Tolerance { angle: 1e-6, length: 1e-6, number: 1e-6 };
        let mut claim = Claim::same(&scene, &result).excusing(&scene, &ledger);
        claim.sampling = Sampling::Result;
        passes((&scene, &result), &judge(&scene, &result, &claim, limits(&exact, &scene), 1.0))?;
    }

    #[test]
    fn fitted_curves_are_within_the_tolerance_at_the_samples(scene in any_scene(WHOLE).prop_map(without_parts)) {
        let options = UnbakeOptions { keys: KeySets::Free, handles: Handles::Plain, ..UnbakeOptions::default() };
        let unbaked = unbake(&scene, &options).unwrap();
        let mut claim = Claim::same(&scene, &unbaked.scene).excusing(&scene, &unbaked.ledger);
        claim.sampling = Sampling::KeysOfSource;
        passes((&scene, &unbaked.scene), &judge(&scene, &unbaked.scene, &claim, limits(&Tolerance::default(), &scene), 1.0))?;
    }

    #[test]
    fn a_part_is_as_it_was(scene in any_scene(WHOLE).prop_map(without_parts), first in 0..20_i64, length in 4..30_i64) {
        let range = TimeRange::new(RATE.ticks(first), RATE.ticks(first + length));
        let (mut made, mut said) = (scene.clone(), Ledger::default());
        let mut chosen = true;
        let verdict = closely(|factor| {
            let tolerance = Tolerance::default().times(factor);
            let selection = Selection { range: Some(range), tolerance, ..Selection::default() };
            let Ok((result, ledger)) = select(&scene, &selection) else {
                chosen = false;
                return Verdict::new(Limits::NONE);
            };
            (made, said) = (result, ledger);
            judged(&scene, &made, &said, &Tolerance::default())
        });
        // A range that no take has.
        prop_assume!(chosen);
        passes((&scene, &made), &verdict)?;
        let (result, ledger) = (made, said);
        let claim = Claim::same(&scene, &result).excusing(&scene, &ledger);
        prop_assert_eq!(inventory(&scene, &result, &claim, Scope::Everything), Vec::<String>::new());
    }
}
