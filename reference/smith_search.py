"""The best PI settings of a Smith predictor with the right model under a limit of the maximum sensitivity, by exhaustive search with
NumPy, to data/smith_search.json. Plants, limits and the load are those of pid_search.py.

The sensitivity is that of the whole loop, 1/(1 + C (G0 - G) + C G) times 1 + C (G0 - G) with G0 the model without its dead time.
"""
import json
import pathlib

import numpy as np

SCAN = 0.5
PLANTS = [(1.2, 100.0, 5.0), (2.0, 5.0, 50.0), (1.0, 20.0, 10.0), (1.5, 10.0, 10.0), (1.0, 50.0, 5.0), (0.8, 20.0, 2.0)]
LIMITS = [1.4, 1.6, 2.0]


def frequencies(theta):
    even = np.arange(0.01 / (theta + SCAN), np.pi / SCAN, 0.04 / (theta + SCAN))
    return np.unique(np.concatenate([np.geomspace(1e-5, np.pi / SCAN, 1500)[:-1], even]))


def sensitivity(plant, kc, ti):
    gain, tau, theta = plant
    w = frequencies(theta)
    z1 = np.exp(-1j * w * SCAN)
    a = np.exp(-SCAN / tau)
    prompt = gain * (1 - a) * z1 / (1 - a * z1)
    late = prompt * z1 ** round(theta / SCAN)
    c = kc[:, None] * (1 + (SCAN / ti)[:, None] / (1 - z1))
    inner = 1 + c * (prompt - late)
    return np.abs(inner / (inner + c * late)).max(axis=1)


def load_error(plant, kc, ti):
    """The integral of |e| after a load of 1 %, % s; infinite where it does not come to rest."""
    gain, tau, theta = plant
    m = round(theta / SCAN)
    steps = int(min(40 * (theta + tau) + 15 * np.median(ti), 12000) / SCAN)
    a = np.exp(-SCAN / tau)
    zeros = np.zeros(kc.shape)
    x, prompt, late, integral, total, before = zeros, zeros, zeros, zeros, zeros, zeros
    plant_queue, model_queue = [zeros] * m, [zeros] * m
    with np.errstate(all="ignore"):
        for _ in range(steps):
            y = x
            e = -(prompt + y - late)
            integral = integral + kc * SCAN / ti * e
            u = kc * e + integral
            total = total + 0.5 * SCAN * (np.abs(before) + np.abs(y))
            before = y
            plant_queue.append(u + 1.0)
            model_queue.append(u)
            x = a * x + gain * (1 - a) * plant_queue.pop(0)
            late = a * late + gain * (1 - a) * model_queue.pop(0)
            prompt = a * prompt + gain * (1 - a) * u
    return np.where(np.isfinite(total) & (np.abs(y) < 1e-4), total, np.inf)


found = []
for plant in PLANTS:
    gain, tau, theta = plant
    for limit in LIMITS:
        kc_low, kc_high = np.log(0.02 / gain), np.log(60 * (tau + theta) / (gain * (theta + SCAN)))
        low, high = np.log(0.05 * (tau + SCAN)), np.log(4 * (theta + tau))
        best = None
        for _ in range(6):
            grid = np.meshgrid(np.linspace(kc_low, kc_high, 41), np.linspace(low, high, 31))
            kc, ti = np.exp(grid[0].ravel()), np.exp(grid[1].ravel())
            fine = sensitivity(plant, kc, ti) <= limit
            if fine.any():
                e = load_error(plant, kc[fine], ti[fine])
                k = int(np.argmin(e))
                if np.isfinite(e[k]) and (best is None or e[k] < best[0]):
                    best = (float(e[k]), float(kc[fine][k]), float(ti[fine][k]))
            spread, other = 0.18 * (kc_high - kc_low), 0.18 * (high - low)
            kc_low, kc_high = np.log(best[1]) - spread, np.log(best[1]) + spread
            low, high = np.log(best[2]) - other, np.log(best[2]) + other
        found.append({"plant": plant, "limit": limit, "error": best[0], "settings": [*best[1:], 0.0]})
        print(found[-1], flush=True)
path = pathlib.Path(__file__).parent / "data" / "smith_search.json"
path.write_text(json.dumps({"scan": SCAN, "cases": found}) + "\n")
