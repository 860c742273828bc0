"""First-order fits with dead time beside slow noise, by SciPy, to data/noise_model.json.

Records of K = 0.8, tau = 25 s, theta = 6.4 s, sampled every second, with autoregressive noise of first order (pole 0.95): twelve with five steps
of the OP by hand, six from a loop under PI control whose set point moves. Each is fitted by least squares of the output, and by
maximum likelihood of process and noise together (exact Gaussian likelihood, the pole by a bounded search, the process by
`scipy.optimize.least_squares` on the whitened output).
"""
import json
import pathlib

import numpy as np
from scipy.optimize import least_squares, minimize_scalar

K, TAU, THETA, POLE, DEVIATION = 0.8, 25.0, 6.4, 0.95, 0.1
WHOLE, PART = 6, 0.4


def response(gain, tau, theta, u):
    """Exact under a hold, the dead time not rounded; the input stood at its first value before."""
    whole, part = int(np.floor(theta)), theta - np.floor(theta)
    early, late = np.exp(-part / tau), np.exp(-(1 - part) / tau)
    x, out = u[0], np.empty(len(u))
    delayed = np.concatenate([np.full(whole + 1, u[0]), u])
    for k in range(len(u)):
        out[k] = x
        x = delayed[k] + (x - delayed[k]) * early
        x = delayed[k + 1] + (x - delayed[k + 1]) * late
    return gain * (out - u[0])


def record(seed, closed):
    rng = np.random.default_rng(seed)
    n = 800
    e = np.empty(n)
    e[0] = DEVIATION * rng.standard_normal()
    for k in range(1, n):
        e[k] = POLE * e[k - 1] + np.sqrt(1 - POLE**2) * DEVIATION * rng.standard_normal()
    if not closed:
        u = np.zeros(n)
        for share in (0.05, 0.25, 0.45, 0.6, 0.8):
            u[int(share * n):] = 4.0 - u[int(share * n) - 1]
        return u, response(K, TAU, THETA, u) + e
    early, late = np.exp(-PART / TAU), np.exp(-(1 - PART) / TAU)
    u, y, x, integral = np.zeros(n), np.zeros(n), 0.0, 0.0
    for k in range(n):
        y[k] = x + e[k]
        sp = 2.0 * ((k > 80) + (k > 420) * -1.0)
        integral += 1.5 * (sp - y[k]) / 25
        u[k] = 1.5 * (sp - y[k]) + integral
        old = u[k - WHOLE - 1] if k > WHOLE else 0.0
        new = u[k - WHOLE] if k >= WHOLE else 0.0
        x = K * old + (x - K * old) * early
        x = K * new + (x - K * new) * late
    return u, y


def whitened(e, pole):
    out = e.copy()
    out[1:] = e[1:] - pole * e[:-1]
    out[0] *= np.sqrt(1 - pole**2)
    return out


def fit(u, y, pole):
    """The process by least squares of the whitened output, the best of several dead times to begin with."""
    best = None
    left = lambda p: whitened(y - p[3] - response(p[0], np.exp(p[1]), abs(p[2]), u), pole)
    for theta in np.concatenate([np.arange(4.6, 8.4, 0.4), [2.5, 11.5]]):
        found = least_squares(left, [1.0, np.log(20), theta, 0.0], xtol=1e-12, ftol=1e-12, x_scale=[0.1, 0.1, 0.3, 0.1], diff_step=1e-5)
        if best is None or found.cost < best.cost:
            best = found
    return best


def likelihood(u, y, pole):
    cost = 2 * fit(u, y, pole).cost
    return len(y) * np.log(cost / len(y)) - np.log(1 - pole**2)


out = []
for seed in range(18):
    closed = seed >= 12
    u, y = record(seed, closed)
    u, y = np.round(u, 9), np.round(y, 9)
    squares = fit(u, y, 0.0)
    pole = minimize_scalar(lambda p: likelihood(u, y, p), bounds=(0.5, 0.999), method="bounded", options={"xatol": 1e-4}).x
    likely = fit(u, y, pole)
    values = lambda f: [f.x[0], float(np.exp(f.x[1])), abs(f.x[2])]
    out.append({"closed": closed, "op": u.tolist(), "pv": y.tolist(), "squares": values(squares), "likely": values(likely), "pole": pole})
    print(closed, values(squares), values(likely), pole, flush=True)
path = pathlib.Path(__file__).with_name("data").joinpath("noise_model.json")
path.write_text(json.dumps({"truth": [K, TAU, THETA], "records": out}) + "\n")
