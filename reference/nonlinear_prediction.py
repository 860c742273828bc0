"""The best moves of a predictive controller whose model is a conical tank drained by gravity, by SciPy's SLSQP over solve_ivp: no
linearisation, no sensitivities of the program. The first plan after a set point step from rest, with and without limits at work.

Tank: diameter 3 m at the rim, 4 m high, outlet 20 cm2 with a discharge coefficient of 0.62, inflow 0 to 40 m3/h by the MV.
min sum over i of (100/4 (h_i - r))^2 + sum over b of (move_b / 0.5)^2, moves begin at scans 0, 1, 2, 4, 8, scan 20 s, 40 scans ahead.
Prints the planned MV in % of each block.
"""
import json

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import brentq, minimize

diameter, height, area, discharge, g = 3.0, 4.0, 20e-4, 0.62, 9.81
full = np.pi * diameter**2 * height / 12
begins, scans, scan = [0, 1, 2, 4, 8], 40, 20.0


def level(v):
    return height * np.cbrt(max(v, 0.0) / full)


def rates(_, v, u):
    return [0.4 * u / 3600 - discharge * area * np.sqrt(2 * g * level(v[0]))]


def path(v, u):
    levels = []
    for i in range(scans):
        v = solve_ivp(rates, (0, scan), [v], args=(u[i],), rtol=1e-10, atol=1e-12).y[0, -1]
        levels.append(level(v))
    return np.array(levels)


def plan(start, target, most):
    v0 = full * (start / height) ** 3
    before = discharge * area * np.sqrt(2 * g * start) * 3600 / 0.4
    held = lambda x: before + np.array([sum(x[b] for b, at in enumerate(begins) if at <= i) for i in range(scans)])
    cost = lambda x: np.sum((25 * (path(v0, held(x)) - target)) ** 2) + np.sum((x / 0.5) ** 2)
    positions = [{"type": "ineq", "fun": lambda x, b=b, s=s: s * (before + np.sum(x[: b + 1]) - (0 if s > 0 else most)) / 10}
                 for b in range(len(begins)) for s in (1, -1)]
    best = None
    for guess in (np.zeros(5), np.array([5.0, 0, 0, 0, -3])):
        found = minimize(cost, guess, method="SLSQP", constraints=positions, options={"maxiter": 300, "ftol": 1e-13, "eps": 1e-6})
        if best is None or found.fun < best.fun:
            best = found
    return {"start": start, "target": target, "most": most, "before": before,
            "planned": [float(before + np.sum(best.x[: b + 1])) for b in range(len(begins))], "cost": float(best.fun)}


print(json.dumps([plan(1.0, 1.15, 100.0), plan(1.0, 2.2, 100.0), plan(2.2, 1.2, 100.0), plan(1.0, 1.6, 60.0)], indent=1))
