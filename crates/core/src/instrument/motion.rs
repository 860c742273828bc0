//! The movement of an actuator during one scan.

/// A stretch in which the position runs straight.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Piece {
    /// Seconds into the scan at which it ends.
    pub end: f64,
    /// Position at its beginning, %.
    pub from: f64,
    /// Change of the position, % per second.
    pub slope: f64,
}

/// Positions over one scan, in up to four straight pieces.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Motion {
    pieces: [Piece; 4],
    used: usize,
}

impl Motion {
    /// At rest at `position` for the whole scan.
    #[must_use]
    pub fn resting(position: f64) -> Self {
        let still = Piece { end: f64::INFINITY, from: position, slope: 0.0 };
        Self { pieces: [still; 4], used: 1 }
    }

    /// Makes it one at rest; in place, since a loop does so at every scan.
    pub(super) fn rest(&mut self, position: f64) {
        self.pieces[0] = Piece { end: f64::INFINITY, from: position, slope: 0.0 };
        self.used = 1;
    }

    /// Makes it one of these pieces, up to four, of which the last lasts to the end of the scan.
    pub(super) fn set(&mut self, pieces: &[Piece]) {
        self.used = pieces.len().clamp(1, 4);
        self.pieces[..self.used].copy_from_slice(&pieces[..self.used]);
        self.pieces[self.used - 1].end = f64::INFINITY;
    }

    /// Position at the beginning of the scan, %.
    #[must_use]
    pub fn begins_at(&self) -> f64 {
        self.pieces[0].from
    }

    /// Position and slope `since` seconds into the scan, and when the next piece begins.
    #[must_use]
    pub fn at(&self, since: f64) -> (f64, f64, f64) {
        let mut begins = 0.0;
        for piece in &self.pieces[..self.used - 1] {
            if since < piece.end {
                return (piece.from + piece.slope * (since - begins), piece.slope, piece.end);
            }
            begins = piece.end;
        }
        let last = self.pieces[self.used - 1];
        (last.from + last.slope * (since - begins), last.slope, f64::INFINITY)
    }
}
