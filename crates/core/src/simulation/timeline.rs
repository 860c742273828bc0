//! A signal over time that runs straight between knots.

/// A change of a signal at an instant.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Change {
    at: f64,
    /// By how much it jumps.
    jump: f64,
    /// By how much its slope changes, per second.
    bend: f64,
}

/// What is to become a [`Timeline`]: changes in any order.
#[derive(Debug, Clone, Default)]
pub(super) struct Changes {
    list: Vec<Change>,
}

impl Changes {
    pub fn step(&mut self, at: f64, by: f64) {
        self.list.push(Change { at, jump: by, bend: 0.0 });
    }

    /// Straight by `by` from `at`, over `over` seconds.
    pub fn ramp(&mut self, at: f64, by: f64, over: f64) {
        self.list.push(Change { at, jump: 0.0, bend: by / over });
        self.list.push(Change { at: at + over, jump: 0.0, bend: -by / over });
    }

    /// Straight through points `(time, value)` from a value at `at`, where it stays afterwards.
    pub fn path(&mut self, at: f64, from: f64, points: impl IntoIterator<Item = (f64, f64)>) {
        let (mut time, mut value) = (at, from);
        for (next_time, next) in points {
            self.ramp(time, next - value, next_time - time);
            (time, value) = (next_time, next);
        }
    }

    /// From where it is at `at`, of a signal that was `start` at first, to a value: over some time, or at once. `slack` is what a step that
    /// has just been made may lie ahead.
    pub fn lead(&mut self, (at, over): (f64, f64), start: f64, to: f64, slack: f64) {
        let before = start + self.before(at + slack);
        if over > 0.0 {
            self.ramp(at, to - before, over);
        } else {
            self.step(at, to - before);
        }
    }

    /// The value at `at`, before what happens there.
    pub fn before(&self, at: f64) -> f64 {
        self.list.iter().filter(|change| change.at < at).map(|c| c.jump + c.bend * (at - c.at)).sum()
    }

    /// In order; the signal is `start` before the first.
    pub fn timeline(mut self, start: f64) -> Timeline {
        self.list.sort_by(|a, b| a.at.total_cmp(&b.at));
        let mut knots: Vec<Knot> = vec![Knot { at: f64::NEG_INFINITY, value: start, slope: 0.0 }];
        for change in self.list {
            let last = knots[knots.len() - 1];
            let value = if last.slope == 0.0 { last.value } else { last.value + last.slope * (change.at - last.at) };
            let slope = last.slope + change.bend;
            // What is left of slopes that cancel is rounding.
            let slope = if slope.abs() < 1e-12 * change.bend.abs() { 0.0 } else { slope };
            let next = Knot { at: change.at, value: value + change.jump, slope };
            if last.at == change.at {
                let index = knots.len() - 1;
                knots[index] = next;
            } else {
                knots.push(next);
            }
        }
        Timeline { knots }
    }
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Knot {
    at: f64,
    value: f64,
    slope: f64,
}

/// A signal that runs straight between knots, constant before the first.
#[derive(Debug, Clone, Default)]
pub(super) struct Timeline {
    knots: Vec<Knot>,
}

/// Where a timeline is being read; times must not fall.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Cursor(usize);

impl Timeline {
    /// The value at `t`, wherever it is read otherwise; a knot less than `slack` ahead counts as reached.
    pub fn value(&self, t: f64, slack: f64) -> f64 {
        let reached = self.knots.partition_point(|knot| knot.at <= t + slack);
        let Knot { at, value, slope } = self.knots[reached.max(1) - 1];
        if slope == 0.0 { value } else { value + slope * (t - at) }
    }

    pub fn is_constant(&self) -> bool {
        self.knots.len() == 1
    }

    /// Value and slope at `t`, and the time of the next knot; a knot less than `slack` ahead counts as reached.
    #[inline]
    pub fn at(&self, cursor: &mut Cursor, t: f64, slack: f64) -> (f64, f64, f64) {
        while self.knots.get(cursor.0 + 1).is_some_and(|knot| knot.at <= t + slack) {
            cursor.0 += 1;
        }
        let Knot { at, value, slope } = self.knots[cursor.0];
        let now = if slope == 0.0 { value } else { value + slope * (t - at) };
        (now, slope, self.knots.get(cursor.0 + 1).map_or(f64::INFINITY, |knot| knot.at))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn changes_add_up_in_any_order() {
        let mut changes = Changes::default();
        changes.step(5.0, -3.0);
        changes.ramp(2.0, 4.0, 2.0);
        changes.path(10.0, -1.0, [(12.0, 3.0), (13.0, 0.0)]);
        let before = changes.before(3.0);
        let timeline = changes.timeline(10.0);
        let mut cursor = Cursor::default();
        let mut at = |t: f64| timeline.at(&mut cursor, t, 1e-9);
        assert_eq!(before, 2.0);
        assert_eq!(at(0.0), (10.0, 0.0, 2.0));
        assert_eq!(at(3.0), (12.0, 2.0, 4.0));
        assert_eq!(at(4.5), (14.0, 0.0, 5.0));
        assert_eq!(at(5.0), (11.0, 0.0, 10.0));
        assert_eq!(at(11.0).0, 13.0);
        assert_eq!((at(12.5).0, at(20.0).0), (13.5, 12.0));
        // Wherever it is looked at, it is what it is when it comes.
        let mut cursor = Cursor::default();
        for t in (-10..250).map(|k| 0.1 * f64::from(k)) {
            assert_eq!(timeline.value(t, 1e-9), timeline.at(&mut cursor, t, 1e-9).0, "{t}");
        }
    }
}
