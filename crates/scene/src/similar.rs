//! The name that was probably meant.

use crate::address::{without_namespace, without_namespace_of_node};

/// The name most like `wanted`, if one is like it at all: the fewest letters changed (Levenshtein, 1966).
pub fn similar<'a>(wanted: &str, names: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    let wanted = wanted.to_lowercase();
    let limit = 1 + wanted.chars().count() / 3;
    names
        .map(|name| (strsim::levenshtein(&wanted, &name.to_lowercase()), name))
        .filter(|(distance, _)| *distance <= limit)
        .min_by_key(|(distance, _)| *distance)
        .map(|(_, name)| name)
}

/// The address most like `wanted`, namespaces counted or not; of channels also the node alone.
pub fn similar_address<'a>(wanted: &str, addresses: impl Iterator<Item = &'a str> + Clone) -> Option<String> {
    let node =
        |address: &'a str| without_namespace(address.rsplit_once(':').map_or(address, |(node, _)| node));
    similar(wanted, addresses.clone())
        .or_else(|| similar(without_namespace(wanted), addresses.clone().map(without_namespace)))
        .or_else(|| {
            similar(without_namespace_of_node(wanted), addresses.clone().map(without_namespace_of_node))
        })
        .or_else(|| similar(without_namespace(wanted), addresses.map(node)))
        .map(str::to_owned)
}
