"""Two PI loops on the column of Wood & Berry (1973), integrated with SciPy's solve_ivp at tight tolerance, written to
data/several_loops.json; with and without a decoupler that is fed forward, once at its limits.

Every element is an ordinary differential equation of its own between the instants at which its delayed input switches; the
controllers are written out from their published difference equations.
"""
import json
import pathlib

from scipy.integrate import solve_ivp

MINUTE = 60.0
# gain, time constant, dead time of each element in s (Wood & Berry, Chem. Eng. Sci. 28 (1973) 1707).
ELEMENTS = [
    [(12.8, 16.7 * MINUTE, 1 * MINUTE), (-18.9, 21.0 * MINUTE, 3 * MINUTE)],
    [(6.6, 10.9 * MINUTE, 7 * MINUTE), (-19.4, 14.4 * MINUTE, 3 * MINUTE)],
]
REST, SPAN = 50.0, 100.0


class Pi:
    """The ideal form in % of span, back-calculation with the integral time; reverse action has sign 1."""

    def __init__(self, gain, integral_time, scan, sign, output):
        self.gain, self.integral_time, self.scan, self.sign = gain, integral_time, scan, sign
        self.integral = output

    def output(self, set_point, pv, forward):
        error = self.sign * (set_point - pv)
        self.integral += self.gain * self.scan / self.integral_time * error
        wanted = self.gain * error + self.integral + forward
        limited = min(max(wanted, 0.0), 100.0)
        self.integral += min(self.scan / self.integral_time, 1.0) * (limited - wanted)
        return limited


def advance(x, element, u, h):
    if h <= 0:
        return x
    gain, tau, _ = element
    end = solve_ivp(lambda _, x: (gain * u - x) / tau, (0, h), [x], method="DOP853", rtol=1e-13, atol=1e-13)
    return float(end.y[0, -1])


def run(case):
    scan, rows = case["scan"], case["rows"]
    pis = [Pi(*settings, scan, sign, REST) for settings, sign in zip(case["settings"], (1, -1))]
    for pi, forward in zip(pis, case["forward"]):
        pi.integral -= forward * REST
    x = [[0.0, 0.0], [0.0, 0.0]]
    ops = [REST, REST]
    history = []
    table = []
    for k in range(rows):
        now = k * scan
        pvs = [REST + sum(row) for row in x]
        set_points = [REST + sum(by for at, by in moves if now >= at - 1e-9) for moves in case["moves"]]
        # The second controller reads what the first has just set, the first what the second set a scan ago.
        ops[0] = pis[0].output(set_points[0], pvs[0], case["forward"][0] * ops[1])
        ops[1] = pis[1].output(set_points[1], pvs[1], case["forward"][1] * ops[0])
        history.append((now, list(ops)))
        table.append([now, *pvs, *ops])
        for i in range(2):
            for j in range(2):
                element = ELEMENTS[i][j]
                late = element[2]
                # What the input was a dead time ago, piece by piece over this scan.
                cuts = sorted({now, now + scan, *(at + late for at, _ in history if now < at + late < now + scan)})
                for a, b in zip(cuts, cuts[1:]):
                    before = [values[j] for at, values in history if at + late <= a + 1e-9]
                    u = (before[-1] if before else REST) - REST
                    x[i][j] = advance(x[i][j], element, u, b - a)
    return table


# Settings in %/% and s: of Luyben, Ind. Eng. Chem. Process Des. Dev. 25 (1986) 654 for this column (from memory).
BLT = [[0.375, 8.29 * MINUTE], [0.075, 23.6 * MINUTE]]
CASES = [
    {"name": "two PIs", "settings": BLT, "forward": [0.0, 0.0], "moves": [[[48.0, 1.0]], [[4800.0, -0.5]]],
     "scan": 24.0, "rows": 400},
    {"name": "decoupled", "settings": BLT, "forward": [18.9 / 12.8, 6.6 / 19.4], "moves": [[[48.0, 1.0]], [[4800.0, -0.5]]],
     "scan": 24.0, "rows": 300},
    {"name": "at the limits", "settings": [[2.0, 900.0], [0.2, 900.0]], "forward": [0.0, 0.0],
     "moves": [[[48.0, 40.0], [4000.0, -40.0]], []], "scan": 50.0, "rows": 200},
]

if __name__ == "__main__":
    results = [{"case": case, "trace": run(case)} for case in CASES]
    path = pathlib.Path(__file__).parent / "data" / "several_loops.json"
    path.write_text(json.dumps(results, indent=None, separators=(",", ":")) + "\n")
