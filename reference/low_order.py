"""The nearest first-order model with dead time to step responses, by SciPy, to data/low_order.json.

Each process is simulated by SciPy (`scipy.signal.step`) and matched in the least-squares sense at 400 even times, gain, time constant and
dead time free, from many starts: for every dead time on a fine grid the other two are refined, then all three.
"""
import json
import pathlib

import numpy as np
from scipy.optimize import least_squares
from scipy.signal import lsim

POINTS = 400
PROCESSES = {
    "two lags": ([1.5], [20 * 6, 26, 1], 4.0),
    "five equal lags": ([1.0], np.poly([-0.2] * 5) * 5**5, 0.0),
    "lead": ([2 * 15, 2], np.polymul([10, 1], [40, 1]), 3.0),
    "inverse response": ([-8, 1], np.polymul([20, 1], [5, 1]), 2.0),
    "ringing": ([3.0], [36.0, 2 * 0.5 * 6.0, 1.0], 2.0),
    "mostly dead time": ([0.7], np.polymul([3, 1], [1, 1]), 60.0),
    "far apart": ([0.4], np.polymul([300, 1], [15, 1]), 1.0),
    "a wall and a jacket": ([5.0], np.polymul(np.polymul([80, 1], [25, 1]), [9, 1]), 0.0),
}


def step(num, den, times):
    return lsim((num, den), np.ones_like(times), times)[1]


def response(num, den, dead_time, times):
    """Exact at every time: SciPy steps a fine grid that starts at the dead time."""
    late = times[times > dead_time] - dead_time
    grid = np.concatenate([[0.0], late])
    values = np.zeros_like(times)
    fine = np.linspace(0, grid[-1], 40 * POINTS + 1)
    values[times > dead_time] = np.interp(late, fine, step(num, den, fine))
    return values


found = []
for name, (num, den, dead_time) in PROCESSES.items():
    slowest = (-1 / np.roots(den).real).max()
    horizon = dead_time + max(8 * slowest, 3.5 * np.sum(-1 / np.roots(den).real))
    times = np.linspace(0, horizon, POINTS)
    y = response(num, den, dead_time, times)

    def model(p):
        since = np.maximum(times - p[2], 0)
        return p[0] * (1 - np.exp(-since / np.exp(p[1])))

    best = None
    for theta in np.linspace(0, 0.9 * horizon, 60):
        start = least_squares(lambda q: model([q[0], q[1], theta]) - y, [y[-1], np.log(slowest)], xtol=1e-12, ftol=1e-12)
        if best is None or start.cost < best[0]:
            best = (start.cost, [*start.x, theta])
    fit = least_squares(lambda p: model([p[0], p[1], abs(p[2])]) - y, best[1], xtol=1e-15, ftol=1e-15, gtol=1e-15, diff_step=1e-7)
    found.append({
        "name": name, "numerator": list(map(float, num)), "denominator": list(map(float, den)), "interval": times[1],
        "response": [float(f"{v:.12g}") for v in y], "least": 2 * fit.cost,
        "gain": fit.x[0], "time_constant": float(np.exp(fit.x[1])), "dead_time": abs(fit.x[2]),
    })
    print(name, 2 * fit.cost, fit.x[0], np.exp(fit.x[1]), fit.x[2])
pathlib.Path(__file__).with_name("data").joinpath("low_order.json").write_text(json.dumps(found))
