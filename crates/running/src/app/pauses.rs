//! How long to wait before a process that ended is started again.

use std::time::Duration;

/// The first pause, and the longest; each is twice the one before.
const FIRST: Duration = Duration::from_millis(500);
const LONGEST: Duration = Duration::from_secs(60);
/// After how long without an end a process counts as well.
const WELL_AFTER: Duration = Duration::from_secs(10);
/// The ends of a process in a row.
#[derive(Debug, Default)]
pub(super) struct Pauses {
    /// How often it ended since it last was well.
    pub in_a_row: u32,
}

impl Pauses {
    /// Counts an end after `lived`, and says how long to wait.
    pub fn after(&mut self, lived: Duration) -> Duration {
        if lived >= WELL_AFTER {
            self.in_a_row = 0;
        }
        self.in_a_row += 1;
        let doubled = 1_u32.checked_shl(self.in_a_row - 1).unwrap_or(u32::MAX);
        FIRST.saturating_mul(doubled).min(LONGEST)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_grow_until_a_process_has_been_well() {
        let mut pauses = Pauses::default();
        let millis = |pauses: &mut Pauses, lived| pauses.after(Duration::from_secs(lived)).as_millis();
        assert_eq!([0; 3].map(|lived| millis(&mut pauses, lived)), [500, 1000, 2000]);
        assert_eq!(millis(&mut pauses, 10), 500);
        for _ in 0..40 {
            pauses.after(Duration::ZERO);
        }
        assert_eq!(millis(&mut pauses, 0), 60_000);
    }
}
