"""Predictive control by other means: Riccati equations by SciPy; the column of Wood & Berry (1973) under the linear quadratic law of
SciPy's solution, and under constraints by quadprog, both with matrices of their own; ranked programs one rank after the other.
"""
import json
import pathlib

import numpy as np
import quadprog
from scipy.linalg import solve_discrete_are

random = np.random.default_rng(1973)


def short(values, digits=12):
    return [float(f"{value:.{digits}g}") for value in np.ravel(values)]


def riccati(k):
    n, m = int(random.integers(1, 6)), int(random.integers(1, 4))
    a = np.round(random.normal(size=(n, n)) * (0.5 if k % 3 else 1.0), 3)
    b = np.round(random.normal(size=(n, m)), 3)
    c = np.round(random.normal(size=(int(random.integers(1, n + 1)), n)), 3)
    q, r = np.round(c.T @ c, 6), np.diag(np.round(10.0 ** random.uniform(-2, 1, size=m), 3))
    x = solve_discrete_are(a, b, q, r)
    return {"n": n, "m": m, "a": short(a), "b": short(b), "q": short(q), "r": short(r), "x": short(x, 15)}


# --- the column -----------------------------------------------------------------------------------------------------

GAIN = np.array([[12.8, -18.9], [6.6, -19.4]])
LAG = np.array([[16.7, 21.0], [10.9, 14.4]])
DEAD = np.array([[1.0, 3.0], [7.0, 3.0]])
SCAN = 0.8


def column():
    """x+ = A x + B u, y = C x with the inputs of the scans before among the states."""
    whole = np.floor(DEAD / SCAN + 1e-9).astype(int)
    rest = DEAD - whole * SCAN
    reach = [max(whole[i, j] + (rest[i, j] > 1e-9) for i in range(2)) for j in range(2)]
    begin = [4, 4 + reach[0]]
    n = 4 + sum(reach)
    a, b, c = np.zeros((n, n)), np.zeros((n, 2)), np.zeros((2, n))
    for i in range(2):
        for j in range(2):
            k, tau, gain, d, r = 2 * i + j, LAG[i, j], GAIN[i, j], whole[i, j], rest[i, j]
            a[k, k] = np.exp(-SCAN / tau)
            c[i, k] = 1.0
            late, early = gain * (1 - np.exp(-(SCAN - r) / tau)), gain * np.exp(-(SCAN - r) / tau) * (1 - np.exp(-r / tau))
            for ago, effect in [(d, late), (d + 1, early)]:
                if effect == 0.0:
                    continue
                if ago == 0:
                    b[k, j] += effect
                else:
                    a[k, begin[j] + ago - 1] += effect
    for j in range(2):
        b[begin[j], j] = 1.0
        for place in range(1, reach[j]):
            a[begin[j] + place, begin[j] + place - 1] = 1.0
    return a, b, c, begin, reach


def held(a, b, begin):
    """The same by moves: inputs stay."""
    stays = a.copy()
    for j in range(2):
        stays[:, begin[j]] += b[:, j]
    return stays


def at_rest(outputs, begin, reach, n):
    u = np.linalg.solve(GAIN, outputs)
    z = np.zeros(n)
    for i in range(2):
        for j in range(2):
            z[2 * i + j] = GAIN[i, j] * u[j]
    for j in range(2):
        z[begin[j] : begin[j] + reach[j]] = u[j]
    return z, u


def quadratic_law():
    a, b, c, begin, reach = column()
    f = held(a, b, begin)
    usual = np.array([0.5, 0.8])
    q, r = c.T @ c, np.diag(usual**-2.0)
    x = solve_discrete_are(f, b, q, r)
    law = np.linalg.solve(r + b.T @ x @ b, b.T @ x @ f)
    z, rows = np.zeros(len(a)), []
    for k in range(150):
        rest, _ = at_rest(np.array([4.0, 0.0]) if k >= 10 else np.zeros(2), begin, reach, len(a))
        y, move = c @ z, -law @ (z - rest)
        u = np.array([z[begin[0]], z[begin[1]]]) + move
        rows.append([*y, *u])
        z = a @ z + b @ u
    return rows


HORIZON, BLOCKS = 40, [0, 1, 2, 4, 8]
LIMIT = {"u1_high": 1.0, "u2_rate": 0.05, "y1_high": 4.1}


