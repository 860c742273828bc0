use super::*;
use serde::Deserialize;

#[derive(Deserialize)]
struct Outside {
    measured: Vec<f64>,
    extended: Vec<Vec<f64>>,
    unscented: Vec<Vec<f64>>,
    linear: Vec<LinearSample>,
}

#[derive(Deserialize)]
struct LinearSample {
    u: f64,
    measured: Option<[f64; 2]>,
    after: Vec<f64>,
}

/// Values made with FilterPy (`reference/filters.py`).
fn outside() -> Outside {
    serde_json::from_str(include_str!("../../../../reference/data/filters.json")).unwrap()
}

/// The falling body of Athans, Wishner & Bertolini (1968).
struct Falling {
    measured: Vec<f64>,
}

const GAMMA: f64 = 5e-5;
const ASIDE: f64 = 1e5;

impl Falling {
    /// State and transition matrix, column after column.
    fn rates(z: &[f64; 12]) -> [f64; 12] {
        let [height, speed, beta] = [z[0], z[1], z[2]];
        let density = (-GAMMA * height).exp();
        let by = [GAMMA * density * speed * speed * beta, -2.0 * density * speed * beta, -density * speed * speed];
        let mut rates = [0.0; 12];
        rates[0] = -speed;
        rates[1] = -density * speed * speed * beta;
        for column in 0..3 {
            let of = &z[3 + 3 * column..6 + 3 * column];
            rates[3 + 3 * column] = -of[1];
            rates[4 + 3 * column] = by[0] * of[0] + by[1] * of[1] + by[2] * of[2];
        }
        rates
    }
}

impl Observed for Falling {
    fn states(&self) -> usize {
        3
    }

    fn outputs(&self) -> usize {
        1
    }

    fn bounds(&self, _state: usize) -> (f64, f64) {
        (f64::NEG_INFINITY, f64::INFINITY)
    }

    fn advance(&mut self, _k: usize, x: &mut [f64], slopes: Option<&mut DMatrix<f64>>) -> Result<(), Lost> {
        let mut z = [0.0; 12];
        z[..3].copy_from_slice(x);
        (z[3], z[7], z[11]) = (1.0, 1.0, 1.0);
        let h = 1.0 / 64.0;
        let at = |z: &[f64; 12], k: &[f64; 12], h: f64| std::array::from_fn(|i| z[i] + h * k[i]);
        for _ in 0..64 {
            let k1 = Self::rates(&z);
            let k2 = Self::rates(&at(&z, &k1, 0.5 * h));
            let k3 = Self::rates(&at(&z, &k2, 0.5 * h));
            let k4 = Self::rates(&at(&z, &k3, h));
            z = std::array::from_fn(|i| z[i] + h / 6.0 * (k1[i] + 2.0 * k2[i] + 2.0 * k3[i] + k4[i]));
        }
        x.copy_from_slice(&z[..3]);
        if let Some(slopes) = slopes {
            slopes.copy_from(&DMatrix::from_column_slice(3, 3, &z[3..]));
        }
        Ok(())
    }

    fn show(&mut self, _k: usize, x: &[f64], shown: &mut [f64], slopes: Option<&mut DMatrix<f64>>) {
        shown[0] = ASIDE.hypot(x[0] - ASIDE);
        if let Some(slopes) = slopes {
            slopes.copy_from(&DMatrix::from_row_slice(1, 3, &[(x[0] - ASIDE) / shown[0], 0.0, 0.0]));
        }
    }

    fn measured(&self, k: usize, _output: usize) -> f64 {
        self.measured[k]
    }

    fn noise(&self, _output: usize) -> f64 {
        1e4
    }

    fn unrest(&self, _k: usize, _state: usize) -> f64 {
        0.0
    }
}

/// Holds an estimate against mean and covariance from outside, each in units of its own deviation.
fn assert_equal(now: &Gaussian, outside: &[f64], tolerance: f64, at: usize) {
    let n = now.mean.len();
    for i in 0..n {
        let deviation = outside[n + i * n + i].sqrt();
        assert!((now.mean[i] - outside[i]).abs() < tolerance * deviation, "sample {at}: {} {}", now.mean, outside[i]);
        for j in 0..n {
            let size = deviation * outside[n + j * n + j].sqrt();
            let own = now.covariance[(i, j)];
            assert!((own - outside[n + i * n + j]).abs() < tolerance * size, "sample {at}: {own} {:?}", outside);
        }
    }
}

/// Leads an estimator along samples, and looks at it after each.
fn lead(
    estimator: &mut dyn Estimator,
    system: &mut dyn Observed,
    samples: usize,
    mut look: impl FnMut(usize, &Gaussian),
) -> Innovations {
    let mut innovations = Innovations::new(system.outputs());
    for k in 0..samples {
        estimator.correct(system, k, &mut innovations).unwrap();
        look(k, estimator.now());
        if k + 1 < samples {
            estimator.predict(system, k).unwrap();
        }
    }
    innovations
}

