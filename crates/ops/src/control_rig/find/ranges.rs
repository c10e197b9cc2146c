//! Which of several explanations holds when: one after the other, each for as long as it does.

/// How many frames something has to hold at least to have been switched to.
const SHORTEST: usize = 4;

/// What holds on each frame, with as few changes as can be: the present one for as long as it holds, then the one that holds
/// longest. `None` where nothing holds on some frame, or something holds for a few frames alone.
pub fn covered(options: &[Vec<bool>]) -> Option<Vec<usize>> {
    let count = options.first()?.len();
    let lasts = |option: usize, from: usize| options[option][from..].iter().take_while(|on| **on).count();
    let mut found = Vec::with_capacity(count);
    while found.len() < count {
        let from = found.len();
        let (option, length) = (0..options.len())
            .map(|option| (option, lasts(option, from)))
            .max_by_key(|(option, length)| (*length, std::cmp::Reverse(*option)))?;
        if length < SHORTEST.min(count) && from + length < count {
            return None;
        }
        // Where both hold it is the earlier one that goes on: what comes next begins where that ends.
        if length == 0 {
            return None;
        }
        found.extend(std::iter::repeat_n(option, length));
    }
    Some(found)
}

/// Where what holds changes: the first frame of each stretch, and what holds from there.
pub fn stretches(holds: &[usize]) -> Vec<(usize, usize)> {
    let changes = |index: &usize| *index == 0 || holds[*index] != holds[*index - 1];
    (0..holds.len()).filter(changes).map(|index| (index, holds[index])).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_holds_goes_on_until_it_does_not() {
        // A letter a frame: on or off.
        let on = |frames: &str| -> Vec<bool> { frames.chars().map(|own| own == '+').collect() };
        let holds = covered(&[on("++++++++------++++++"), on("------+++++++++-----")]).unwrap();
        assert_eq!(stretches(&holds), [(0, 0), (8, 1), (15, 0)]);
        let gap = covered(&[on("++++++++------------"), on("---------+++++++++++")]);
        assert_eq!(gap, None, "a frame that nothing explains");
        let short = covered(&[on("+++++++++--+++++++++"), on("---------++---------")]);
        assert_eq!(short, None, "what holds for two frames");
    }
}
