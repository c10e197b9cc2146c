//! From a scene to a table.

use nimble_curve_core::address::{Addresses, COMPONENTS};
use nimble_curve_core::angle::degrees;
use nimble_curve_core::controller::{Controller, SampleKind, Samples};
use nimble_curve_core::curve::{Behaviour, Curve, Discrete, Interpolation, Tangent, TangentMode, Ticks};
use nimble_curve_core::rotation::RotationOrder;
use nimble_curve_core::scene::{Scene, Target, Track};
use nimble_curve_core::value::{Quantity, Value};

use super::{COLUMNS, TableTimes};
use crate::error::Fault;
use crate::sheet::neutral;

/// The text of a table, and the tracks that have no place in it.
pub fn write(scene: &Scene, times: TableTimes) -> Result<(String, Vec<(String, Target)>), Fault> {
    let mut table =
        Table { scene, times, addresses: Addresses::new(scene), rows: csv::Writer::from_writer(Vec::new()) };
    let left_out = match table.common_grid() {
        Some(tracks) => table.samples(&tracks),
        None => table.keys(),
    };
    let left_out = left_out?;
    let bytes = table.rows.into_inner().map_err(|error| Fault::of_whole(error.to_string()))?;
    let unit = scene.space.unit_name().map_or_else(|| scene.space.metres_per_unit.to_string(), str::to_owned);
    let head =
        format!("# rate={} unit={unit} up={} hand={}\n", scene.rate, scene.space.up, scene.space.handedness);
    Ok((head + &String::from_utf8_lossy(&bytes), left_out))
}

struct Table<'a> {
    scene: &'a Scene,
    times: TableTimes,
    addresses: Addresses,
    rows: csv::Writer<Vec<u8>>,
}

/// Degrees, with six decimals where these lead back to the very radians.
fn shown(number: f64, quantity: Quantity) -> f64 {
    0.0 + if quantity == Quantity::Angle { degrees(number) } else { number }
}