#[test]
fn filters_follow_the_falling_body_as_an_outside_library_does() {
    let outside = outside();
    let mut body = Falling { measured: outside.measured.clone() };
    let samples = outside.measured.len();
    let start = Gaussian::independent(&[3e5, 2e4, 3e-5], &[1e3, 2e3, 1e-2]);
    lead(&mut Extended::new(start), &mut body, samples, |k, now| assert_equal(now, &outside.extended[k], 1e-6, k));
    let start = Gaussian::independent(&[3e5, 2e4, 3e-5], &[1e3, 2e3, 1e-4]);
    lead(&mut Unscented::new(start), &mut body, samples, |k, now| assert_equal(now, &outside.unscented[k], 1e-6, k));
}

/// The lag under a drifting level of the reference: x' = 0.9 x + 0.1 (u + d).
struct Drifting {
    inputs: Vec<f64>,
    measured: Vec<Option<[f64; 2]>>,
    bounds: [(f64, f64); 2],
}

impl Drifting {
    fn of(linear: &[LinearSample]) -> Self {
        Self {
            inputs: linear.iter().map(|sample| sample.u).collect(),
            measured: linear.iter().map(|sample| sample.measured).collect(),
            bounds: [(f64::NEG_INFINITY, f64::INFINITY); 2],
        }
    }
}

impl Observed for Drifting {
    fn states(&self) -> usize {
        2
    }

    fn outputs(&self) -> usize {
        2
    }

    fn bounds(&self, state: usize) -> (f64, f64) {
        self.bounds[state]
    }

    fn advance(&mut self, k: usize, x: &mut [f64], slopes: Option<&mut DMatrix<f64>>) -> Result<(), Lost> {
        x[0] = 0.9 * x[0] + 0.1 * (self.inputs[k] + x[1]);
        if let Some(slopes) = slopes {
            slopes.copy_from(&DMatrix::from_row_slice(2, 2, &[0.9, 0.1, 0.0, 1.0]));
        }
        Ok(())
    }

    fn show(&mut self, _k: usize, x: &[f64], shown: &mut [f64], slopes: Option<&mut DMatrix<f64>>) {
        shown.copy_from_slice(&[x[0], x[0] + x[1]]);
        if let Some(slopes) = slopes {
            slopes.copy_from(&DMatrix::from_row_slice(2, 2, &[1.0, 0.0, 1.0, 1.0]));
        }
    }

    fn measured(&self, k: usize, output: usize) -> f64 {
        self.measured[k].map_or(f64::NAN, |values| values[output])
    }

    fn noise(&self, output: usize) -> f64 {
        [0.04, 0.25][output]
    }

    fn unrest(&self, _k: usize, state: usize) -> f64 {
        [1e-4, 4e-3][state]
    }
}

fn at_start() -> Gaussian {
    Gaussian::independent(&[1.0, -1.0], &[2f64.sqrt(), 3f64.sqrt()])
}

fn horizon(window: usize) -> HorizonOptions {
    HorizonOptions { window, every: 1, limits: vec![f64::INFINITY; 2], dead_band: 0.0 }
}

/// On a linear system all of them are the Kalman filter, whatever the window.
#[test]
fn on_a_linear_system_all_are_the_kalman_filter() {
    let outside = outside().linear;
    let mut system = Drifting::of(&outside);
    let mut estimators: Vec<(Box<dyn Estimator>, f64)> =
        vec![(Box::new(Extended::new(at_start())), 1e-9), (Box::new(Unscented::new(at_start())), 1e-9)];
    for (window, every) in [(1, 1), (2, 1), (7, 1), (200, 1), (7, 3)] {
        let options = HorizonOptions { every, ..horizon(window) };
        estimators.push((Box::new(MovingHorizon::new(at_start(), options)), 1e-6));
    }
    for (estimator, tolerance) in &mut estimators {
        lead(estimator.as_mut(), &mut system, outside.len(), |k, now| {
            assert_equal(now, &outside[k].after, *tolerance, k);
        });
    }
}

