"""Shares of plants on which PI loops keep limits under a load, counted over 40,000 plants drawn from ranges, and the figures of one plant
by SciPy's solve_ivp; written to data/proof.json.

The process is FOPDT, its dead time exact: what comes in is piecewise constant, so that each scan is split once. The controller is
written out from its published difference equations.
"""
import json
import pathlib

import numpy as np
from scipy.integrate import solve_ivp

SCAN, ROWS, BEGINS = 1.0, 401, 20
PV0, OP0, SPAN = 50.0, 50.0, 100.0
CANDIDATES = {"calm": (0.9, 22.0), "brisk": (1.7, 16.0)}
BAND = 0.5
LIMITS = {"largest_deviation": 6.2, "recovery_time": 100.0}
RANGES = {"gain": (0.9, 1.5), "time_constant": (15.0, 25.0), "dead_time": (5.0, 11.0)}
LOAD = 10.0


def loops(gain, tau, theta, kc, ti):
    """PV and OP of many loops at once, a row a scan."""
    count = len(gain)
    whole = np.floor(theta / SCAN).astype(int)
    rest = theta - whole * SCAN
    # over a scan what came in whole + 1 scans ago acts for `rest`, then what came in `whole` scans ago
    late, early = np.exp(-(SCAN - rest) / tau), np.exp(-rest / tau)
    inputs = np.zeros((ROWS + 20, count))
    x, integral = np.zeros(count), np.full(count, OP0)
    pv, op = np.empty((ROWS, count)), np.empty((ROWS, count))
    at = np.arange(count)
    for k in range(ROWS):
        pv[k] = PV0 + x
        error = 100 * (PV0 - pv[k]) / SPAN
        integral = integral + kc * SCAN / ti * error
        wanted = kc * error + integral
        op[k] = np.clip(wanted, 0, 100)
        integral = integral + min(SCAN / ti, 1.0) * (op[k] - wanted)
        inputs[k + 20] = op[k] - OP0 + (LOAD if k >= BEGINS else 0.0)
        x = early * x + gain * (1 - early) * inputs[k + 20 - whole - 1, at]
        x = late * x + gain * (1 - late) * inputs[k + 20 - whole, at]
    return pv, op


def figures(pv, op):
    deviation = np.abs(pv[BEGINS:] - PV0)
    largest = deviation.max(axis=0)
    recovery = np.empty(pv.shape[1])
    for j in range(pv.shape[1]):
        outside = np.nonzero(deviation[:, j] > BAND)[0]
        if len(outside) == 0:
            recovery[j] = 0.0
        elif outside[-1] == len(deviation) - 1:
            recovery[j] = np.inf
        else:
            # straight between rows
            k = outside[-1]
            a, b = pv[BEGINS + k, j] - PV0, pv[BEGINS + k + 1, j] - PV0
            edge = BAND if a > 0 else -BAND
            recovery[j] = (k + (edge - a) / (b - a)) * SCAN
    return largest, recovery, np.abs(np.diff(op, axis=0)).sum(axis=0)


def exact(gain, tau, theta, kc, ti):
    """Largest deviation between scans and integral of the error of one loop, integrated as an ordinary differential equation."""
    x, integral, peak, area = 0.0, OP0, 0.0, 0.0
    switches = [(BEGINS * SCAN + theta, LOAD)]
    u = 0.0
    last = OP0
    for k in range(ROWS):
        now = k * SCAN
        error = 100 * (PV0 - (PV0 + x)) / SPAN
        integral += kc * SCAN / ti * error
        op = min(max(kc * error + integral, 0.0), 100.0)
        switches.append((now + theta, op - last))
        last = op
        until = now + SCAN
        for at, by in sorted(s for s in switches if s[0] < until) + [(until, 0.0)]:
            if at > now:
                end = solve_ivp(lambda _, s: [(gain * u - s[0]) / tau, s[0]], (now, at), [x, 0.0], method="DOP853",
                                rtol=1e-12, atol=1e-13)
                x, area = float(end.y[0, -1]), area + float(end.y[1, -1])
                now = at
            u += by
        switches = [s for s in switches if s[0] >= until]
        peak = max(peak, abs(x))
    return peak, area


rng = np.random.default_rng(204)
count = 40_000
drawn = {name: rng.uniform(low, high, count) for name, (low, high) in RANGES.items()}
result = {"scan": SCAN, "duration": (ROWS - 1) * SCAN, "at": BEGINS * SCAN, "load": LOAD, "band": BAND, "limits": LIMITS,
          "ranges": RANGES, "plants": count, "candidates": {}}
for name, (kc, ti) in CANDIDATES.items():
    largest, recovery, _ = figures(*loops(drawn["gain"], drawn["time_constant"], drawn["dead_time"], kc, ti))
    kept = (largest <= LIMITS["largest_deviation"]) & (recovery <= LIMITS["recovery_time"])
    own = loops(np.array([1.2]), np.array([20.0]), np.array([8.0]), kc, ti)
    single = [float(value[0]) for value in figures(*own)]
    peak, area = exact(1.2, 20.0, 8.0, kc, ti)
    result["candidates"][name] = {
        "gain": kc, "integral_time": ti, "share": float(kept.mean()),
        "share_of_deviation": float((largest <= LIMITS["largest_deviation"]).mean()),
        "largest_deviation": single[0], "recovery_time": single[1], "output_travel": single[2],
        "peak_by_solve_ivp": peak, "integral_by_solve_ivp": area,
        "quantiles_of_deviation": [float(np.quantile(largest, q)) for q in (0.05, 0.5, 0.95)],
    }
    print(name, result["candidates"][name])
path = pathlib.Path(__file__).parent / "data" / "proof.json"
path.write_text(json.dumps(result, indent=1) + "\n")
