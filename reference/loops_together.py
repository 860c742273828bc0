"""All loops of the column of Wood & Berry (1973) together: singular values of S and T and the eigenvalues of L at a few frequencies,
and the highest singular values on a dense grid, by NumPy, written to data/loops_together.json.

The sampled process is written out from the zero-order hold of a lag whose dead time is no whole number of scans (the modified
z-transform; Astrom & Wittenmark, Computer-Controlled Systems, 3rd ed. 1997, section 2.3), the controllers from their difference
equation; a fed-forward decoupler is a gain.
"""
import json
import pathlib

import numpy as np

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


def main():
    out = {"scan": SCAN, "cases": []}
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
