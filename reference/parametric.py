"""Regions of the explicit law of the double integrator x+ = [1 1; 0 1] x + [0.5; 1] u, Q = I, R = 0.1, |u| <= 1, cost beyond the horizon
by the Riccati equation, in |x| <= 10: every set of active constraints is tried, and counts where SciPy's linprog (HiGHS) finds a ball in
what is left of the plane. Prints the counts for horizons 1 to 4.
"""
import itertools

import numpy as np
from scipy.linalg import solve_discrete_are
from scipy.optimize import linprog

a = np.array([[1.0, 1.0], [0.0, 1.0]])
b = np.array([[0.5], [1.0]])
q, r = np.eye(2), np.array([[0.1]])
p = solve_discrete_are(a, b, q, r)


def regions(horizon):
    moved, free = np.zeros((2, horizon)), np.eye(2)
    h, f = r[0, 0] * np.eye(horizon), np.zeros((horizon, 2))
    for k in range(horizon):
        free = a @ free
        moved = a @ moved
        moved[:, [k]] = b
        weight = p if k + 1 == horizon else q
        h += moved.T @ weight @ moved
        f += moved.T @ weight @ free
    g = np.vstack([np.eye(horizon), -np.eye(horizon)])
    inverse = np.linalg.inv(h)
    count = 0
    for size in range(horizon + 1):
        for active in itertools.combinations(range(2 * horizon), size):
            active = list(active)
            ga = g[active]
            if size and np.linalg.matrix_rank(ga) < size:
                continue
            # g u <= 1; u = -H^-1 (F x + Ga' lam), lam >= 0
            m = ga @ inverse @ ga.T
            lam_x = -np.linalg.solve(m, ga @ inverse @ f) if size else np.zeros((0, 2))
            lam_0 = -np.linalg.solve(m, np.ones(size)) if size else np.zeros(0)
            u_x = -inverse @ (f + ga.T @ lam_x)
            u_0 = -inverse @ (ga.T @ lam_0)
            rest = [k for k in range(2 * horizon) if k not in active]
            rows = np.vstack([g[rest] @ u_x, -lam_x, np.eye(2), -np.eye(2)])
            ends = np.concatenate([1 - g[rest] @ u_0, lam_0, np.full(4, 10.0)])
            lengths = np.linalg.norm(rows, axis=1)
            keep = lengths > 1e-12
            if (ends[~keep] < 0).any():
                continue
            ball = linprog([0, 0, -1], np.column_stack([rows[keep], lengths[keep]]), ends[keep], bounds=[(None, None)] * 3)
            count += ball.status == 0 and ball.x[2] > 1e-7
    return count


print([int(regions(horizon)) for horizon in range(1, 5)])
