"""The best PID settings under a limit of the maximum sensitivity, by exhaustive search with NumPy, to data/pid_search.json.

Six processes with first order and dead time, three limits each. The loop is written out from its difference equations and runs for
thousands of settings at once; the maximum sensitivity comes from its frequency response. The grid over integral time, derivative
time and gain is zoomed about its best point until the error stands still: a search without any cleverness.
"""
import json
import pathlib

import numpy as np

SCAN, FILTER = 0.5, 10.0
PLANTS = [(1.2, 100.0, 5.0), (2.0, 5.0, 50.0), (1.0, 20.0, 10.0), (1.5, 10.0, 10.0), (1.0, 50.0, 5.0), (0.8, 20.0, 2.0)]
LIMITS = [1.4, 1.6, 2.0]


def sensitivity(plant, kc, ti, td):
    """Largest |1/(1 + L)| for each of the settings."""
    gain, tau, theta = plant
    w = np.pi / SCAN * np.unique(np.concatenate([np.geomspace(1e-4, 1, 900), np.linspace(0.002, 1, 700)]))[:-1]
    z1 = np.exp(-1j * w * SCAN)
    a = np.exp(-SCAN / tau)
    process = gain * (1 - a) * z1 ** (1 + round(theta / SCAN)) / (1 - a * z1)
    memory = (td / (td + FILTER * SCAN))[:, None]
    controller = 1 + (SCAN / ti)[:, None] / (1 - z1) + (td * FILTER / (td + FILTER * SCAN))[:, None] * (1 - z1) / (1 - memory * z1)
    return np.abs(1 / (1 + kc[:, None] * controller * process)).max(axis=1)


def largest_gain(plant, limit, ti, td):
    """The gain up to which the sensitivity stays below the limit, from below."""
    gain, tau, theta = plant
    low = np.full(ti.shape, 1e-3 / gain)
    step = np.full(ti.shape, 1.25)
    while True:
        trial = low * step
        fine = sensitivity(plant, trial, ti, td) <= limit
        low = np.where(fine, trial, low)
        step = np.where(fine, step, 1 + 0.5 * (step - 1))
        if step.max() < 1.0002:
            return low


def error(plant, kc, ti, td):
    """The integral of |e| after a load of 1 %, % s; infinite where it does not come to rest."""
    gain, tau, theta = plant
    m = round(theta / SCAN)
    steps = int(min(40 * (theta + tau) + 15 * np.median(ti), 12000) / SCAN)
    a = np.exp(-SCAN / tau)
    x = np.zeros(kc.shape)
    queue = [np.zeros(kc.shape)] * m
    integral, derivative, last = np.zeros(kc.shape), np.zeros(kc.shape), np.zeros(kc.shape)
    total, before = np.zeros(kc.shape), np.zeros(kc.shape)
    memory, push = td / (td + FILTER * SCAN), kc * td * FILTER / (td + FILTER * SCAN)
    with np.errstate(all="ignore"):
        for _ in range(steps):
            y = x
            derivative = memory * derivative - push * (y - last)
            last = y
            integral = integral + kc * SCAN / ti * -y
            u = -kc * y + integral + derivative + 1.0
            total += 0.5 * SCAN * (np.abs(before) + np.abs(y))
            before = y
            queue.append(u)
            x = a * x + gain * (1 - a) * queue.pop(0)
    return np.where(np.isfinite(total) & (np.abs(y) < 1e-4), total, np.inf)


found = []
for plant in PLANTS:
    gain, tau, theta = plant
    for limit in LIMITS:
        low, high = np.log(0.2 * theta), np.log(4 * (theta + tau))
        short, long = np.log(0.01), np.log(1.0)
        best = None
        for _ in range(6):
            grid = np.meshgrid(np.linspace(low, high, 25), np.linspace(short, long, 17))
            ti = np.exp(grid[0].ravel())
            td = ti * np.exp(grid[1].ravel())
            top = largest_gain(plant, limit, ti, td)
            for share in (1.0, 0.97, 0.9, 0.8, 0.65):
                e = error(plant, share * top, ti, td)
                k = int(np.argmin(e))
                if best is None or e[k] < best[0]:
                    best = (float(e[k]), float(share * top[k]), float(ti[k]), float(td[k]))
            spread, other = 0.22 * (high - low), 0.22 * (long - short)
            low, high = np.log(best[2]) - spread, np.log(best[2]) + spread
            short, long = np.log(best[3] / best[2]) - other, np.log(best[3] / best[2]) + other
        found.append({"plant": plant, "limit": limit, "error": best[0], "settings": best[1:]})
        print(found[-1], flush=True)
path = pathlib.Path(__file__).parent / "data" / "pid_search.json"
path.write_text(json.dumps({"scan": SCAN, "cases": found}) + "\n")
