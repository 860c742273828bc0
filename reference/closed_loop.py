"""Closed loops around FOPDT, integrated with SciPy's solve_ivp at tight tolerance, written to data/closed_loop.json.

The process is integrated as an ordinary differential equation between the instants at which its delayed inputs switch; the
controller is written out from its published difference equations.
"""
import json
import math
import pathlib

import numpy as np
from scipy.integrate import solve_ivp


def run(case):
    gain, tau, theta = case["gain"], case["time_constant"], case["dead_time"]
    kc, ti, td, n = case["controller_gain"], case["integral_time"], case["derivative_time"], 10.0
    scan, rows, low, high = case["scan"], case["rows"], 0.0, 100.0
    pv0, op0, span = 60.0, 40.0, 200.0
    tt = math.sqrt(ti * td) if td else ti
    switches = [(case["load_at"] + theta, "load", case["load"])]
    u, load = op0, 0.0
    x, integral, derivative = 0.0, op0, 0.0
    percent = lambda value: 100 * value / span
    set_point = pv0
    # bumpless start: the integral carries what the proportional term does not
    integral = op0 - kc * (percent(pv0) - percent(pv0))
    last = percent(pv0)
    table = []
    for k in range(rows):
        now = k * scan
        if now >= case["step_at"] - 1e-9:
            set_point = pv0 + case["step"]
        pv = pv0 + x
        y, r = percent(pv), percent(set_point)
        derivative = td / (td + n * scan) * derivative - kc * td * n / (td + n * scan) * (y - last)
        last = y
        integral += kc * scan / ti * (r - y)
        wanted = kc * (r - y) + integral + derivative
        op = min(max(wanted, low), high)
        integral += min(scan / tt, 1.0) * (op - wanted)
        table.append([now, set_point, pv, op])
        switches.append((now + theta, "op", op))
        until = now + scan
        for at, what, value in sorted(s for s in switches if s[0] < until):
            x = advance(x, u + load - op0, at - now, gain, tau)
            now = at
            if what == "op":
                u = value
            else:
                load += value
        switches = [s for s in switches if s[0] >= until]
        x = advance(x, u + load - op0, until - now, gain, tau)
    return table


def advance(x, v, h, gain, tau):
    if h <= 0:
        return x
    end = solve_ivp(lambda _, x: (gain * v - x) / tau, (0, h), [x], method="DOP853", rtol=1e-13, atol=1e-13)
    return float(end.y[0, -1])


base = {"gain": 1.3, "time_constant": 42.0, "dead_time": 2.37, "controller_gain": 2.1, "integral_time": 30.0,
        "derivative_time": 0.0, "scan": 1.0, "rows": 240, "step_at": 10.0, "step": 8.0, "load_at": 120.45, "load": -15.0}
cases = [
    base,
    {**base, "dead_time": 17.81, "derivative_time": 6.0, "scan": 2.0, "load_at": 301.3, "rows": 300},
    {**base, "step": 60.0, "controller_gain": 6.0, "load_at": 150.0},
]
result = [{"case": case, "trace": [[round(v, 12) for v in row] for row in run(case)]} for case in cases]
path = pathlib.Path(__file__).parent / "data" / "closed_loop.json"
path.write_text(json.dumps(result).replace("], [", "],\n[") + "\n")
print(path, len(path.read_text()))
