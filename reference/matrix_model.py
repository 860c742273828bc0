"""Step tests of two inputs, one after the other, on processes of several outputs, and the least-squares fit of each output by
SciPy's least_squares from many starts, written to data/matrix_model.json.

Responses are sums of closed step responses, so that neither record nor fit needs an integrator. The column is that of Wood &
Berry (Chem. Eng. Sci. 28 (1973) 1707); the other process is invented: every structure in one matrix, and empty cells.
"""
import json
import pathlib

import numpy as np
from scipy.optimize import least_squares

MINUTE = 60.0


def step_response(structure, p, t):
    """Response of each structure to a unit step at 0; p without the dead time, which comes last in the parameters."""
    t = np.maximum(t, 0.0)
    if structure == "fopdt":
        gain, tau = p
        return gain * -np.expm1(-t / tau)
    if structure == "two_lags":
        gain, slow, fast = p
        if abs(slow - fast) < 1e-9 * slow:
            fast = slow * (1 - 1e-9)
        return gain * (1 - (slow * np.exp(-t / slow) - fast * np.exp(-t / fast)) / (slow - fast))
    if structure == "underdamped":
        gain, tau, zeta = p
        root = np.sqrt(complex(zeta * zeta - 1))
        a, b = (-zeta + root) / tau, (-zeta - root) / tau
        return np.real(gain * (1 + (b * np.exp(a * t) - a * np.exp(b * t)) / (a - b)))
    if structure == "integrating":
        return p[0] * t
    raise ValueError(structure)


# Gain, then the shape, then the dead time; None where nothing goes from there to there.
CASES = {
    "column": {
        "interval": 24.0,
        "count": 900,
        "moves": {"u1": [(10, 1.0), (90, -1.0), (180, 0.5), (250, -0.5)], "u2": [(50, 0.8), (130, -0.8), (216, 1.0), (300, -1.0)]},
        "rest": {"y1": 96.0, "y2": 0.5},
        "noise": 0.15,
        "rows": {
            "y1": [("fopdt", [12.8, 16.7 * MINUTE, 1 * MINUTE]), ("fopdt", [-18.9, 21.0 * MINUTE, 3 * MINUTE])],
            "y2": [("fopdt", [6.6, 10.9 * MINUTE, 7 * MINUTE]), ("fopdt", [-19.4, 14.4 * MINUTE, 3 * MINUTE])],
        },
        "unit": MINUTE,
    },
    "mixed": {
        "interval": 2.0,
        "count": 700,
        "moves": {"u1": [(20, 5.0), (400, -8.0), (800, 4.0)], "u2": [(200, 4.0), (600, -6.0), (1000, 5.0)]},
        "rest": {"y1": 40.0, "y2": 2.0, "y3": 10.0},
        "noise": 0.05,
        "rows": {
            "y1": [("two_lags", [1.4, 60.0, 25.0, 7.3]), None],
            "y2": [("integrating", [0.0021, 3.7]), ("fopdt", [-0.9, 45.0, 11.1])],
            "y3": [None, ("underdamped", [0.7, 30.0, 0.35, 5.4])],
        },
        "unit": 1.0,
    },
}


def inputs(case):
    t = case["interval"] * np.arange(case["count"])
    series = {}
    for name, moves in case["moves"].items():
        series[name] = 50.0 + sum(size * (t >= at * case["unit"] - 1e-9) for at, size in moves)
    return t, series


def modelled(case, cells, unknowns, t, slope):
    """Level, drift where something integrates, then the parameters of each cell."""
    y = unknowns[0] + (unknowns[1] * t if slope else 0.0)
    k = 2 if slope else 1
    for cell, moves in zip(cells, case["moves"].values()):
        if cell is None:
            continue
        structure, count = cell[0], len(cell[1])
        p, k = unknowns[k : k + count], k + count
        for at, size in moves:
            y = y + size * step_response(structure, p[:-1], t - at * case["unit"] - p[-1])
    return y


def main():
    generator = np.random.default_rng(1973)
    out = {}
    for name, case in CASES.items():
        t, series = inputs(case)
        # A move acts from the sample on at which it is recorded: both stand on the same times.
        rows = {}
        for output, cells in case["rows"].items():
            slope = any(cell and cell[0] == "integrating" for cell in cells)
            truth = [case["rest"][output]] + ([0.0] if slope else [])
            for cell in cells:
                truth += cell[1] if cell else []
            truth = np.array(truth)
            y = modelled(case, cells, truth, t, slope) + case["noise"] * generator.standard_normal(len(t))
            best = None
            for trial in range(40):
                start = truth * (1 + 0.25 * generator.standard_normal(len(truth))) if trial else truth
                scale = np.maximum(np.abs(truth), 1e-3)
                found = least_squares(
                    lambda x: modelled(case, cells, x, t, slope) - y, start, x_scale=scale, method="trf",
                    bounds=(np.where(np.isin(np.arange(len(truth)), positive(cells, slope)), 1e-3, -np.inf), np.inf),
                    xtol=1e-14, ftol=1e-14, gtol=1e-14, max_nfev=400,
                ) if np.all(start[positive(cells, slope)] > 1e-3) else None
                if found is not None and (best is None or found.cost < best.cost):
                    best = found
            rows[output] = {
                "structures": [cell[0] if cell else None for cell in cells],
                "truth": [cell[1] if cell else None for cell in cells],
                "values": y.tolist(),
                "least_squares": {"unknowns": best.x.tolist(), "sum_of_squares": 2 * best.cost},
            }
            print(name, output, 2 * best.cost, np.round(best.x, 4))
        out[name] = {"interval": case["interval"], "noise": case["noise"],
                     "inputs": {k: v.tolist() for k, v in series.items()}, "rows": rows}
    path = pathlib.Path(__file__).parent / "data" / "matrix_model.json"
    path.write_text(json.dumps(out) + "\n")


def positive(cells, slope):
    """Places of times and dampings, which are above 0."""
    places, k = [], 2 if slope else 1
    for cell in cells:
        if cell:
            places += range(k + 1, k + len(cell[1]))
            k += len(cell[1])
    return places


if __name__ == "__main__":
    main()