#[test]
fn a_moving_horizon_keeps_its_bounds_and_limits() {
    let outside = outside().linear;
    let mut system = Drifting::of(&outside);
    system.bounds[1] = (0.2, 0.6);
    let mut options = horizon(12);
    options.limits[1] = 0.02;
    let mut estimator = MovingHorizon::new(Gaussian::independent(&[1.0, 0.4], &[1.4, 1.7]), options);
    let (mut touched, mut free) = (0, 0);
    lead(&mut estimator, &mut system, outside.len(), |_, now| {
        assert!((0.2 - 1e-9..=0.6 + 1e-9).contains(&now.mean[1]), "{}", now.mean);
        if (now.mean[1] - 0.2).abs() < 1e-6 || (now.mean[1] - 0.6).abs() < 1e-6 { touched += 1 } else { free += 1 }
    });
    assert_eq!(estimator.unsolved(), 0);
    // Between samples of one window the level moves by no more than its limit.
    for (a, b) in estimator.path.iter().zip(estimator.path.iter().skip(1)) {
        assert!((b[1] - a[1]).abs() <= 0.02 + 1e-9, "{a} {b}");
    }
    assert!(touched > 5 && free > 5, "{touched} {free}");
}

/// What lies within the dead band is not chased: noise alone leaves the estimate where it was.
#[test]
fn within_the_dead_band_nothing_moves() {
    let outside = outside().linear;
    let mut system = Drifting::of(&outside);
    for (k, sample) in system.measured.iter_mut().enumerate() {
        // The state rests at 0.4 with the input off; the sensors miss by up to one deviation.
        let sign = if k % 2 == 0 { 1.0 } else { -1.0 };
        *sample = Some([0.4 + 0.19 * sign, 0.8 - 0.45 * sign]);
    }
    system.inputs.fill(0.0);
    let options = HorizonOptions { dead_band: 1.0, ..horizon(10) };
    let mut estimator = MovingHorizon::new(Gaussian::independent(&[0.4, 0.4], &[0.5, 0.5]), options);
    lead(&mut estimator, &mut system, 40, |k, now| {
        assert!((now.mean[0] - 0.4).abs() < 1e-9 && (now.mean[1] - 0.4).abs() < 1e-9, "sample {k}: {}", now.mean);
    });
}

/// Of a hundred records without anything wrong about one has a stretch that is doubted: 400 records of 800 samples.
#[test]
fn a_false_doubt_is_as_rare_as_it_is_said_to_be() {
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(11);
    let times: Vec<f64> = (0..800).map(f64::from).collect();
    let doubted = (0..400)
        .filter(|_| {
            let mut innovations = Innovations::new(1);
            for _ in &times {
                let new: f64 = StandardNormal.sample(&mut random);
                innovations.add(0, new, new, 1.0);
            }
            !innovations.test(&times, 0).doubts.is_empty()
        })
        .count();
    // 1 % of 400 is 4; more than 11 or none has a chance of less than 1 in 50.
    assert!((1..=11).contains(&doubted), "{doubted}");
}

/// Right noise is believed, a sensor that goes astray is not, and is named at the time at which it does.
#[test]
fn the_innovation_test_tells_when_not_to_believe() {
    use rand::SeedableRng;
    use rand_distr::{Distribution, StandardNormal};
    let mut random = rand_chacha::ChaCha8Rng::seed_from_u64(3);
    let mut normal = || -> f64 { StandardNormal.sample(&mut random) };
    let samples = 1000;
    let times: Vec<f64> = (0..samples).map(f64::from).collect();
    let samples = samples as usize;
    let mut inputs = vec![0.0; samples];
    inputs[300..600].fill(1.0);
    let mut course = Vec::new();
    let mut x = [0.0, 0.5];
    for u in &inputs {
        course.push(Some([x[0] + 0.2 * normal(), x[0] + x[1] + 0.5 * normal()]));
        x = [0.9 * x[0] + 0.1 * (u + x[1]) + 0.01 * normal(), x[1] + 0.0632 * normal()];
    }
    let mut system = Drifting { inputs, measured: course, bounds: [(f64::NEG_INFINITY, f64::INFINITY); 2] };
    let test = lead(&mut Extended::new(at_start()), &mut system, samples, |_, _| {}).test(&times, 20);
    assert!((test.ratio - 1.0).abs() < 0.1 && (test.share_within - 0.95).abs() < 0.02, "{test:?}");
    assert!(test.doubts.is_empty() && test.correlation.abs() < 0.1, "{test:?}");
    assert_eq!(test.verdicts()[0].tone, crate::verdict::Tone::Good);
    for sample in &mut system.measured[500..560] {
        *sample = sample.map(|[a, b]| [a + 1.5, b]);
    }
    let test = lead(&mut Unscented::new(at_start()), &mut system, samples, |_, _| {}).test(&times, 20);
    let doubt = &test.doubts[0];
    assert!(doubt.from > 480.0 && doubt.from < 515.0 && doubt.to < 600.0 && doubt.ratio > 2.0, "{test:?}");
    assert!(test.verdicts()[0].text.starts_with("Not to be believed from 4"), "{:?}", test.verdicts());
}
