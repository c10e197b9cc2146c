//! Reading BVH: 60 joints and 20,000 frames. `cargo bench -p nimble-curve-formats`.

use std::fmt::Write as _;

use divan::counter::BytesCount;
use nimble_curve_core::space::Space;
use nimble_curve_formats::bvh;

fn main() {
    divan::main();
}

/// A chain of joints with numbers such as capture has: five digits, four of them decimals.
fn capture(joints: usize, frames: usize) -> Vec<u8> {
    let mut text = String::from("HIERARCHY\n");
    for joint in 0..joints {
        let (word, channels) = match joint {
            0 => ("ROOT", "6 Xposition Yposition Zposition Zrotation Xrotation Yrotation"),
            _ => ("JOINT", "3 Zrotation Xrotation Yrotation"),
        };
        let _ = writeln!(text, "{word} joint{joint}\n{{\nOFFSET 0 10 0\nCHANNELS {channels}");
    }
    text.push_str("End Site\n{\nOFFSET 0 10 0\n}\n");
    text.push_str(&"}\n".repeat(joints));
    let _ = writeln!(text, "MOTION\nFrames: {frames}\nFrame Time: 0.0083333");
    let mut state = 1_u64;
    for _ in 0..frames {
        for _ in 0..joints * 3 + 3 {
            state = state.wrapping_mul(6364136223846793005).wrapping_add(1442695040888963407);
            let _ = write!(text, "{:.4} ", (state >> 40) as f64 / 93206.0 - 90.0);
        }
        text.pop();
        text.push('\n');
    }
    text.into_bytes()
}

#[divan::bench(sample_count = 12)]
fn read_60_joints_20000_frames(bencher: divan::Bencher<'_, '_>) {
    let bytes = capture(60, 20_000);
    bencher
        .counter(BytesCount::new(bytes.len()))
        .bench_local(|| bvh::read(divan::black_box(&bytes), "capture", Space::CENTIMETRES_Y_UP).unwrap());
}