def limit_points(scans):
    dense, rest = 10, 20
    ratio = (scans / dense) ** (1 / rest)
    later = [min(max(round(dense * ratio**k), dense + k), scans) for k in range(1, rest + 1)]
    return sorted(set(range(1, dense + 1)) | set(later))


def constrained():
    a, b, c, begin, reach = column()
    f = held(a, b, begin)
    usual, back = np.array([0.5, 0.8]), np.array([6.0, 0.0])
    steps = np.zeros((HORIZON, 2, 2))
    for j in range(2):
        z = np.zeros(len(a))
        for i in range(HORIZON):
            z = a @ z + b[:, j]
            steps[i, :, j] = c @ z
    moves = 2 * len(BLOCKS)
    s = np.zeros((HORIZON, 2, moves))
    for j in range(2):
        for m, at in enumerate(BLOCKS):
            for i in range(at, HORIZON):
                s[i, :, j * len(BLOCKS) + m] = steps[i - at, :, j]
    g = np.einsum("iya,iyb->ab", s, s) + np.diag(np.repeat(usual**-2.0, len(BLOCKS)))
    z, rows, felt = np.zeros(len(a)), [], set()
    for k in range(120):
        goal = np.array([4.0, -2.0]) if k >= 5 else np.zeros(2)
        y, before = c @ z, np.array([z[begin[0]], z[begin[1]]])
        free, ahead = np.zeros((HORIZON, 2)), z.copy()
        for i in range(HORIZON):
            ahead = f @ ahead
            free[i] = c @ ahead
        left = np.zeros((HORIZON, 2))
        left[:, 0] = np.exp(-np.arange(1, HORIZON + 1) * SCAN / back[0])
        wanted = goal + (y - goal) * left
        linear = np.einsum("iya,iy->a", s, free - wanted)
        normals, bounds = [], []
        for m in range(len(BLOCKS)):
            total = np.zeros(moves)
            total[: m + 1] = -1.0
            normals.append(total), bounds.append(before[0] - LIMIT["u1_high"])
            one = np.zeros(moves)
            one[len(BLOCKS) + m] = 1.0
            most = LIMIT["u2_rate"] * SCAN
            normals += [one, -one]
            bounds += [-most, -most]
        for i in limit_points(HORIZON):
            top = LIMIT["y1_high"] + max(0.0, y[0] - LIMIT["y1_high"]) * left[i - 1, 0]
            if np.any(np.abs(s[i - 1, 0]) >= 1e-9):
                normals.append(-s[i - 1, 0]), bounds.append(free[i - 1, 0] - top)
        solution = quadprog.solve_qp(g, -linear, np.array(normals).T, np.array(bounds))
        felt |= {"u1" for i in solution[5] if 0 < i <= 15 and (i - 1) % 3 == 0}
        felt |= {"u2" for i in solution[5] if 0 < i <= 15 and (i - 1) % 3 > 0}
        felt |= {"y1" for i in solution[5] if i > 15}
        u = before + np.array([solution[0][0], solution[0][len(BLOCKS)]])
        rows.append([*y, *u])
        z = a @ z + b @ u
    assert felt == {"u1", "u2", "y1"}, felt
    return rows


# --- what is known beforehand ---------------------------------------------------------------------------------------


def set_point(k):
    return 0.0 if k < 30 else 4.0 if k < 60 else 4.0 - 0.2 * (k - 60) if k < 75 else 1.0


def feed(k):
    return 0.0 if k < 15 else 3.0 if k < 45 else 3.0 - 0.25 * (k - 45) if k < 61 else -1.0


