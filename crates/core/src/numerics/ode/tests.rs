use super::*;

struct Of<F>(F);

impl<F: Fn(f64, &[f64], &mut [f64])> Rates for Of<F> {
    fn rates(&self, t: f64, x: &[f64], rates: &mut [f64]) {
        (self.0)(t, x, rates);
    }
}

fn carry(integrator: &mut Integrator, system: &impl Rates, x: &mut [f64], until: f64) -> usize {
    let (mut t, mut steps) = (0.0, 0);
    integrator.restart(system, t, x).unwrap();
    while t < until {
        t += integrator.step(system, x, t, until).unwrap();
        steps += 1;
    }
    steps
}

#[test]
fn an_orbit_closes() {
    // x'' = −x: after one turn everything is where it was (exact mathematics).
    let circle = Of(|_, x: &[f64], rates: &mut [f64]| {
        rates[0] = x[1];
        rates[1] = -x[0];
    });
    let mut x = [1.0, 0.0];
    carry(&mut Integrator::new(1e-9, vec![1e-9; 2]), &circle, &mut x, 2.0 * std::f64::consts::PI);
    assert!((x[0] - 1.0).abs() < 1e-8 && x[1].abs() < 1e-8, "{x:?}");
}

#[test]
fn both_methods_have_the_order_that_is_said_of_them() {
    // x' = −t x² with x(0) = 2: x = 2/(1 + t²). Halving the step divides the error by 2 to the order.
    let system = Of(|t: f64, x: &[f64], rates: &mut [f64]| rates[0] = -t * x[0] * x[0]);
    let error = |implicit: bool, steps: u32| {
        let (mut explicit, mut rosenbrock) = (Explicit::new(1), Implicit::new(1));
        let h = 1.0 / f64::from(steps);
        let (mut x, mut after, mut rates) = ([2.0], [0.0], [0.0]);
        for k in 0..steps {
            let t = h * f64::from(k);
            system.rates(t, &x, &mut rates);
            if implicit {
                rosenbrock.attempt(&system, t, h, &x, &rates, &mut after).unwrap();
            } else {
                explicit.attempt(&system, t, h, &x, &rates, &mut after).unwrap();
            }
            x = after;
        }
        (x[0] - 1.0f64).abs()
    };
    let order = |implicit, steps| (error(implicit, steps) / error(implicit, 2 * steps)).log2();
    assert!((order(false, 16) - 5.0).abs() < 0.4, "{}", order(false, 16));
    assert!((order(true, 16) - 4.0).abs() < 0.4, "{}", order(true, 16));
}

#[test]
fn stiff_equations_are_handed_to_the_implicit_method() {
    // Robertson's kinetics to t = 40; values of Hairer & Wanner and every stiff solver's manual: 0.7158271, 9.1855e−6,
    // 0.2841637.
    let kinetics = Of(|_, x: &[f64], rates: &mut [f64]| {
        rates[0] = -0.04 * x[0] + 1e4 * x[1] * x[2];
        rates[2] = 3e7 * x[1] * x[1];
        rates[1] = -rates[0] - rates[2];
    });
    let mut integrator = Integrator::new(1e-7, vec![1e-11; 3]);
    let mut x = [1.0, 0.0, 0.0];
    let steps = carry(&mut integrator, &kinetics, &mut x, 40.0);
    assert!(integrator.is_implicit() && steps < 1000, "{steps}");
    assert!((x[0] - 0.715_827_1).abs() < 1e-6 && (x[1] - 9.1855e-6).abs() < 1e-9, "{x:?}");
}

#[test]
fn the_middle_of_a_step_can_be_read_and_the_step_taken_back() {
    let decay = Of(|_, x: &[f64], rates: &mut [f64]| rates[0] = -x[0]);
    let mut integrator = Integrator::new(1e-10, vec![1e-10]);
    let mut x = [1.0];
    integrator.restart(&decay, 0.0, &x).unwrap();
    let h = integrator.step(&decay, &mut x, 0.0, 1.0).unwrap();
    assert!((integrator.between(&x, 0, 0.5) - (-0.5 * h).exp()).abs() < 1e-9);
    integrator.take_back(&mut x);
    assert_eq!(x, [1.0]);
}

#[test]
fn a_breakdown_names_the_state_or_the_step() {
    let pole = Of(|_, x: &[f64], rates: &mut [f64]| {
        rates[0] = 0.0;
        rates[1] = x[1] * x[1];
    });
    let mut integrator = Integrator::new(1e-8, vec![1e-8; 2]);
    let mut x = [0.0, 1.0];
    integrator.restart(&pole, 0.0, &x).unwrap();
    let mut t = 0.0;
    let broken = loop {
        match integrator.step(&pole, &mut x, t, 2.0) {
            Ok(h) => t += h,
            Err(breakdown) => break breakdown,
        }
    };
    assert!((t - 1.0).abs() < 1e-3 && broken == Breakdown::StepTooSmall, "{t} {broken:?}");
    let nothing = Of(|_, _: &[f64], rates: &mut [f64]| rates.copy_from_slice(&[0.0, f64::NAN]));
    assert_eq!(integrator.restart(&nothing, 0.0, &[0.0, 0.0]), Err(Breakdown::NotFinite(1)));
}
