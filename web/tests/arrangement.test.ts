/** Panels of a strip that are folded, moved and shared a height. */
import { describe, expect, it } from "vitest";
import { AS_THEY_COME, arranged, moved, ordered, sharedHeights, toggled } from "../src/lib/arrangement";
import type { Panel } from "../src/lib/strip";

const panel = (key: string): Panel => ({ key, title: key, unit: "", curves: [], weight: 1 });
const all = ["pv", "op", "F.PV", "F.OP", "load"].map(panel);
const keys = (panels: Panel[]) => panels.map(({ key }) => key);

describe("the order of panels", () => {
  it("is as they come where nobody has moved any", () => {
    expect(keys(arranged(all, AS_THEY_COME).open)).toEqual(["pv", "op", "F.PV", "F.OP", "load"]);
  });

  it("is that in which they were moved, up and down and back again", () => {
    const up = moved(all, AS_THEY_COME, "F.PV", -2);
    expect(keys(arranged(all, up).open)).toEqual(["F.PV", "pv", "op", "F.OP", "load"]);
    const back = moved(all, up, "F.PV", 2);
    expect(keys(arranged(all, back).open)).toEqual(keys(all));
  });

  it("does not change at the ends, nor for a panel that is not there", () => {
    expect(moved(all, AS_THEY_COME, "pv", -1)).toBe(AS_THEY_COME);
    expect(moved(all, AS_THEY_COME, "load", 1)).toBe(AS_THEY_COME);
    expect(moved(all, AS_THEY_COME, "nothing", 1)).toBe(AS_THEY_COME);
  });

  it("puts a panel that is new after the one it comes after, and forgets none that is gone", () => {
    const up = moved(all, AS_THEY_COME, "load", -4);
    const more = [...all.slice(0, 2), panel("error"), ...all.slice(2)];
    expect(keys(ordered(more, up.order))).toEqual(["load", "pv", "op", "error", "F.PV", "F.OP"]);
    const fewer = all.filter(({ key }) => key !== "pv");
    expect(keys(ordered(fewer, up.order))).toEqual(["load", "op", "F.PV", "F.OP"]);
    expect(keys(ordered(all, up.order))).toEqual(["load", "pv", "op", "F.PV", "F.OP"]);
  });
});

describe("folding", () => {
  it("takes a panel away and gives it back in its place", () => {
    const folded = toggled(AS_THEY_COME, "op");
    expect(keys(arranged(all, folded).open)).toEqual(["pv", "F.PV", "F.OP", "load"]);
    expect(keys(arranged(all, folded).folded)).toEqual(["op"]);
    expect(keys(arranged(all, toggled(folded, "op")).open)).toEqual(keys(all));
  });

  it("leaves one open, whatever is folded", () => {
    const none = all.reduce((now, { key }) => toggled(now, key), AS_THEY_COME);
    expect(keys(arranged(all, none).open)).toEqual(["pv"]);
    expect(arranged(all, none).folded).toHaveLength(4);
  });

  it("moves past what is folded", () => {
    const folded = toggled(AS_THEY_COME, "op");
    expect(keys(arranged(all, moved(all, folded, "F.PV", -1)).open)).toEqual(["F.PV", "pv", "F.OP", "load"]);
  });
});

describe("heights", () => {
  const sum = (heights: number[]) => heights.reduce((all, one) => all + one, 0);

  it("share the room by their weights", () => {
    expect(sharedHeights([3, 1], 400)).toEqual([300, 100]);
  });

  it("are never below the least: what is left is shared by the others", () => {
    const heights = sharedHeights([6, 1, 1], 400, 80);
    expect(heights).toEqual([240, 80, 80]);
    expect(sum(heights)).toBe(400);
  });

  it("pass the room where there are too many: the strip is scrolled", () => {
    expect(sum(sharedHeights(new Array<number>(12).fill(1), 400, 64))).toBe(12 * 64);
  });

  it("are right for any weights", () => {
    let seed = 7;
    const random = () => (seed = (seed * 16807) % 2147483647) / 2147483647;
    for (let k = 0; k < 200; k += 1) {
      const weights = Array.from({ length: 1 + Math.floor(8 * random()) }, () => 0.3 + 3 * random());
      const total = 100 + 900 * random();
      const heights = sharedHeights(weights, total, 64);
      expect(Math.min(...heights)).toBeGreaterThanOrEqual(64 - 1e-9);
      const fits = 64 * weights.length <= total;
      if (fits) expect(sum(heights)).toBeCloseTo(total, 6);
      else expect(sum(heights)).toBeGreaterThan(total);
    }
  });
});
