"""ARX (2, 2, 3) of the laboratory heater record by NumPy's linear least squares, written to data/heater_arx.json.

Fitted on the first 500 samples with their means removed; the fit of the free simulation is on the last 500, which starts from
their first four measured samples.
"""
import gzip
import json
import pathlib

import numpy as np

RECORD = "/usr/share/doc/libslicot-doc/examples/fortran77/IB01AD.dat.gz"

numbers = np.array(gzip.open(RECORD, "rt").read().split("\n", 2)[2].split(), dtype=float)
u, y = numbers[:1000], numbers[1000:2000]
u, y = u - u[:500].mean(), y - y[:500].mean()

k = np.arange(4, 500)
phi = np.column_stack([-y[k - 1], -y[k - 2], u[k - 3], u[k - 4]])
theta, *_ = np.linalg.lstsq(phi, y[k], rcond=None)
left = y[k] - phi @ theta
covariance = np.linalg.inv(phi.T @ phi) * (left @ left) / (len(k) - 4)

last_u, last_y = u[500:], y[500:]
simulated = last_y.copy()
for t in range(4, 500):
    simulated[t] = -theta[0] * simulated[t - 1] - theta[1] * simulated[t - 2] + theta[2] * last_u[t - 3] + theta[3] * last_u[t - 4]
fit = 100 * (1 - np.linalg.norm(last_y - simulated) / np.linalg.norm(last_y - last_y.mean()))

result = {
    "coefficients": theta.tolist(),
    "standard_errors": np.sqrt(np.diag(covariance)).tolist(),
    "fit_of_free_simulation": fit,
}
path = pathlib.Path(__file__).parent / "data" / "heater_arx.json"
path.write_text(json.dumps(result, indent=2) + "\n")
print(path.read_text())
