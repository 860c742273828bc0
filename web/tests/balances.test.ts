import { expect, it } from "vitest";
import { balancePanels } from "../src/control/course";

const column = (tag: string, unit: string, role: string, values: number[]) => ({ tag, unit, role, values });
const trial = { plant: { pv: { tag: "LIC-1.PV", span: { low: 0, high: 4, unit: "m" } } } };

/** A tank at rest whose inflow then rises by 2 m³/s: so much is stored. */
it("stored is what comes in less what goes out", () => {
  const trace = {
    scan: 1,
    columns: [
      column("LIC-1.PV", "m", "process_variable", [1, 1, 1]),
      column("volume: inflow", "m³/s", "balance_term", [10, 10, 12]),
      column("volume: outflow", "m³/s", "balance_term", [7, 7, 7]),
      column("volume: leak", "m³/s", "balance_term", [3, 3, 3]),
    ],
    balances: [
      {
        name: "volume",
        unit: "m³",
        terms: [
          { name: "inflow", amount: 22 },
          { name: "outflow", amount: -14 },
          { name: "leak", amount: -6 },
        ],
      },
    ],
  };
  const panels = balancePanels(trial as never, trace as never);
  const stored = panels[1]?.curves.find((curve) => curve.label === "stored");
  expect(stored?.values).toEqual([0, 0, 2]);
});
