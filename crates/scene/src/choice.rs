//! Which channels or nodes are meant, by patterns, named sets and exceptions.

use thiserror::Error;

use crate::address::{matches, without_namespace, without_namespace_of_node};
use crate::scene::NodeSet;
use crate::similar::{similar, similar_address};

/// What somebody chose: everything, or what some patterns name, but for what others name.
#[derive(Clone, Debug, Default)]
pub struct Choice {
    only: Vec<String>,
    except: Vec<String>,
}

/// A pattern or set that chooses nothing.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{what}{}", .similar.as_ref().map(|name| format!(": did you mean '{name}'?")).unwrap_or_default())]
pub struct NothingChosen {
    /// What was asked for, in a sentence.
    pub what: String,
    /// Something that is there.
    pub similar: Option<String>,
}

impl Choice {
    /// A choice by patterns with `*`, or `@SET` for the patterns of a set; of everything where `only` is empty.
    ///
    /// A pattern means channels by their address, and nodes with all their channels, with or without namespaces; `known` are
    /// the addresses of both.
    ///
    /// # Errors
    /// Where a pattern matches nothing that is known, or there is no such set.
    pub fn new<'a>(
        only: &[String],
        except: &[String],
        sets: impl Iterator<Item = &'a NodeSet> + Clone,
        known: &[String],
    ) -> Result<Choice, NothingChosen> {
        let patterns = |asked: &[String]| -> Result<Vec<String>, NothingChosen> {
            let mut all = Vec::new();
            for pattern in asked {
                let Some(name) = pattern.strip_prefix('@') else {
                    if !known.iter().any(|address| fits(pattern, address)) {
                        return Err(NothingChosen {
                            what: format!("no node or channel matches '{pattern}'"),
                            similar: similar_address(pattern, known.iter().map(String::as_str)),
                        });
                    }
                    all.push(pattern.clone());
                    continue;
                };
                let before = all.len();
                let found = sets.clone().filter(|set| set.name == name);
                all.extend(found.flat_map(|set| set.patterns.iter().cloned()));
                if all.len() == before {
                    let similar = similar(name, sets.clone().map(|set| set.name.as_str()));
                    return Err(NothingChosen {
                        what: format!("there is no set '{name}'"),
                        similar: similar.map(|name| format!("@{name}")),
                    });
                }
            }
            Ok(all)
        };
        Ok(Choice { only: patterns(only)?, except: patterns(except)? })
    }

    /// Whether nothing is left aside.
    pub fn is_everything(&self) -> bool {
        self.only.is_empty() && self.except.is_empty()
    }

    /// Whether something that has these addresses is meant.
    pub fn takes<A: AsRef<str>>(&self, addresses: &[A]) -> bool {
        let named = |patterns: &[String]| {
            patterns.iter().any(|pattern| addresses.iter().any(|address| fits(pattern, address.as_ref())))
        };
        (self.only.is_empty() || named(&self.only)) && !named(&self.except)
    }
}

/// Whether a pattern means an address, with or without namespaces.
fn fits(pattern: &str, address: &str) -> bool {
    matches(pattern, address)
        || matches(pattern, without_namespace_of_node(address))
        || matches(pattern, without_namespace(address))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sets_and_exceptions_are_resolved_and_what_matches_nothing_is_said() {
        let sets = [NodeSet { name: "arms".into(), patterns: vec!["arm_*".into(), "hand_*".into()] }];
        let known: Vec<String> =
            ["c:arm_l", "c:arm_l:rotation", "c:hand_l", "c:head"].map(str::to_owned).to_vec();
        let choice = |only: &[&str], except: &[&str]| {
            let list = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect::<Vec<_>>();
            Choice::new(&list(only), &list(except), sets.iter(), &known)
        };
        let taken =
            |choice: &Choice| -> Vec<bool> { known.iter().map(|name| choice.takes(&[name])).collect() };
        assert_eq!(taken(&choice(&["@arms"], &[]).unwrap()), [true, true, true, false]);
        assert!(choice(&["@arms"], &["hand_*"]).unwrap().takes(&["c:arm_l:rotation", "c:arm_l"]));
        assert_eq!(taken(&choice(&[], &["@arms"]).unwrap()), [false, false, false, true]);
        assert!(choice(&[], &[]).unwrap().is_everything());
        let similar = |only: &str| choice(&[only], &[]).unwrap_err().similar;
        assert_eq!((similar("@arm"), similar("hed")), (Some("@arms".into()), Some("head".into())));
    }
}
