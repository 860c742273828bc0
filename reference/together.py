"""One model fitted to two stretches at once, with SciPy and NumPy, written to data/together.json.

The stretches are of one process with first order and dead time that stands at another level in each. The dead-time model is
simulated by its own recursion (zero-order hold, fractional dead time) and fitted by finite differences: nothing is shared with the
code under test. The difference equation is a stacked regression, each stretch about its own means.
"""
import json
import pathlib

import numpy as np
from scipy.optimize import least_squares

INTERVAL = 2.0
TRUE = {"gain": 1.3, "time_constant": 37.0, "dead_time": 11.3}


def simulate(op, gain, time_constant, dead_time):
    """Deviation of the PV, the OP held between samples and at its first value before."""
    u = op - op[0]
    times = INTERVAL * np.arange(len(u))
    x, y = 0.0, []
    for now in times:
        y.append(x)
        # From now to the next sample the delayed input switches once at most.
        begin, end = now - dead_time, now + INTERVAL - dead_time
        k = int(np.floor(begin / INTERVAL + 1e-12))
        switch = (k + 1) * INTERVAL
        for start, stop, index in ((begin, min(switch, end), k), (min(switch, end), end, k + 1)):
            level = u[index] if index >= 0 else 0.0
            x = level * gain + (x - level * gain) * np.exp(-(stop - start) / time_constant)
    return np.array(y)


generator = np.random.default_rng(11)
moves = [[(20, 45.0), (120, 38.0), (180, 41.0)], [(15, 52.0), (60, 49.0)]]
stretches = []
for rest, level, list_of_moves, count in ((40.0, 70.0, moves[0], 240), (50.0, 76.5, moves[1], 130)):
    op = np.full(count, rest)
    for at, value in list_of_moves:
        op[at:] = value
    pv = level + simulate(op, **TRUE) + 0.15 * generator.standard_normal(count)
    stretches.append((op, np.round(pv, 6)))


def left(p):
    gain, time_constant, dead_time, *levels = p
    parts = [pv - level - simulate(op, gain, time_constant, dead_time) for (op, pv), level in zip(stretches, levels)]
    return np.concatenate(parts)


best = min(
    (
        least_squares(left, [1.0, 30.0, start, 70.0, 76.0], xtol=1e-14, ftol=1e-14, gtol=1e-14, x_scale=[1, 30, 10, 70, 70])
        for start in (6.2, 8.3, 10.4, 12.5, 14.6)
    ),
    key=lambda found: found.cost,
)

# The lags reach back by 7.
rows, right = [], []
for op, pv in stretches:
    u, y = op - op.mean(), pv - pv.mean()
    for k in range(7, len(u)):
        rows.append([-y[k - 1], -y[k - 2], u[k - 6], u[k - 7]])
        right.append(y[k])
theta, *_ = np.linalg.lstsq(np.array(rows), np.array(right), rcond=None)

result = {
    "interval": INTERVAL,
    "stretches": [{"op": op.tolist(), "pv": pv.tolist()} for op, pv in stretches],
    "process": dict(zip(("gain", "time_constant", "dead_time"), best.x[:3].tolist())),
    "levels": best.x[3:].tolist(),
    "sum_of_squares": 2 * best.cost,
    "arx_2_2_6": theta.tolist(),
}
path = pathlib.Path(__file__).parent / "data" / "together.json"
path.write_text(json.dumps(result) + "\n")
print({key: result[key] for key in ("process", "levels", "sum_of_squares", "arx_2_2_6")})
