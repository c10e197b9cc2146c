//! Unbaking one channel, on one core. `cargo bench -p nimble-curve-curves --bench fitting`.

use divan::counter::ItemsCount;
use nimble_curve_curves::curve::{Curve, Key};
use nimble_curve_curves::fit::{ErrorBound, Handles, precision_of, unbaked};
use nimble_curve_curves::noise::noise_of;
use nimble_curve_curves::time::FrameRate;

fn main() {
    divan::main();
}

/// What capture looks like: slow swings, a shake, and noise.
fn capture(count: usize) -> Vec<f64> {
    let mut state = 1_u64;
    let mut random = move || {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 11) as f64 / (1_u64 << 53) as f64
    };
    (0..count)
        .map(|index| {
            let t = index as f64;
            20.0 * (0.021 * t).sin() + 6.0 * (0.053 * t).sin() + 0.2 * (0.7 * t).sin() + 0.02 * random()
        })
        .collect()
}

/// A bake of keys twelve frames apart.
fn baked(count: usize) -> Vec<f64> {
    let rate = FrameRate::FPS_24;
    let value = |index: i64| (index.wrapping_mul(2_654_435_761) % 1000) as f64 / 10.0;
    let keys = (0..=count as i64 / 12 + 1).map(|index| Key::new(rate.ticks(index * 12), value(index)));
    let curve = Curve::new(keys.collect()).unwrap();
    (0..count as i64).map(|frame| curve.value_at(rate.ticks(frame).as_f64()).unwrap()).collect()
}

fn run(bencher: divan::Bencher<'_, '_>, samples: &[f64], handles: Handles) {
    bencher.counter(ItemsCount::new(samples.len())).bench_local(|| {
        let samples = divan::black_box(samples);
        unbaked(samples, precision_of(samples, 1.0), ErrorBound::even(0.1), &[], handles)
    });
}

#[divan::bench(args = [2_000, 20_000], sample_count = 20)]
fn fitted(bencher: divan::Bencher<'_, '_>, count: usize) {
    run(bencher, &capture(count), Handles::Plain);
}

#[divan::bench(args = [2_000, 20_000], sample_count = 10)]
fn weighted(bencher: divan::Bencher<'_, '_>, count: usize) {
    run(bencher, &capture(count), Handles::Weighted);
}

#[divan::bench(args = [2_000, 20_000], sample_count = 20)]
fn noise(bencher: divan::Bencher<'_, '_>, count: usize) {
    let samples = capture(count);
    bencher.counter(ItemsCount::new(count)).bench_local(|| noise_of(divan::black_box(&samples)));
}

#[divan::bench(args = [2_000, 20_000], sample_count = 20)]
fn recovered(bencher: divan::Bencher<'_, '_>, count: usize) {
    run(bencher, &baked(count), Handles::Plain);
}

#[divan::bench(args = [20_000], sample_count = 20)]
fn constant(bencher: divan::Bencher<'_, '_>, count: usize) {
    run(bencher, &vec![12.5; count], Handles::Plain);
}
