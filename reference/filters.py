"""Filters on a published example: the falling body of Athans, Wishner & Bertolini (IEEE Transactions on Automatic Control 13, 1968),
with FilterPy's extended and unscented Kalman filters; and a linear system with a moving level, with its Kalman filter.

Altitude, speed and ballistic coefficient of a body that falls through the air, from the distance to a radar that stands 100,000 ft
aside and as high, once a second (the numbers are from memory). Between samples 64 steps of Runge and Kutta; the transition matrix of
the extended filter is carried along with the state by its own differential equation.
"""
import json
import pathlib

import numpy as np
from filterpy.kalman import ExtendedKalmanFilter, KalmanFilter, MerweScaledSigmaPoints, UnscentedKalmanFilter

GAMMA, ASIDE, HEIGHT, NOISE = 5e-5, 1e5, 1e5, 1e4
random = np.random.default_rng(7)


def rates(x):
    drag = np.exp(-GAMMA * x[0]) * x[1] ** 2 * x[2]
    return np.array([-x[1], -drag, 0.0])


def jacobian(x):
    density = np.exp(-GAMMA * x[0])
    return np.array(
        [
            [0.0, -1.0, 0.0],
            [GAMMA * density * x[1] ** 2 * x[2], -2.0 * density * x[1] * x[2], -density * x[1] ** 2],
            [0.0, 0.0, 0.0],
        ]
    )


def fall(x, slopes=None):
    h = 1.0 / 64.0
    full = np.concatenate([x, (np.eye(3) if slopes is None else slopes).flatten()])

    def both(z):
        return np.concatenate([rates(z[:3]), (jacobian(z[:3]) @ z[3:].reshape(3, 3)).flatten()])

    for _ in range(64):
        k1 = both(full)
        k2 = both(full + 0.5 * h * k1)
        k3 = both(full + 0.5 * h * k2)
        k4 = both(full + h * k3)
        full = full + h / 6.0 * (k1 + 2 * k2 + 2 * k3 + k4)
    return full[:3], full[3:].reshape(3, 3)


def distance(x):
    return np.array([np.hypot(ASIDE, x[0] - HEIGHT)])


def slope(x):
    return np.array([[(x[0] - HEIGHT) / np.hypot(ASIDE, x[0] - HEIGHT), 0.0, 0.0]])


truth = np.array([3e5, 2e4, 1e-3])
measured = []
for _ in range(40):
    measured.append(float(f"{distance(truth)[0] + np.sqrt(NOISE) * random.normal():.9g}"))
    truth, _ = fall(truth)

START, SPREAD = np.array([3e5, 2e4, 3e-5]), np.diag([1e6, 4e6, 1e-4])


def row(filter):
    return [float(f"{v:.13g}") for v in np.concatenate([filter.x.flatten(), filter.P.flatten()])]


extended = ExtendedKalmanFilter(dim_x=3, dim_z=1)
extended.x, extended.P, extended.R = START.copy(), SPREAD.copy(), np.array([[NOISE]])
of_extended = []
for z in measured:
    extended.update(np.array([z]), slope, distance)
    of_extended.append(row(extended))
    extended.x, step = fall(extended.x)
    extended.P = step @ extended.P @ step.T

points = MerweScaledSigmaPoints(3, alpha=1.0, beta=2.0, kappa=0.0)
unscented = UnscentedKalmanFilter(3, 1, 1.0, distance, lambda x, dt: fall(x)[0], points)
unscented.x, unscented.P, unscented.R, unscented.Q = START.copy(), np.diag([1e6, 4e6, 1e-8]), np.array([[NOISE]]), np.zeros((3, 3))
of_unscented = []
for k, z in enumerate(measured):
    # Its points are those of the last prediction: at the first sample they are made here, later drawn anew after each prediction.
    unscented.sigmas_f = points.sigma_points(unscented.x, unscented.P)
    unscented.update(np.array([z]))
    of_unscented.append(row(unscented))
    unscented.predict()

# A level that drifts under a lag: x' = 0.9 x + 0.1 (u + d), d wanders; y1 = x, y2 = x + d, some samples missing.
F, B = np.array([[0.9, 0.1], [0.0, 1.0]]), np.array([[0.1], [0.0]])
H = np.array([[1.0, 0.0], [1.0, 1.0]])
Q, R = np.diag([1e-4, 4e-3]), np.diag([0.04, 0.25])
plain = KalmanFilter(dim_x=2, dim_z=2)
plain.x, plain.P, plain.F, plain.H, plain.Q, plain.R = np.array([1.0, -1.0]), np.diag([2.0, 3.0]), F, H, Q, R
x, linear = np.array([0.0, 0.5]), []
for k in range(80):
    u = 1.0 if (k // 20) % 2 else 0.0
    z = H @ x + np.sqrt(np.diag(R)) * random.normal(size=2)
    z = np.array([float(f"{v:.9g}") for v in z])
    missing = k % 11 == 5
    if not missing:
        plain.update(z)
    linear.append({"u": u, "measured": None if missing else z.tolist(), "after": row(plain)})
    plain.predict()
    plain.x = plain.x + (B * u).flatten()
    x = F @ x + (B * u).flatten() + np.sqrt(np.diag(Q)) * random.normal(size=2)

pathlib.Path(__file__).with_name("data").joinpath("filters.json").write_text(
    json.dumps({"measured": measured, "extended": of_extended, "unscented": of_unscented, "linear": linear}, separators=(",", ":"))
)
print(of_extended[-1][:3], of_unscented[-1][:3], truth)
