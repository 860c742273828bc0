"""Zeros and gains of random linear systems with direct feed-through, with SciPy, written to data/zeros.json.

The zeros are the finite generalised eigenvalues of Rosenbrock's system matrix by LAPACK's QZ algorithm; for one input and one output
they are also the roots of the numerator that SciPy's `ss2tf` gives, which must agree before a system is kept.
"""
import json
import pathlib

import numpy as np
import scipy.linalg
import scipy.signal

rng = np.random.default_rng(20261128)
systems = []
for trial in range(400):
    n, m = int(rng.integers(1, 6)), int(rng.choice([1, 1, 2]))
    scale = 10.0 ** rng.uniform(-3, 2)
    a = rng.standard_normal((n, n)) * scale
    b = rng.standard_normal((n, m)) * 10.0 ** rng.uniform(-2, 2)
    c = rng.standard_normal((m, n)) * 10.0 ** rng.uniform(-2, 2)
    d = rng.standard_normal((m, m)) * 10.0 ** rng.uniform(-1, 1) if rng.random() < 0.75 else np.zeros((m, m))
    pencil = np.block([[a, b], [c, d]])
    states = scipy.linalg.block_diag(np.eye(n), np.zeros((m, m)))
    alpha, beta = scipy.linalg.eig(pencil, states, right=False, homogeneous_eigvals=True)
    finite = np.abs(beta) > 1e-9 * np.abs(alpha).max() / scale
    zeros = alpha[finite] / beta[finite]
    # Only systems whose zeros are well known: neither close to infinity nor to each other.
    if len(zeros) == 0 or np.abs(zeros).max() > 50 * np.linalg.norm(a):
        continue
    if len(zeros) > 1 and min(abs(zeros[i] - zeros[j]) for i in range(len(zeros)) for j in range(i)) < 1e-2 * np.abs(zeros).max():
        continue
    if m == 1:
        numerator, _ = scipy.signal.ss2tf(a, b, c, d)
        roots = np.roots(np.trim_zeros(np.where(np.abs(numerator[0]) < 1e-9 * np.abs(numerator[0]).max(), 0, numerator[0]), "f"))
        if len(roots) != len(zeros) or np.abs(np.sort_complex(roots) - np.sort_complex(zeros)).max() > 1e-6 * np.abs(zeros).max():
            continue
    gain = d - c @ np.linalg.solve(a, b)
    order = np.lexsort((zeros.imag.round(12), zeros.real))
    systems.append(
        {
            "a": a.tolist(),
            "b": b.tolist(),
            "c": c.tolist(),
            "d": d.tolist(),
            "zeros": [[float(z.real), float(z.imag)] for z in zeros[order]],
            "gain": gain.tolist(),
        }
    )
path = pathlib.Path(__file__).parent / "data" / "zeros.json"
path.write_text(json.dumps(systems) + "\n")
print(len(systems), "systems,", sum(len(s["zeros"]) for s in systems), "zeros, with feed-through", sum(np.any(np.array(s["d"]) != 0) for s in systems))
