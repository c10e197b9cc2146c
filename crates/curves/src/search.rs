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

/// The farthest of `first..=limit` that fits, if nearer ones fit where farther ones do: by growing steps, then by halving.
/// `first` itself is taken to fit.
pub(crate) fn farthest(
    first: usize,
    limit: usize,
    step: usize,
    mut fits: impl FnMut(usize) -> bool,
) -> usize {
    let (mut good, mut bad, mut step) = (first, limit + 1, step.max(1));
    while good < limit {
        let to = (good + step).min(limit);
        if !fits(to) {
            bad = to;
            break;
        }
        good = to;
        step *= 2;
    }
    while bad - good > 1 {
        let middle = good + (bad - good) / 2;
        if fits(middle) { good = middle } else { bad = middle }
    }
    good
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_searches_find_the_last_that_fits() {
        for last in 0..40 {
            for step in [1, 3, 8] {
                assert_eq!(farthest(0, 50, step, |to| to <= last), last);
                assert_eq!(farthest(0, last, step, |_| true), last);
            }
            let of = |number: i64| (number <= last as i64).then_some(number * 2);
            assert_eq!(longest(0, 50, of), Some(last as i64 * 2));
        }
        assert_eq!(longest(5, 50, |_| None::<i64>), None);
        assert_eq!(longest(5, 4, Some), None);
    }
}
