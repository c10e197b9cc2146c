//! Converting rotation orders, on one core. `cargo bench -p nimble-curve-curves --bench rotations`.

use divan::counter::ItemsCount;
use glam::DVec3;
use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::fit::Handles;
use nimble_curve_curves::rotation::{Conversion, EulerPath, RotationOrder, convert};
use nimble_curve_curves::time::FrameRate;

fn main() {
    divan::main();
}

const RATE: FrameRate = FrameRate::FPS_24;
const KEYS: i64 = 200;

/// Three channels of 200 keys, 8 frames apart, that swing by 60 degrees.
fn authored() -> [Curve; 3] {
    std::array::from_fn(|axis| {
        let value = |index: i64| {
            let random = (index * 3 + axis as i64 + 1).wrapping_mul(2_654_435_761) % 1000;
            (random as f64 / 1000.0 - 0.5) * 60_f64.to_radians()
        };
        Curve::new((0..KEYS).map(|index| Key::new(RATE.ticks(index * 8), value(index))).collect()).unwrap()
    })
}

/// With plain handles.
#[divan::bench(args = [0.01, 0.05, 0.5])]
fn plain(bencher: divan::Bencher<'_, '_>, tolerance: f64) {
    xyz_to_zxy(bencher, tolerance, Some(Handles::Plain));
}

/// With weighted handles where plain ones would need many keys, as here everywhere.
#[divan::bench(args = [0.01, 0.05, 0.5])]
fn fewest(bencher: divan::Bencher<'_, '_>, tolerance: f64) {
    xyz_to_zxy(bencher, tolerance, None);
}

/// Keys of the source, all three channels counted.
fn xyz_to_zxy(bencher: divan::Bencher<'_, '_>, tolerance: f64, handles: Option<Handles>) {
    let curves = authored();
    bencher.counter(ItemsCount::new(3 * KEYS as usize)).bench_local(|| {
        let path = EulerPath::new(RotationOrder::Xyz, &curves, DVec3::ZERO);
        let plain = Conversion::new(RotationOrder::Zxy, tolerance.to_radians(), RATE, DVec3::ZERO);
        convert(&path, &path.knots(None), &Conversion { handles, ..plain })
    });
}
