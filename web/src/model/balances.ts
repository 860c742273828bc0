/** A balance over time as panels of a strip, and whether it closes. */
import type { Schemas } from "../api/client";
import type { Curve, Panel } from "../lib/strip";

type Balance = Schemas["BalanceOverTime"];
type Verdict = Schemas["Verdict"];

const COLOURS = ["--pv", "--op", "--dv", "--over-1", "--over-3", "--over-4"];
const DASHES: number[][] = [[], [7, 4], [2, 3], [10, 3, 2, 3], [4, 2], [12, 4]];

/** Terms laid on each other, the first lowest; below 0 downwards, so that what turns round stays in sight. */
export function stacked(terms: Balance["terms"], times: number[], offset = 0): Curve[] {
  const up = new Array<number>(times.length).fill(0);
  const down = new Array<number>(times.length).fill(0);
  return terms.map((term, k) => {
    const floor: number[] = [];
    const values = term.values.map((value, i) => {
      const pile = value >= 0 ? up : down;
      floor.push(pile[i] as number);
      pile[i] = (pile[i] as number) + value;
      return pile[i];
    });
    return {
      label: term.name,
      times,
      values,
      floor,
      amounts: term.values,
      colour: COLOURS[(k + offset) % COLOURS.length] as string,
      dash: DASHES[(k + offset) % DASHES.length],
      width: 1.4,
    };
  });
}

const comes = (term: Balance["terms"][number]) => term.kind === "in" || term.kind === "generated";

export function balancePanelsOf(balance: Balance, from: number): Panel[] {
  const times = balance.times.map((time) => from + time);
  const came = balance.terms.filter(comes);
  const went = balance.terms.filter((term) => !comes(term));
  const band = balance.noise_band;
  return [
    {
      key: "in",
      title: `${balance.name}: came in`,
      unit: balance.unit,
      curves: stacked(came, times),
      weight: 2,
      include: [0],
    },
    {
      key: "out",
      title: "went out",
      unit: balance.unit,
      curves: stacked(went, times, came.length),
      weight: 2,
      include: [0],
    },
    {
      key: "stored",
      title: "stored",
      unit: balance.unit,
      curves: [{ label: "stored", times, values: balance.stored, colour: "--ink", dash: [5, 3], width: 1.4 }],
      weight: 1,
      include: [0],
    },
    {
      key: "left",
      title: "left over, and what noise alone leaves",
      unit: balance.unit,
      curves: [
        {
          label: "left over",
          times,
          values: balance.left_over,
          colour: "--measured",
          width: 1.6,
        },
        {
          label: "",
          times,
          values: times.map(() => 0),
          half: times.map(() => band),
          colour: "--measured",
          width: 1,
          faint: true,
        },
      ],
      weight: 1.2,
      include: [0, band, -band],
    },
  ];
}

/** Totals in a unit that reads well, and whether what is left over is more than noise and a little of what came in. */
export function closureOf(balance: Balance): {
  came: number;
  went: number;
  stored: number;
  left: number;
  unit: string;
  verdict: Verdict;
} {
  const [came, went, stored, left] = balance.totals as [number, number, number, number];
  const [scale, unit] =
    balance.unit === "kW"
      ? Math.abs(came) > 3.6e6
        ? [1 / 3.6e6, "MWh"]
        : [1 / 3600, "kWh"]
      : balance.unit === "W"
        ? [1 / 3.6e6, "kWh"]
        : [1, balance.unit.replace(/\/s$/, "")];
  return {
    came: scale * came,
    went: scale * went,
    stored: scale * stored,
    left: scale * left,
    unit,
    verdict: balance.verdict,
  };
}
