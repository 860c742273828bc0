"""Fits of two physical models by a general least-squares library over a general ODE library, for comparison.

Records of the flow-through heater and the jacketed reactor are simulated with seeded white noise; parameters and states at the
start are then estimated with SciPy's `least_squares` over `solve_ivp`, standard errors from its Jacobian. Written by
`python reference/physical_models.py`, read by `crates/core/tests/physical_models.rs`.
"""

import json
import time
from pathlib import Path

import numpy as np
from scipy.integrate import solve_ivp
from scipy.optimize import least_squares

HERE = Path(__file__).parent


def moves(rng, count, low, high, hold):
    level, out = 0.5 * (low + high), []
    for k in range(count):
        if k > 5 and rng.random() < 1.0 / hold:
            level = rng.uniform(low, high)
        out.append(level)
    return np.round(np.array(out), 3)


def heater(t, x, u, p):
    """kJ, kW, t/h: M c T' = F c (Tf - T) + he (Te - T) - hl (T - Ta); Ce Te' = P - he (Te - T)."""
    holdup, element, transfer, loss = p
    power, flow, feed, ambient = u
    stream = flow / 3.6 * 4.0
    passed = transfer * (x[1] - x[0])
    return [(stream * (feed - x[0]) + passed - loss * (x[0] - ambient)) / (holdup * 4.0), (power - passed) / element]


def reactor(t, x, u, p):
    """mol, J, min: first-order reaction A -> B in a stirred reactor with a flowing jacket; per second."""
    activation, heat, transfer, jacket_heat, volume = p
    coolant, flow, feed, feed_temperature, inlet = u
    density, capacity, coolant_capacity = 1000.0, 0.239, 4180.0
    rate = 7.2e10 * np.exp(-activation / (x[1] + 273.15)) * x[0] * volume
    concentration = (flow * feed - flow * x[0] - rate) / (volume * 60.0)
    stream = flow * density * capacity
    gained = stream * (feed_temperature - x[1]) + heat * rate - transfer * (x[1] - x[2])
    jacket = (coolant * coolant_capacity * (inlet - x[2]) + transfer * (x[1] - x[2])) / (jacket_heat * 60.0)
    return [concentration, gained / (volume * density * capacity * 60.0), jacket]


def simulate(rates, p, x0, inputs, interval):
    """The states at the samples; inputs stand from sample to sample."""
    x, out = np.array(x0, float), []
    for k in range(inputs.shape[1]):
        out.append(x.copy())
        u = inputs[:, k]
        x = solve_ivp(rates, (0, interval), x, args=(u, p), rtol=1e-10, atol=1e-10, method="DOP853").y[:, -1]
    return np.array(out)


def case(name, rates, truth, start, x0, inputs, interval, seen, deviation, seed):
    rng = np.random.default_rng(seed)
    states = simulate(rates, truth, x0, inputs, interval)
    measured = states[:, seen] + deviation * rng.standard_normal((states.shape[0], len(seen)))
    measured = np.round(measured, 6)
    count = len(truth)

    def residuals(z):
        p = np.exp(z[:count]) * np.array(start)
        return (simulate(rates, p, z[count:], inputs, interval)[:, seen] - measured).ravel() / deviation

    first = np.concatenate([np.zeros(count), states[0]])
    begun = time.perf_counter()
    found = least_squares(
        residuals, first, jac="3-point", xtol=1e-10, ftol=1e-12, gtol=1e-12, x_scale="jac", diff_step=1e-4
    )
    seconds = time.perf_counter() - begun
    estimates = np.exp(found.x[:count]) * np.array(start)
    freedom = measured.size - found.x.size
    covariance = np.linalg.inv(found.jac.T @ found.jac) * (2 * found.cost / freedom)
    errors = np.sqrt(np.diag(covariance))[:count] * estimates
    print(name, seconds, estimates, errors)
    return {
        "name": name,
        "interval": interval,
        "inputs": inputs.tolist(),
        "measured": measured.T.tolist(),
        "truth": list(truth),
        "start": list(start),
        "estimates": estimates.tolist(),
        "errors": errors.tolist(),
        "squares": float(2 * found.cost * deviation**2),
        "seconds": seconds,
        "evaluations": int(found.nfev),
    }


def main():
    rng = np.random.default_rng(7)
    n = 240
    heater_inputs = np.array(
        [moves(rng, n, 120, 480, 20), moves(rng, n, 4, 8, 40), moves(rng, n, 15, 25, 50), moves(rng, n, -5, 30, 40)]
    )
    reactor_inputs = np.array(
        [
            moves(rng, n, 70, 140, 15),
            moves(rng, n, 85, 115, 30),
            moves(rng, n, 0.9, 1.1, 30),
            moves(rng, n, 70, 80, 30),
            moves(rng, n, 12, 18, 40),
        ]
    )
    cases = [
        case("heater", heater, [430.0, 75.0, 6.5, 0.35], [300.0, 60.0, 8.0, 0.2], [55.0, 95.0], heater_inputs, 10.0, [0], 0.05, 1),
        case(
            "reactor",
            reactor,
            [8750.0, 5.0e4, 5.2e4, 6.5e4, 105.0],
            [8700.0, 4.8e4, 5.0e4, 6.0e4, 100.0],
            [0.95, 45.0, 28.0],
            reactor_inputs,
            6.0,
            [1, 2],
            0.1,
            2,
        ),
    ]
    (HERE / "data" / "physical_models.json").write_text(json.dumps(cases) + "\n")


main()
