"""Loops around processes that are not linear, integrated with SciPy's solve_ivp at tight tolerance, written to
data/nonlinear.json.

The balances and the controller are written out here again from their published equations. Every case: a scan, a PI controller
(% of span, back-calculation at the limits), a start at rest, one set point step and one step of another input.
"""
import json
import math
import pathlib

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import fsolve

GRAVITY = 9.81


def reactor(u, x):
    """Seborg, Edgar & Mellichamp: stirred reactor with cooled wall; u = coolant °C, feed L/min, mol/L, °C; per second."""
    coolant, flow, feed, feed_temperature = u
    c, t = x
    k = 7.2e10 * math.exp(-8750 / (t + 273.15))
    return np.array([
        flow / 100 * (feed - c) - k * c,
        flow / 100 * (feed_temperature - t) + 5e4 * k * c / (1000 * 0.239) + 5e4 * (coolant - t) / (100 * 1000 * 0.239),
    ]) / 60


def lying(u, x):
    """Lying cylinder, 2 m by 5 m, drained by gravity through 20 cm², C = 0.62; u = inflow m³/h, opening %."""
    level = lying_level(x[0])
    return np.array([u[0] / 3600 - u[1] / 100 * 0.62 * 20e-4 * math.sqrt(2 * GRAVITY * max(level, 0))])


def lying_level(volume):
    from scipy.optimize import brentq
    area = volume / 5
    segment = lambda h: math.acos(1 - h) - (1 - h) * math.sqrt(max(2 * h - h * h, 0)) - area
    return brentq(segment, 0, 2, xtol=1e-15)


def mixing(u, x):
    """Hot and cold stream into a tank of 2 m² drained through 16 cm²; u = flows m³/h, temperatures, opening, ambient."""
    hot, cold, hot_t, cold_t, opening, ambient = u
    v, t = x
    level = v / 2
    out = opening / 100 * 0.62 * 16e-4 * math.sqrt(2 * GRAVITY * max(level, 0))
    loss = 0.1 * level / 2.5 * (t - ambient) / (1000 * 4.18)
    return np.array([hot / 3600 + cold / 3600 - out, (hot / 3600 * (hot_t - t) + cold / 3600 * (cold_t - t) - loss) / v])


def van_de_vusse(u, x):
    flow, feed = u
    a, b = x
    d = flow / 100
    return np.array([d * (feed - a) - 5 / 6 * a - a * a / 6, 5 / 6 * a - 5 / 3 * b - d * b]) / 60


CASES = [
    dict(process="stirred_reactor", rates=reactor, measure=lambda x: x[1], inputs=[26.85, 100, 1, 76.85], guess=[0.5, 76.85],
         pv=76.85, low=0, high=150, drive=[0, 60], gain=4.0, integral=60.0, sign=1, scan=2.0, rows=900,
         step=[100.0, 4.0], load=[900.7, 1, "feed_flow", 6.0]),
    dict(process="lying_tank", rates=lying, measure=lambda x: lying_level(x[0]), inputs=[20, 100], guess=[6.0],
         pv=1.2, low=0, high=2, drive=[0, 60], gain=2.0, integral=400.0, sign=1, scan=5.0, rows=800,
         step=[200.0, 0.3], load=[2001.3, 1, "outlet_opening", -30.0]),
    dict(process="mixing_tank", rates=mixing, measure=lambda x: x[1], inputs=[8, 8, 70, 12, 100, 15], guess=[2.0, 40],
         pv=45.0, low=0, high=100, drive=[0, 20], gain=1.5, integral=300.0, sign=1, scan=4.0, rows=900,
         step=[100.0, 3.0], load=[1500.9, 1, "cold_flow", -1.5]),
    dict(process="series_parallel_reactor", rates=van_de_vusse, measure=lambda x: x[1], inputs=[400 / 7, 10], guess=[3.0, 1.1],
         pv=1.1, low=0, high=2, drive=[0, 200], gain=0.6, integral=120.0, sign=1, scan=3.0, rows=800,
         step=[60.0, 0.03], load=[1200.4, 1, "feed_concentration", -0.8]),
]


def run(case):
    rates, n = case["rates"], len(case["guess"])
    inputs = list(map(float, case["inputs"]))
    at_0, at_100 = case["drive"]
    start = fsolve(
        lambda z: [*(1e3 * rates([z[n], *inputs[1:]], z[:n])), case["measure"](z[:n]) - case["pv"]],
        [*case["guess"], inputs[0]], xtol=1e-14)
    x, inputs[0] = start[:n], start[n]
    op = 100 * (inputs[0] - at_0) / (at_100 - at_0)
    percent = lambda value: 100 * (value - case["low"]) / (case["high"] - case["low"])
    kc, ti, scan = case["gain"], case["integral"], case["scan"]
    set_point, integral = case["pv"], op
    table = []
    for k in range(case["rows"]):
        now = k * scan
        if now >= case["step"][0] - 1e-9:
            set_point = case["pv"] + case["step"][1]
        pv = case["measure"](x)
        error = case["sign"] * (percent(set_point) - percent(pv))
        integral += kc * scan / ti * error
        wanted = kc * error + integral
        out = min(max(wanted, 0.0), 100.0)
        integral += min(scan / ti, 1.0) * (out - wanted)
        table.append([now, pv, out, *map(float, x)])
        inputs[0] = at_0 + (at_100 - at_0) * out / 100
        until = now + scan
        at, index, _, by = case["load"]
        if now <= at < until:
            x = advance(rates, inputs, x, at - now)
            inputs[index] += by
            now = at
        x = advance(rates, inputs, x, until - now)
    return table, float(op)


def advance(rates, inputs, x, h):
    if h <= 0:
        return x
    end = solve_ivp(lambda _, x: rates(inputs, x), (0, h), x, method="DOP853", rtol=1e-12, atol=1e-13)
    return end.y[:, -1]


def main():
    cases = []
    for case in CASES:
        table, op = run(case)
        plain = {name: value for name, value in case.items() if not callable(value) and name != "guess"}
        # Every tenth row is enough to see any difference, and the last.
        cases.append(dict(case=plain, op=op, trace=table[::10] + table[-1:]))
    path = pathlib.Path(__file__).parent / "data" / "nonlinear.json"
    path.write_text(json.dumps(cases, indent=None, separators=(",", ":")) + "\n")
    for entry in cases:
        print(entry["case"]["process"], entry["op"], entry["trace"][-1])


main()
