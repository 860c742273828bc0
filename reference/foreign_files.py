"""Small files as other libraries write them, to data/foreign.xlsx, foreign.parquet and foreign_rows.json.

pip install pandas openpyxl pyarrow
"""
import pathlib

import numpy as np
import pandas as pd

here = pathlib.Path(__file__).parent / "data"
k = np.arange(40)
pv = 70 + k / 10
pv[2] = np.nan
table = pd.DataFrame(
    {
        "Timestamp": pd.Timestamp("2026-03-02 08:00:00") + pd.to_timedelta(2 * k, unit="s"),
        "LOOP.PV [°C]": pv,
        "LOOP.OP [%]": np.where(k < 20, 40.0, 45.0),
    }
)
table.to_excel(here / "foreign.xlsx", index=False, sheet_name="Trend")
table.to_parquet(here / "foreign.parquet", index=False)
table.to_json(here / "foreign_rows.json", orient="records", date_format="iso")
