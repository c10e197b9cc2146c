//! Prints where the nodes of a `.ncurve` file are in the world at whole and half frames, as JSON: in metres with y up, a
//! place and then what becomes of their three axes. For readers of other formats to be held against.

use glam::{DQuat, DVec3};
use nimble_curve_second::scene::Scene;
use serde_json::{Value, json};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = std::env::args().nth(1).ok_or("say a file")?;
    let text = std::fs::read_to_string(&path)?;
    let file: Value = serde_json::from_str(&text)?;
    let upright = match file["space"]["up"].as_str() {
        Some("z") => DQuat::from_rotation_x(-std::f64::consts::FRAC_PI_2),
        Some("x") => DQuat::from_rotation_z(std::f64::consts::FRAC_PI_2),
        _ => DQuat::IDENTITY,
    };
    let scene = Scene::read(&text);
    let mut takes = Vec::new();
    for (index, take) in scene.takes.iter().enumerate() {
        let (first, last) = take.range;
        let count = ((last - first) * 2.0).round() as usize + 1;
        let row = |node: usize, step: usize| -> [f64; 12] {
            let (world, _) = scene.world(index, node, first + step as f64 / 2.0);
            let place: DVec3 = upright * (world.translation * scene.unit);
            let axes = [world.matrix3.x_axis, world.matrix3.y_axis, world.matrix3.z_axis];
            let mut row = [0.0; 12];
            for (part, vector) in [place].into_iter().chain(axes.map(|axis| upright * axis)).enumerate() {
                row[part * 3..part * 3 + 3].copy_from_slice(&vector.to_array());
            }
            row
        };
        let rows = |node: usize| -> Vec<[f64; 12]> { (0..count).map(|step| row(node, step)).collect() };
        let nodes: Vec<Value> = (0..scene.nodes.len())
            .map(|node| json!({ "name": scene.nodes[node].name, "rows": rows(node) }))
            .collect();
        takes.push(json!({ "name": take.name, "first": first, "last": last, "nodes": nodes }));
    }
    println!("{}", json!({ "fps": scene.rate, "up": file["space"]["up"], "takes": takes }));
    Ok(())
}
