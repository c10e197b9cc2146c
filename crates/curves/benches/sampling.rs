//! Sampling curves in order, on one core. `cargo bench -p nimble-curve-curves --bench sampling`.

use divan::counter::ItemsCount;
use nimble_curve_curves::curve::{Cursor, Curve, Key, Tangent};
use nimble_curve_curves::time::FrameRate;

fn main() {
    divan::main();
}

const RATE: FrameRate = FrameRate::FPS_24;
const KEYS: i64 = 1_000;
const GAP: i64 = 12;
/// Sixteen samples a frame.
const STEPS: usize = (KEYS * GAP * 16) as usize;

fn value(index: i64) -> f64 {
    (index.wrapping_mul(2_654_435_761) % 1000) as f64 / 10.0
}

fn plain() -> Curve {
    Curve::new((0..=KEYS).map(|index| Key::new(RATE.ticks(index * GAP), value(index))).collect()).unwrap()
}

/// Handles of all lengths, none of them a third.
fn weighted() -> Curve {
    let gap = RATE.ticks(GAP).as_f64();
    let key = |index: i64| Key {
        tangent_in: Tangent::handle(gap * (0.1 + value(index + 7) / 150.0), value(index + 3) - 50.0),
        tangent_out: Tangent::handle(gap * (0.1 + value(index + 5) / 150.0), value(index + 2) - 50.0),
        joined: false,
        ..Key::new(RATE.ticks(index * GAP), value(index))
    };
    Curve::new((0..=KEYS).map(key).collect()).unwrap()
}

fn sample(bencher: divan::Bencher<'_, '_>, curve: &Curve) {
    let mut out = vec![0.0; STEPS];
    bencher.counter(ItemsCount::new(STEPS)).bench_local(|| {
        Cursor::new(curve).fill(0.0, RATE.ticks_per_frame() / 16.0, 0.0, &mut out);
        divan::black_box(&out);
    });
}

#[divan::bench]
fn plain_cubics(bencher: divan::Bencher<'_, '_>) {
    sample(bencher, &plain());
}

#[divan::bench]
fn weighted_cubics(bencher: divan::Bencher<'_, '_>) {
    sample(bencher, &weighted());
}

#[divan::bench]
fn plain_cubics_one_by_one(bencher: divan::Bencher<'_, '_>) {
    let curve = plain();
    bencher.counter(ItemsCount::new(STEPS)).bench_local(|| {
        let mut cursor = Cursor::new(&curve);
        let step = RATE.ticks_per_frame() / 16.0;
        (0..STEPS).map(|index| cursor.value_at(index as f64 * step).unwrap_or(0.0)).sum::<f64>()
    });
}
