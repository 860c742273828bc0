"""How long SciPy takes for the fit that `crates/core/benches/loop_speed.rs` times, in the same run of `./run bench`.

A first-order process with dead time on a noisy record of steps: SciPy's `least_squares` on the plain problem, once with the
recursion of the process in Python, as one would write it down first, and once by `scipy.signal.lfilter`; both from a good
start. Prints Markdown.
"""

import statistics
import time

import numpy as np
from scipy.optimize import least_squares
from scipy.signal import lfilter

GAIN, TIME_CONSTANT, DEAD_TIME = 1.2, 40.0, 12.37


def record(samples):
    k = np.arange(samples)
    u = np.where(k // 97 % 2 == 1, 55.0, 45.0)
    noise = 0.3 * np.random.default_rng(1).standard_normal(samples)
    return u, 20.0 + GAIN * by_filter(u, TIME_CONSTANT, DEAD_TIME) + noise


def coefficients(time_constant, dead_time):
    whole = int(dead_time)
    rest = dead_time - whole
    decay = np.exp(-1.0 / time_constant)
    late = np.exp(-(1.0 - rest) / time_constant)
    return whole, decay, 1.0 - late, late - decay


def delayed(u, by):
    return np.concatenate([np.full(by, u[0]), u[: len(u) - by]])


def by_filter(u, time_constant, dead_time):
    whole, decay, new, old = coefficients(time_constant, dead_time)
    driven = new * delayed(u - u[0], whole + 1) + old * delayed(u - u[0], whole + 2)
    return u[0] + lfilter([1.0], [1.0, -decay], driven)


def by_recursion(u, time_constant, dead_time):
    whole, decay, new, old = coefficients(time_constant, dead_time)
    first, second = delayed(u, whole + 1), delayed(u, whole + 2)
    x = np.empty(len(u))
    state = u[0]
    for k in range(len(u)):
        state = decay * state + new * first[k] + old * second[k] if k else u[0]
        x[k] = state
    return x


def fit(u, y, respond):
    times = np.arange(len(u))

    def residuals(p):
        gain, level, start, log_time, dead_time = p
        left = start * np.exp(-times / np.exp(log_time))
        return gain * respond(u, np.exp(log_time), max(dead_time, 0.0)) + level + left - y

    return least_squares(residuals, [1.0, 20.0, 0.0, np.log(30.0), 10.0], method="lm")


def main():
    u, y = record(1000)
    print("| FOPDT fit, 1000 samples, SciPy from a good start | median |\n|---|---|")
    for name, respond, repeats in (("recursion in Python", by_recursion, 5), ("recursion by `lfilter`", by_filter, 30)):
        taken = []
        for _ in range(repeats):
            began = time.perf_counter()
            found = fit(u, y, respond)
            taken.append(time.perf_counter() - began)
        assert abs(found.x[0] - GAIN) < 0.02, found.x
        print(f"| {name} | {1e3 * statistics.median(taken):.1f} ms |")


if __name__ == "__main__":
    main()