def foreseen(knows_set_point, knows_feed, back):
    """One lag of 10 s behind dead times of 8 scans from the MV and 2 from the disturbance, scanned every second."""
    scans, begins, share = 40, [0, 1, 2, 3, 5, 8, 12], np.exp(-0.1)
    usual = 2.0
    high = 2.9

    def course(y, before, moves, since, own, feeds):
        """The output after each scan: `since` are the inputs of the scans before, the last one last."""
        u, w, inputs, answer = before, list(since[1]), list(since[0]), []
        for i in range(scans):
            u += moves.get(i, 0.0)
            inputs.append(u)
            w.append(feeds[i])
            own = (share * own[0] + (1 - share) * inputs[-9], share * own[1] + 2.0 * (1 - share) * w[-3])
            answer.append(sum(own))
        return np.array(answer)

    # The effect of a unit move, and of a unit step of the disturbance.
    effect = np.array([course(0, 0.0, {at: 1.0}, ([0.0] * 9, [0.0] * 3), (0.0, 0.0), [0.0] * scans) for at in begins]).T
    g = effect.T @ effect + usual**-2.0 * np.eye(len(begins))
    own, inputs, feeds, rows, felt = (0.0, 0.0), [0.0] * 9, [0.0] * 3, [], False
    for k in range(110):
        y = sum(own)
        coming = [feed(k + i) if knows_feed else feed(k) for i in range(scans)]
        free = course(y, inputs[-1], {}, (inputs, feeds), own, coming)
        way, wanted = y, []
        for i in range(1, scans + 1):
            goal = set_point(k + i) if knows_set_point else set_point(k)
            way = goal + (way - goal) * (np.exp(-1.0 / back) if back else 0.0)
            wanted.append(way)
        linear = effect.T @ (free - np.array(wanted))
        normals = [[-1.0] * (m + 1) + [0.0] * (len(begins) - m - 1) for m in range(len(begins))]
        solution = quadprog.solve_qp(g, -linear, np.array(normals).T, np.full(len(begins), inputs[-1] - high))
        felt |= len(solution[5]) > 0
        u = inputs[-1] + solution[0][0]
        rows.append([y, u])
        inputs, feeds = inputs[1:] + [u], feeds[1:] + [feed(k)]
        own = (share * own[0] + (1 - share) * inputs[-9], share * own[1] + 2.0 * (1 - share) * feeds[-3])
    assert felt
    return {"knows_set_point": knows_set_point, "knows_feed": knows_feed, "back": back, "rows": [short(row) for row in rows]}


# --- ranks ----------------------------------------------------------------------------------------------------------


def ranked(k):
    n = int(random.integers(1, 5))
    rows = int(random.integers(3, 10))
    root = random.normal(size=(n, n))
    g = np.round(root @ root.T, 3) + np.eye(n) * 0.5
    a = np.round(random.normal(size=n) * 2, 2)
    normals = np.round(random.normal(size=(rows, n)), 2)
    bounds = np.round(random.normal(size=rows) + 1.0, 2)
    ranks = [int(random.integers(1, 4)) for _ in range(rows)]
    # What must be kept: a box.
    box = np.vstack([np.eye(n), -np.eye(n)])
    normals, bounds = np.vstack([box, normals]), np.concatenate([np.full(2 * n, -3.0), bounds])
    ranks = [0] * (2 * n) + ranks
    relaxed, missed = bounds.copy(), np.zeros(len(bounds))
    for rank in sorted(set(ranks) - {0}):
        own = [i for i, other in enumerate(ranks) if other == rank]
        kept = [i for i, other in enumerate(ranks) if other <= rank]
        size = n + len(own)
        matrix = np.eye(size)
        matrix[:n, :n] = 1e-11 * np.eye(n)
        of = np.zeros((len(kept), size))
        for at, i in enumerate(kept):
            of[at, :n] = normals[i]
            if i in own:
                of[at, n + own.index(i)] = 1.0
        point = quadprog.solve_qp(matrix, np.zeros(size), of.T, relaxed[kept])[0]
        for at, i in enumerate(own):
            missed[i] = max(point[n + at], 0.0)
            relaxed[i] -= missed[i] + 1e-9
    x = quadprog.solve_qp(g, -a, normals.T, relaxed)[0]
    return {
        "n": n,
        "g": short(g),
        "a": short(a),
        "normals": short(normals),
        "bounds": short(bounds),
        "ranks": ranks,
        "x": short(x, 9),
        "missed": short(missed, 9),
    }


out = {
    "riccati": [riccati(k) for k in range(40)],
    "quadratic_law": [short(row, 13) for row in quadratic_law()],
    "constrained": [short(row, 12) for row in constrained()],
    "ranked": [ranked(k) for k in range(200)],
    "foreseen": [foreseen(*case) for case in [(True, True, 0.0), (True, False, 6.0), (False, True, 0.0), (True, True, 6.0)]],
}
path = pathlib.Path(__file__).parent / "data" / "predictive.json"
path.write_text(json.dumps(out, separators=(",", ":")) + "\n")
print(path.stat().st_size, sum(1 for one in out["ranked"] if any(one["missed"])))
