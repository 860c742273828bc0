"""All loops of the column of Wood & Berry (1973) together: singular values of S and T and the eigenvalues of L at a few frequencies,
and the highest singular values on a dense grid, by NumPy, written to data/loops_together.json.

The sampled process is written out from the zero-order hold of a lag whose dead time is no whole number of scans (the modified
z-transform; Astrom & Wittenmark, Computer-Controlled Systems, 3rd ed. 1997, section 2.3), the controllers from their difference
equation; a fed-forward decoupler is a gain. Beside them the settings of the two loops tuned one after the other, and the factor by which
those of Ziegler & Nichols are detuned for a largest singular value of 2, both in continuous time.
"""
import json
import pathlib

import numpy as np
from scipy.optimize import brentq

MINUTE = 60.0
ELEMENTS = [
    [(12.8, 16.7 * MINUTE, 1 * MINUTE), (-18.9, 21.0 * MINUTE, 3 * MINUTE)],
    [(6.6, 10.9 * MINUTE, 7 * MINUTE), (-19.4, 14.4 * MINUTE, 3 * MINUTE)],
]
SCAN = 25.0
# Gain in %/%, integral time in s, sign of the process gain.
LOOPS = [(0.375, 8.29 * MINUTE, 1.0), (0.075, 23.6 * MINUTE, -1.0)]


def sampled(element, z):
    gain, tau, late = element
    whole = int(np.ceil(late / SCAN - 1e-12))
    rest = whole * SCAN - late  # what of the last scan the new value already acts
    a = np.exp(-SCAN / tau)
    early = gain * (1 - np.exp(-rest / tau))
    later = gain * (np.exp(-rest / tau) - a)
    return z ** (-whole) * (early + later / z) / (1 - a / z) if whole else gain * (1 - a) / (z - a)


def matrices(omega, decoupler):
    z = np.exp(1j * omega * SCAN)
    process = np.array([[sampled(element, z) for element in row] for row in ELEMENTS])
    # u = Kc (e + h/Ti sum e), the sum with the present error; the sign makes the action direct or reverse.
    control = np.diag([sign * gain * (1 + SCAN / time / (1 - 1 / z)) for gain, time, sign in LOOPS])
    # The second output is fed forward to the first, which is scanned before it and sees it a scan late: u1 = c1 + d u2/z.
    forward = np.array([[1, decoupler / z], [0, 1]])
    opened = process @ forward @ control
    sensitivity = np.linalg.inv(np.eye(2) + opened)
    return opened, sensitivity, np.eye(2) - sensitivity


def continuous(omega):
    s = 1j * omega
    return np.array([[gain * np.exp(-late * s) / (tau * s + 1) for gain, tau, late in row] for row in ELEMENTS])


def ultimate(response, grid):
    values = np.array([response(w) for w in grid])
    k = np.flatnonzero((values[:-1].imag < 0) & (values[1:].imag >= 0))[0]
    w = brentq(lambda w: response(w).imag, grid[k], grid[k + 1], xtol=1e-16)
    return 1 / abs(response(w)), 2 * np.pi / w


def pi(settings, omega):
    gain, time = settings
    return gain * (1 + 1 / (1j * omega * time))


def one_by_one():
    """The top loop, which is quicker, first; the bottom loop with it closed; each by Ku/3.2 and 2.2 Pu."""
    grid = np.geomspace(1e-5, 0.05, 200_000)
    ku, pu = ultimate(lambda w: continuous(w)[0, 0], grid)
    first = (ku / 3.2, 2.2 * pu)

    def seen(w):
        g = continuous(w)
        return -(g[1, 1] - g[1, 0] * pi(first, w) * g[0, 1] / (1 + g[0, 0] * pi(first, w)))

    ku2, pu2 = ultimate(seen, grid)
    return {"ultimate": [[ku, pu], [ku2, pu2]], "settings": [list(first), [ku2 / 3.2, 2.2 * pu2]]}


def cascade():
    """A flow (0.8, 4 s, 1 s) below a temperature (1.5, 60 s, 10 s) on one output at a scan of 1 s: the ultimate point of the inner loop,
    and that of the outer one with the inner one closed at Ku/3.2 and 2.2 Pu."""
    global SCAN
    before, SCAN = SCAN, 1.0
    grid = np.geomspace(1e-4, np.pi * (1 - 1e-9), 200_000)
    z = lambda w: np.exp(1j * w * SCAN)
    inner = lambda w: sampled((0.8, 4.0, 1.0), z(w))
    ku, pu = ultimate(inner, grid)
    control = lambda w: ku / 3.2 * (1 + SCAN / (2.2 * pu) / (1 - 1 / z(w)))
    outer = lambda w: sampled((1.5, 60.0, 10.0), z(w)) * control(w) / (1 + inner(w) * control(w))
    found = {"inner": [ku, pu], "outer": list(ultimate(outer, grid))}
    SCAN = before
    return found


def within_sensitivity(most):
    """The factor by which the settings of Ziegler and Nichols are detuned until the largest singular value of S is `most`."""
    grid = np.geomspace(1e-5, 0.05, 200_000)
    alone = [ultimate(lambda w, k=k: sign * continuous(w)[k, k], grid) for k, sign in ((0, 1), (1, -1))]
    coarse = np.geomspace(5e-4, 0.03, 4000)

    def peak(factor):
        def sigma(w):
            control = np.diag([s * pi((ku / 2.2 / factor, pu / 1.2 * factor), w) for (ku, pu), s in zip(alone, (1, -1))])
            return 1 / np.linalg.svd(np.eye(2) + continuous(w) @ control, compute_uv=False)[-1]
        return max(sigma(w) for w in coarse)

    return brentq(lambda factor: peak(factor) - most, 1.2, 40, xtol=1e-6)


def main():
    out = {"scan": SCAN, "cases": [], "one_by_one": one_by_one(), "factor_for_sensitivity_2": within_sensitivity(2.0),
           "cascade": cascade()}
    for decoupler in (0.0, 0.6):
        points = []
        for omega in (1e-4, 1e-3, 3e-3, 8e-3, 2e-2, 8e-2):
            opened, s, t = matrices(omega, decoupler)
            values = np.linalg.eigvals(opened)
            points.append({
                "omega": omega,
                "s": np.linalg.svd(s, compute_uv=False).tolist(),
                "t": np.linalg.svd(t, compute_uv=False).tolist(),
                "loci": sorted([[v.real, v.imag] for v in values]),
            })
        grid = np.geomspace(1e-4, np.pi / SCAN * (1 - 1e-9), 400_000)
        peaks = [max((np.linalg.svd(matrices(w, decoupler)[k], compute_uv=False)[0], w) for w in grid[::20]) for k in (1, 2)]
        out["cases"].append({"decoupler": decoupler, "points": points, "peak_s": list(map(float, peaks[0])),
                             "peak_t": list(map(float, peaks[1]))})
        print(decoupler, peaks)
    path = pathlib.Path(__file__).parent / "data" / "loops_together.json"
    path.write_text(json.dumps(out, indent=1) + "\n")


if __name__ == "__main__":
    main()
