//! Channels of a document that is written into which are not read: they stay as they are.

use serde_json::{Value, json};

/// An animation with its channels that are not read, and the samplers of those.
pub struct Unread {
    name: Option<Value>,
    channels: Vec<Value>,
    samplers: Vec<Value>,
}

/// What of the animations of a document is not read.
pub fn unread(document: &Value, is_read: impl Fn(&Value) -> bool) -> Vec<Unread> {
    let animations = document.get("animations").and_then(Value::as_array);
    animations.into_iter().flatten().filter_map(|animation| of_animation(animation, &is_read)).collect()
}

fn of_animation(animation: &Value, is_read: &impl Fn(&Value) -> bool) -> Option<Unread> {
    let mut kept =
        Unread { name: animation.get("name").cloned(), channels: Vec::new(), samplers: Vec::new() };
    for channel in animation.get("channels")?.as_array()?.iter().filter(|channel| !is_read(channel)) {
        let sampler = channel.get("sampler").and_then(Value::as_u64)?;
        let sampler = animation.get("samplers")?.get(sampler as usize)?;
        let mut channel = channel.clone();
        channel["sampler"] = json!(kept.samplers.len());
        kept.channels.push(channel);
        kept.samplers.push(sampler.clone());
    }
    (!kept.channels.is_empty()).then_some(kept)
}

impl Unread {
    /// The accessors that its samplers use.
    pub fn accessors(&self) -> impl Iterator<Item = &Value> {
        self.samplers.iter().flat_map(|sampler| [sampler.get("input"), sampler.get("output")]).flatten()
    }

    /// How many channels there are.
    pub fn len(&self) -> usize {
        self.channels.len()
    }

    /// Puts the channels back: into the animation of the same name, else into one of their own.
    pub fn put_back(self, animations: &mut Vec<Value>) {
        let own = |animation: &Value| animation.get("name") == self.name.as_ref();
        let Some(animation) = animations.iter_mut().find(|animation| own(animation)) else {
            let mut animation = json!({ "channels": self.channels, "samplers": self.samplers });
            if let Some(name) = self.name {
                animation["name"] = name;
            }
            animations.push(animation);
            return;
        };
        let first = animation["samplers"].as_array().map_or(0, Vec::len);
        for mut channel in self.channels {
            let sampler = channel["sampler"].as_u64().unwrap_or(0) as usize;
            channel["sampler"] = json!(first + sampler);
            push(animation, "channels", channel);
        }
        self.samplers.into_iter().for_each(|sampler| push(animation, "samplers", sampler));
    }
}

fn push(animation: &mut Value, list: &str, value: Value) {
    match animation.get_mut(list).and_then(Value::as_array_mut) {
        Some(all) => all.push(value),
        None => animation[list] = json!([value]),
    }
}
