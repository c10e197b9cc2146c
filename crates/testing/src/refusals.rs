//! Cases that an operation refuses: a property that hardly looks at anything must not pass.

use std::sync::atomic::{AtomicU32, Ordering};

use proptest::test_runner::TestCaseError;

/// Counts the cases of a property and those that it skips, as the operation refuses them.
///
/// ```
/// use nimble_curve_testing::refusals::Refusals;
///
/// static CASES: Refusals = Refusals::at_most(0.2);
/// for _ in 0..100 {
///     CASES.begin();
/// }
/// assert!((0..20).all(|_| CASES.refused().is_ok()));
/// assert!((0..20).any(|_| CASES.refused().is_err()));
/// ```
pub struct Refusals {
    begun: AtomicU32,
    refused: AtomicU32,
    most: f64,
}

impl Refusals {
    /// Of which such a part may be refused.
    pub const fn at_most(part: f64) -> Refusals {
        Refusals { begun: AtomicU32::new(0), refused: AtomicU32::new(0), most: part }
    }

    /// One more case.
    pub fn begin(&self) {
        self.begun.fetch_add(1, Ordering::Relaxed);
    }

    /// One that is refused; fails where too many are, by more than chance makes of few.
    pub fn refused(&self) -> Result<(), TestCaseError> {
        let refused = f64::from(self.refused.fetch_add(1, Ordering::Relaxed) + 1);
        let expected = self.most * f64::from(self.begun.load(Ordering::Relaxed));
        if refused <= expected + 3.0 * expected.sqrt() + 3.0 {
            return Ok(());
        }
        let begun = self.begun.load(Ordering::Relaxed);
        Err(TestCaseError::fail(format!(
            "{refused} of {begun} cases are refused: the property looks at too few"
        )))
    }
}
