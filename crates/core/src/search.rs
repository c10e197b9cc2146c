//! Searching for the longest piece.

/// What the largest number within `first..=last` gives for which there is something, by halving, if there is something
/// for smaller numbers where there is for larger ones; `None` where there is nothing even for the first.
pub(crate) fn longest<T>(first: i64, last: i64, of: impl Fn(i64) -> Option<T>) -> Option<T> {
    if first > last {
        return None;
    }
    let mut good = of(first)?;
    let (mut low, mut high) = (first, last + 1);
    while high - low > 1 {
        let middle = low + (high - low) / 2;
        match of(middle) {
            Some(found) => (low, good) = (middle, found),
            None => high = middle,
        }
    }
    Some(good)
}
