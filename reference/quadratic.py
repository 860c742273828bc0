"""Random strictly convex quadratic programs, solved by quadprog and once more by daqp, which must agree; what has no point is confirmed
by SciPy's linprog (HiGHS).

min ½ x'Gx + a'x subject to normals x >= bounds. Among them: none bound, all bound, vertices where more constraints meet than there
are unknowns, the same constraint twice, badly scaled rows, and programs without a point.
"""
import json
import pathlib

import daqp
import numpy as np
import quadprog
from scipy.optimize import linprog

random = np.random.default_rng(20)


def short(values, digits):
    return [float(f"{value:.{digits}g}") for value in np.ravel(values)]


def program(k):
    n = int(random.integers(1, 11))
    rows = int(random.integers(0, 3 * n + 1))
    root = random.normal(size=(n, n))
    g = np.round(root @ root.T, 3) + np.round(10.0 ** random.uniform(-2, 0), 3) * np.eye(n)
    a = np.round(random.normal(size=n) * 3.0, 2)
    normals = np.round(random.normal(size=(rows, n)), 2)
    inside = np.round(random.normal(size=n), 2)
    bounds = normals @ inside - np.round(np.abs(random.normal(size=rows)), 2) * (random.random(rows) < 0.7)
    kind = k % 8
    if kind == 1 and rows >= 2:
        # A vertex: all of them meet in one point.
        bounds = normals @ inside
    elif kind == 2 and rows >= 2:
        normals[-1], bounds[-1] = normals[0], bounds[0]
    elif kind == 3:
        scale = 10.0 ** random.integers(-3, 4, size=rows)
        normals, bounds = normals * scale[:, None], bounds * scale
    elif kind == 4 and rows >= 2:
        # Bounds of single unknowns.
        normals = np.vstack([np.eye(n), -np.eye(n)])
        low = np.round(random.normal(size=n) - 0.5, 2)
        bounds = np.concatenate([low, -(low + np.round(np.abs(random.normal(size=n)) + 0.01, 2))])
    elif kind == 5 and rows >= 2:
        # Against each other: no point.
        normals[-1], bounds[-1] = -normals[0], -bounds[0] + np.round(np.abs(random.normal()) + 0.1, 2)
    return n, g, a, normals.reshape(-1, n), bounds


out, both = [], 0
k = 0
while len(out) < 2000:
    n, g, a, normals, bounds = program(k)
    # As it is written down.
    g, normals = np.reshape(short(g, 6), (n, n)), np.reshape(short(normals, 6), (-1, n))
    a, bounds = np.array(short(a, 6)), np.array(short(bounds, 6))
    k += 1
    x, multipliers = None, np.zeros(len(bounds))
    try:
        if len(bounds):
            solution = quadprog.solve_qp(g, -a, normals.T, bounds)
            x, multipliers = solution[0], solution[4]
            other, _, flag, _ = daqp.solve(
                np.ascontiguousarray(g), a, np.ascontiguousarray(-normals), -bounds, np.full(len(bounds), -1e30), primal_tol=1e-11
            )
            if flag == 1:
                apart = np.max(np.abs(x - other) / np.maximum(np.abs(x), 1.0))
                assert apart < 1e-8, (k, apart)
                both += 1
        else:
            x = np.linalg.solve(g, -a)
    except ValueError:
        found = linprog(np.zeros(n), A_ub=-normals, b_ub=-bounds, bounds=[(None, None)] * n)
        if found.status != 2:
            # A vertex that only rounding keeps from being one.
            continue
    out.append(
        {
            "n": n,
            "g": short(g, 6),
            "a": short(a, 6),
            "normals": short(normals, 6),
            "bounds": short(bounds, 6),
            "x": None if x is None else short(x, 12),
            "multipliers": short(multipliers, 12),
        }
    )
pathlib.Path(__file__).with_name("data").joinpath("quadratic.json").write_text(json.dumps(out, separators=(',', ':')))
print(len(out), sum(case["x"] is None for case in out), both)
