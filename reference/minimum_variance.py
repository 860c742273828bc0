"""Sampled PI loops on a first-order process with dead time under an ARMA(1, 1) disturbance at the PV: the variance of the PV,
the part of it that no feedback can reach (Harris 1989), and what is left of the disturbance alone over the dead time.

From the transfer functions, by SciPy's lfilter; the tests simulate the loops sample by sample and estimate the same from them.
"""

import json
from pathlib import Path

import numpy as np
from scipy.signal import lfilter

CASES = [
    # gain, time constant, dead time, scan, Kc, Ti, AR and MA coefficient of the disturbance
    (1.0, 20.0, 10.0, 2.0, 0.8, 20.0, 0.98, 0.0),
    (1.0, 20.0, 10.0, 2.0, 0.3, 40.0, 0.98, 0.0),
    (1.0, 20.0, 10.0, 2.0, 1.5, 20.0, 0.95, 0.3),
    (1.0, 60.0, 20.0, 4.0, 2.0, 60.0, 0.99, 0.5),
    (-2.0, 30.0, 30.0, 3.0, -0.2, 30.0, 0.9, 0.0),
    (1.0, 20.0, 4.0, 1.0, 2.0, 15.0, 1.0, 0.8),
    (0.5, 40.0, 60.0, 2.0, 1.0, 60.0, 0.99, 0.0),
]

found = []
for gain, lag, dead_time, scan, kc, ti, ar, ma in CASES:
    a = np.exp(-scan / lag)
    b = gain * (1 - a)
    delay = round(dead_time / scan)
    ahead = delay + 1
    open_loop = np.polymul([1, -a], [1, -1])
    feedback = np.concatenate([np.zeros(ahead), b * np.polymul([1], [kc + kc * scan / ti, -kc])])
    closed = np.zeros(max(len(open_loop), len(feedback)))
    closed[: len(open_loop)] += open_loop
    closed[: len(feedback)] += feedback
    impulse = np.zeros(60_000)
    impulse[0] = 1.0
    disturbance = lfilter([1, -ma], [1, -ar], impulse)
    response = lfilter(open_loop, closed, disturbance)
    squares = response**2
    found.append(
        {
            "gain": gain, "time_constant": lag, "dead_time": dead_time, "scan": scan,
            "controller_gain": kc, "integral_time": ti, "ar": ar, "ma": ma,
            "ahead": ahead,
            "deviation": float(np.sqrt(squares.sum())),
            "least_deviation": float(np.sqrt(squares[:ahead].sum())),
            "index": float(squares[:ahead].sum() / squares.sum()),
            "of_disturbance": None if ar == 1.0 else float(np.sqrt((disturbance**2).sum())),
        }
    )

Path(__file__).parent.joinpath("data/minimum_variance.json").write_text(json.dumps(found, indent=1) + "\n")
