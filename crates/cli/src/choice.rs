//! Which channels or nodes a command is about.

use std::path::Path;

use clap::Args;
use nimble_curve_core::address::Addresses;
use nimble_curve_core::choice::Choice;
use nimble_curve_core::scene::{Scene, Take};

use crate::failure::Failure;

/// Channels or nodes, as they are typed.
#[derive(Args, Clone, Debug, Default)]
pub struct ChoiceArgs {
    /// Channels or nodes, by name, address, pattern with *, as @SET, or by kind: @joints, @controls, @locators, @ends, @roots; all where
    /// left out
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub only: Vec<String>,
    /// Channels or nodes that are left aside, in the same words
    #[arg(long, value_name = "PATTERN", num_args = 1.., value_delimiter = ',')]
    pub except: Vec<String>,
}

impl ChoiceArgs {
    pub fn is_everything(&self) -> bool {
        self.only.is_empty() && self.except.is_empty()
    }

    /// The choice among what is in a scene, and among `more` addresses.
    fn resolved(
        &self,
        scene: &Scene,
        addresses: &Addresses,
        more: &[String],
        file: &Path,
    ) -> Result<Choice, Failure> {
        Choice::among(scene, addresses, (&self.only, &self.except), more)
            .map_err(|error| Failure::new(format!("{}: {error}", file.display())))
    }

    fn nothing(&self, what: &str, file: &Path) -> Failure {
        let asked = [("--only", &self.only), ("--except", &self.except)]
            .into_iter()
            .filter(|(_, patterns)| !patterns.is_empty())
            .map(|(option, patterns)| format!("{option} {}", patterns.join(" ")))
            .collect::<Vec<_>>()
            .join(" ");
        Failure::new(format!("{}: no {what} is left by {asked}", file.display()))
    }

    /// The addresses of the animated channels that are meant; none where all are.
    pub fn channels(&self, scene: &Scene, file: &Path) -> Result<Vec<String>, Failure> {
        if self.is_everything() {
            return Ok(Vec::new());
        }
        let addresses = Addresses::new(scene);
        let choice = self.resolved(scene, &addresses, &[], file)?;
        let mut chosen: Vec<String> = (scene.takes.iter().flat_map(Take::tracks))
            .map(|(_, track)| (addresses.property(&track.target), track))
            .filter(|(channel, track)| {
                let node = addresses.node((track.target.rig, track.target.node));
                choice.takes(&[channel.as_str(), node])
            })
            .map(|(channel, _)| channel)
            .collect();
        chosen.sort_unstable();
        chosen.dedup();
        if chosen.is_empty() {
            return Err(self.nothing("animated channel", file));
        }
        Ok(chosen)
    }

    /// Those of some channels, each of one number (`NODE:rotation.x`), that are meant, in their order.
    pub fn components(&self, scene: &Scene, all: &[String], file: &Path) -> Result<Vec<String>, Failure> {
        let addresses = Addresses::new(scene);
        let choice = self.resolved(scene, &addresses, all, file)?;
        let owners: Vec<(String, &str)> = (scene.takes.iter().flat_map(Take::tracks))
            .map(|(_, track)| {
                (addresses.property(&track.target), addresses.node((track.target.rig, track.target.node)))
            })
            .collect();
        let is_meant = |channel: &&String| {
            let owner = owners.iter().find(|(property, _)| {
                channel
                    .strip_prefix(property.as_str())
                    .is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
            });
            match owner {
                Some((property, node)) => choice.takes(&[channel.as_str(), property, node]),
                None => choice.takes(&[channel.as_str()]),
            }
        };
        let mut chosen: Vec<String> = all.iter().filter(is_meant).cloned().collect();
        chosen.dedup();
        if chosen.is_empty() {
            return Err(self.nothing("animated channel", file));
        }
        Ok(chosen)
    }

    /// The addresses of the nodes that are meant, by themselves or by one of their channels; none where all are.
    pub fn nodes(&self, scene: &Scene, file: &Path) -> Result<Vec<String>, Failure> {
        if self.is_everything() {
            return Ok(Vec::new());
        }
        let addresses = Addresses::new(scene);
        let choice = self.resolved(scene, &addresses, &[], file)?;
        let channels = (scene.takes.iter().flat_map(Take::tracks)).map(|(_, track)| {
            (addresses.property(&track.target), addresses.node((track.target.rig, track.target.node)))
        });
        let by_channel = channels.filter(|(channel, node)| choice.takes(&[channel.as_str(), node]));
        let mut chosen: Vec<String> = by_channel.map(|(_, node)| node.to_owned()).collect();
        let nodes = addresses.nodes().iter().map(|node| addresses.node(*node));
        chosen.extend(nodes.filter(|node| choice.takes(&[node])).map(str::to_owned));
        chosen.sort_unstable();
        chosen.dedup();
        if chosen.is_empty() {
            return Err(self.nothing("node", file));
        }
        Ok(chosen)
    }
}
