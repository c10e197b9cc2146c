//! Samples that are no motion.

use nimble_curve_curves::value::Quantity;

use super::{Channel, Code, Finding};
use crate::capture::{Fault, faults};

pub(super) fn findings(channel: &Channel<'_>) -> Vec<Finding> {
    let Channel { scene, take, layer, track, address, .. } = channel;
    let found = faults(scene, take, (*layer, track), address);
    let finding = |fault: crate::capture::ChannelFault| {
        let size = match fault.quantity {
            Quantity::Angle => format!("{:.1} deg", fault.off.to_degrees()),
            Quantity::Length => format!("{:.1} mm", fault.off * scene.space.metres_per_unit * 1000.0),
            Quantity::Number => format!("{:.3}", fault.off),
        };
        let (code, detail) = match fault.fault {
            Fault::Spike => (Code::Spike, format!("off by {size}")),
            Fault::Dropout => (Code::Dropout, format!("then a leap of {size}")),
        };
        channel.finding(code, detail).at(fault.frames.0, fault.frames.1)
    };
    found.into_iter().map(finding).collect()
}