impl<'a> Table<'a> {
    /// All tracks, where there is one take and all of it are samples on one grid.
    fn common_grid(&self) -> Option<Vec<(&'a Track, &'a Samples)>> {
        let [take] = self.scene.takes.as_slice() else { return None };
        let of = |track: &'a Track| match &track.controller {
            Controller::Samples(samples) if !samples.is_empty() && samples.kind != SampleKind::Matrix => {
                Some((track, samples))
            }
            _ => None,
        };
        let all: Vec<_> = take.tracks().map(|(_, track)| of(track)).collect::<Option<_>>()?;
        let (_, first) = *all.first()?;
        let alike = |(_, samples): &(&Track, &Samples)| {
            (samples.start, samples.rate, samples.len()) == (first.start, first.rate, first.len())
        };
        all.iter().all(alike).then_some(all)
    }

    fn record<I: IntoIterator<Item = T>, T: AsRef<[u8]>>(&mut self, row: I) -> Result<(), Fault> {
        self.rows.write_record(row).map_err(|error| Fault::of_whole(error.to_string()))
    }

    fn shown_time(&self, time: Ticks) -> Result<String, Fault> {
        self.times.shown(time, self.scene.rate)
    }

    fn quantity(&self, target: &Target) -> Quantity {
        let kind = self.scene.rigs[target.rig].property_kind(target.node, &target.property);
        kind.map_or(Quantity::Number, |kind| kind.quantity())
    }

    fn unit(&self, quantity: Quantity) -> String {
        match quantity {
            Quantity::Angle => "deg".to_owned(),
            Quantity::Length => self.scene.space.unit_name().unwrap_or("unit").to_owned(),
            Quantity::Number => String::new(),
        }
    }

    fn samples(&mut self, tracks: &[(&Track, &Samples)]) -> Result<Vec<(String, Target)>, Fault> {
        let mut names = vec![self.times.column().to_owned()];
        let quantities: Vec<Quantity> = (tracks.iter())
            .map(|(track, samples)| match samples.kind {
                SampleKind::Euler(_) => Quantity::Angle,
                SampleKind::Quaternion => Quantity::Number,
                _ => self.quantity(&track.target),
            })
            .collect();
        for (&(track, samples), &quantity) in tracks.iter().zip(&quantities) {
            let address = self.addresses.property(&track.target);
            let unit = match samples.kind {
                SampleKind::Euler(order) => format!(" (deg {order})"),
                SampleKind::Quaternion => " (quaternion)".to_owned(),
                _ if quantity == Quantity::Number => String::new(),
                _ => format!(" ({})", self.unit(quantity)),
            };
            let width = samples.kind.width();
            names.extend((0..width).map(|component| match width {
                1 => format!("{address}{unit}"),
                _ => format!("{address}.{}{unit}", COMPONENTS[component]),
            }));
        }
        self.record(&names)?;
        let first = tracks[0].1;
        for index in 0..first.len() {
            let mut row = vec![self.shown_time(first.time(index))?];
            for (&(_, samples), &quantity) in tracks.iter().zip(&quantities) {
                row.extend(samples.row(index).iter().map(|&number| shown(number, quantity).to_string()));
            }
            self.record(&row)?;
        }
        Ok(Vec::new())
    }

    fn keys(&mut self) -> Result<Vec<(String, Target)>, Fault> {
        self.record(COLUMNS.map(|name| if name == "frame" { self.times.column() } else { name }))?;
        let mut left_out = Vec::new();
        let scene = self.scene;
        for take in &scene.takes {
            for (_, track) in take.tracks() {
                if !self.track(&take.name, track, take.range.first)? {
                    left_out.push((take.name.clone(), track.target.clone()));
                }
            }
        }
        Ok(left_out)
    }

    /// Writes a track; whether it has a place.
    fn track(&mut self, take: &str, track: &Track, start: Ticks) -> Result<bool, Fault> {
        let address = self.addresses.property(&track.target);
        let mut quantity = self.quantity(&track.target);
        let (curves, order): (Vec<Curve>, Option<RotationOrder>) = match &track.controller {
            Controller::Components(curves) => (curves.clone(), None),
            Controller::Euler(euler) => (euler.curves.to_vec(), Some(euler.order)),
            Controller::Constant(Value::Euler { order, angles }) => {
                (angles.to_array().map(|angle| Curve::constant(start, angle)).to_vec(), Some(*order))
            }
            Controller::Constant(Value::Discrete(value)) => {
                self.discrete(take, &address, start, value)?;
                return Ok(true);
            }
            Controller::Constant(value @ (Value::Number(_) | Value::Vector(_))) => {
                let numbers = value.numbers().unwrap_or_default();
                (numbers.into_iter().map(|number| Curve::constant(start, number)).collect(), None)
            }
            Controller::Samples(samples) if samples.kind != SampleKind::Matrix => {
                let order = match samples.kind {
                    SampleKind::Euler(order) => Some(order),
                    _ => None,
                };
                if samples.kind == SampleKind::Quaternion {
                    return Ok(false);
                }
                (samples.lines(), order)
            }
            Controller::Discrete(curve) => {
                for (time, value) in curve.keys() {
                    self.discrete(take, &address, *time, value)?;
                }
                return Ok(true);
            }
            _ => return Ok(false),
        };
        if order.is_some() {
            quantity = Quantity::Angle;
        }
        let count = curves.len();
        if count > 3 {
            return Ok(false);
        }
        for (component, curve) in curves.iter().enumerate() {
            let channel =
                if count == 1 { address.clone() } else { format!("{address}.{}", COMPONENTS[component]) };
            self.curve(take, &channel, quantity, order, &curve.unrolled())?;
        }
        Ok(true)
    }

    fn discrete(&mut self, take: &str, channel: &str, time: Ticks, value: &Discrete) -> Result<(), Fault> {
        let text = match value {
            Discrete::Switch(on) => if *on { "on" } else { "off" }.to_owned(),
            Discrete::Choice(text) | Discrete::Text(text) => neutral(text).into_owned(),
        };
        let time = self.shown_time(time)?;
        let mut row = [""; COLUMNS.len()];
        let unit = match value {
            Discrete::Switch(_) => "switch",
            Discrete::Choice(_) => "choice",
            Discrete::Text(_) => "text",
        };
        let take = neutral(take);
        (row[0], row[1], row[2], row[4], row[5], row[7]) = (&take, channel, unit, &time, &text, "hold");
        self.record(row)
    }

    fn curve(
        &mut self,
        take: &str,
        channel: &str,
        quantity: Quantity,
        order: Option<RotationOrder>,
        curve: &Curve,
    ) -> Result<(), Fault> {
        let rate = self.scene.rate;
        let unit = self.unit(quantity);
        let rise = if quantity == Quantity::Angle { 1_f64.to_degrees() } else { 1.0 };
        for (index, key) in curve.keys().iter().enumerate() {
            let interpolation = match key.interpolation {
                Interpolation::Hold => "hold",
                Interpolation::Linear => "linear",
                Interpolation::Cubic => "cubic",
                Interpolation::None => "none",
            };
            let tangent = |tangent: Tangent| {
                let mode = match tangent.mode {
                    TangentMode::Auto => "auto",
                    TangentMode::AutoNoOvershoot => "auto-no-overshoot",
                    TangentMode::Flat => "flat",
                    TangentMode::Linear => "linear",
                    TangentMode::Free => "free",
                };
                let slope = tangent.slope_per_second() * rise / rate.fps();
                let frames = tangent.length().map(|dt| dt / rate.ticks_per_frame());
                (mode, (slope + 0.0).to_string(), frames.map_or(String::new(), |frames| frames.to_string()))
            };
            let (into, out) = (tangent(key.tangent_in), tangent(key.tangent_out));
            let outside = |behaviour: Behaviour| match behaviour {
                _ if index > 0 => String::new(),
                Behaviour::Held => "held".to_owned(),
                Behaviour::Linear => "linear".to_owned(),
                Behaviour::Sloped(slope) => format!("sloped {}", slope * rise / rate.fps()),
                Behaviour::LoopOffset => "loop-offset".to_owned(),
                Behaviour::Loop => "loop".to_owned(),
                Behaviour::LoopOscillate => "loop-oscillate".to_owned(),
                Behaviour::None => "none".to_owned(),
            };
            let row: [String; COLUMNS.len()] = [
                neutral(take).into_owned(),
                channel.to_owned(),
                unit.clone(),
                order.map_or(String::new(), |order| order.name().to_owned()),
                self.shown_time(key.time)?,
                shown(key.value, quantity).to_string(),
                key.value_before.map_or(String::new(), |left| shown(left, quantity).to_string()),
                interpolation.to_owned(),
                into.0.to_owned(),
                into.1,
                into.2,
                out.0.to_owned(),
                out.1,
                out.2,
                outside(curve.before),
                outside(curve.after),
            ];
            self.record(&row)?;
        }
        Ok(())
    }
}
