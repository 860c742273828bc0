"""Margins of sampled PID loops around FOPDT with python-control, written to data/margins.json.

The loop of a digital PID and a held, sampled FOPDT with any dead time is a ratio of polynomials in z, without
approximation: python-control gets the polynomials, built here from the difference equations.
"""
import json
import pathlib

import control
import numpy as np

rng = np.random.default_rng(20261124)
cases = []
while len(cases) < 50:
    gain, tau = float(rng.uniform(0.2, 4)), float(rng.uniform(5, 80))
    theta = float(rng.uniform(0, 1.5) * tau * rng.integers(0, 2)) + float(rng.uniform(0, 3))
    scan = float(rng.uniform(0.02, 0.25) * (tau + theta) / 4)
    kc = float(rng.uniform(0.1, 1.4) * tau / (gain * (theta + 0.3 * tau)))
    ti, td, n = float(rng.uniform(0.3, 2) * tau), float(rng.integers(0, 2) * rng.uniform(0.02, 0.3) * tau), 10.0

    whole = int(np.floor(theta / scan))
    rest = theta - whole * scan
    a = np.exp(-scan / tau)
    late = gain * (1 - np.exp(-(scan - rest) / tau))
    early = gain * (np.exp(-(scan - rest) / tau) - a)
    process = control.tf([late, early], np.concatenate([[1, -a], np.zeros(whole + 1)]), scan)
    integral = control.tf([kc * scan / ti, 0], [1, -1], scan)
    controller = control.tf([kc], [1], scan) + integral
    if td:
        memory, push = td / (td + n * scan), kc * td * n / (td + n * scan)
        controller = controller + control.tf([push, -push], [1, -memory], scan)
    loop = controller * process

    # Closed-loop poles by the roots of numerator + denominator.
    closed = np.polyadd(loop.num[0][0], loop.den[0][0])
    radius = float(np.max(np.abs(np.roots(closed))))
    if abs(radius - 1) < 1e-3:
        continue
    case = {"gain": gain, "time_constant": tau, "dead_time": theta, "scan": scan, "controller_gain": kc,
            "integral_time": ti, "derivative_time": td, "stable": radius < 1}
    if radius < 1:
        gms, pms, sms, wgs, wps, _ = control.stability_margins(loop, returnall=True, method="frd" if whole > 40 else "best")
        # python-control leaves out the end of the curve, z = -1, where it is real: a pole can leave the circle there, too.
        end = float((np.polyval(loop.num[0][0], -1.0) / np.polyval(loop.den[0][0], -1.0)).real)
        rising = [g for g in [*gms, -1 / end] if g > 1]
        case["gain_margin"] = float(min(rising)) if rising else None
        case["phase_margin"] = float(min(pms)) if len(pms) else None
        # Maximum sensitivity on a grid fine enough for five digits.
        w = np.linspace(1e-4 / tau, np.pi / scan, 400001)
        z = np.exp(1j * w * scan)
        response = np.polyval(loop.num[0][0], z) / np.polyval(loop.den[0][0], z)
        case["max_sensitivity"] = float(np.max(1 / np.abs(1 + response)))
    cases.append(case)

path = pathlib.Path(__file__).parent / "data" / "margins.json"
path.write_text(json.dumps(cases, indent=1) + "\n")
print(sum(case["stable"] for case in cases), "of", len(cases), "stable")
