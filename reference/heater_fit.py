"""FOPDT least-squares fit of the laboratory heater record with SciPy, written to data/heater_fit.json.

The model is simulated by its own recursion (zero-order hold, fractional dead time), the derivatives are finite
differences: nothing is shared with the code under test.
"""
import gzip
import json
import pathlib

import numpy as np
from scipy.optimize import least_squares
from scipy.signal import lfilter

RECORD = "/usr/share/doc/libslicot-doc/examples/fortran77/IB01AD.dat.gz"
TS = 0.08

numbers = np.array(gzip.open(RECORD, "rt").read().split("\n", 2)[2].split(), dtype=float)
u, y = numbers[:1000], numbers[1000:2000]
u, y = u - u.mean(), y - y.mean()


def simulate(gain, tau, theta):
    whole = int(np.floor(theta / TS))
    rest = theta - whole * TS
    a = np.exp(-TS / tau)
    late = 1 - np.exp(-(TS - rest) / tau)
    early = np.exp(-(TS - rest) / tau) - a
    # x[k+1] = a x[k] + late u[k-d] + early u[k-d-1], the input held at u[0] before the start, x[0] = u[0]
    padded = np.concatenate([np.full(whole + 2, u[0]), u])
    forced = np.concatenate([[u[0]], late * padded[2 : 1 + len(u)] + early * padded[1 : len(u)]])
    return gain * lfilter([1.0], [1.0, -a], forced)


def residuals(p):
    gain, offset, transient, tau, theta = p
    t = TS * np.arange(len(u))
    # before the record the input stood at its mean, which is 0 here, and not at its first value: take that off again
    pulse = (1 - np.exp(-t / tau)) - np.where(t > theta, 1 - np.exp(-np.maximum(t - theta, 0) / tau), 0)
    return simulate(gain, tau, theta) - gain * u[0] * pulse + offset + transient * np.exp(-t / tau) - y


best = None
for theta in np.arange(0.0, 0.5, 0.05):
    for tau in (0.2, 0.4, 0.8):
        try:
            fit = least_squares(
                residuals, [1.0, 0.0, 0.0, tau, theta],
                bounds=([-10, -10, -10, 0.02, 0], [10, 10, 10, 10, 2]),
                xtol=1e-14, ftol=1e-14, gtol=1e-14, x_scale=[1, 1, 1, 0.1, 0.1],
            )
        except ValueError:
            continue
        if best is None or fit.cost < best.cost:
            best = fit

sse = 2 * best.cost
covariance = np.linalg.inv(best.jac.T @ best.jac) * sse / (len(u) - 5)
errors = np.sqrt(np.diag(covariance))
result = {
    "gain": best.x[0],
    "time_constant": best.x[3],
    "dead_time": best.x[4],
    "gain_standard_error": errors[0],
    "time_constant_standard_error": errors[3],
    "dead_time_standard_error": errors[4],
    "fit_percent": 100 * (1 - np.sqrt(sse) / np.linalg.norm(y)),
}
path = pathlib.Path(__file__).parent / "data" / "heater_fit.json"
path.write_text(json.dumps(result, indent=2) + "\n")
print(path.read_text())
