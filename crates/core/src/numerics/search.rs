//! One-dimensional root and maximum of a function that is cheap to call.

/// A root of `f` between `low` and `high`, where `f` changes sign, to the last bit but few.
///
/// Bisection: it cannot fail, and 100 halvings of any bracket cost microseconds here.
pub fn bisect(mut low: f64, mut high: f64, f: impl Fn(f64) -> f64) -> f64 {
    let rising = f(low) < 0.0;
    for _ in 0..100 {
        let middle = 0.5 * (low + high);
        if middle <= low.min(high) || middle >= low.max(high) {
            break;
        }
        if (f(middle) < 0.0) == rising {
            low = middle;
        } else {
            high = middle;
        }
    }
    0.5 * (low + high)
}

/// The place and height of the maximum of `f` in `low..high`, where it has one peak (golden section search).
pub fn peak(low: f64, high: f64, f: impl FnMut(f64) -> f64) -> (f64, f64) {
    peak_in(60, low, high, f)
}

/// The same in so many steps, each of which brings the ends nearer by a golden section.
pub fn peak_in(steps: usize, mut low: f64, mut high: f64, mut f: impl FnMut(f64) -> f64) -> (f64, f64) {
    const INVERSE_GOLDEN: f64 = 0.618_033_988_749_894_8;
    let mut left = high - INVERSE_GOLDEN * (high - low);
    let mut right = low + INVERSE_GOLDEN * (high - low);
    let (mut f_left, mut f_right) = (f(left), f(right));
    for _ in 0..steps {
        if f_left > f_right {
            (high, right, f_right) = (right, left, f_left);
            left = high - INVERSE_GOLDEN * (high - low);
            f_left = f(left);
        } else {
            (low, left, f_left) = (left, right, f_right);
            right = low + INVERSE_GOLDEN * (high - low);
            f_right = f(right);
        }
    }
    if f_left > f_right { (left, f_left) } else { (right, f_right) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn root_and_peak_of_known_functions() {
        assert!((bisect(0.0, 2.0, |x| x.cos()) - std::f64::consts::FRAC_PI_2).abs() < 1e-15);
        assert!((bisect(2.0, 0.0, |x| x.cos()) - std::f64::consts::FRAC_PI_2).abs() < 1e-15);
        let (place, height) = peak(0.0, 3.0, |x| x * (-x).exp());
        assert!((place - 1.0).abs() < 1e-6 && (height - (-1.0f64).exp()).abs() < 1e-15);
    }
}
