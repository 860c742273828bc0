import { describe, expect, it } from "vitest";
import {
  areaOf,
  kindsOf,
  lawOf,
  middleOf,
  sizeOf,
  type Region,
  type RegionMap,
} from "../src/control/regions";

const square = (x: number, y: number, side: number): [number, number][] => [
  [x, y],
  [x + side, y],
  [x + side, y + side],
  [x, y + side],
];

function region(corners: [number, number][], limits: string[]): Region {
  return { corners, limits, law: [{ tag: "OP", right: 1.25, up: -0.5, offset: 34 }] };
}

function map(regions: Region[]): RegionMap {
  const parameter = (title: string) => ({ title, unit: "%", low: 0, high: 10, rests_at: 5 });
  return {
    parameters: [parameter("set point of PV"), parameter("OP before")],
    over: [0, 1],
    regions,
    moves: 7,
    rests: 1,
    knows: 4,
    numbers: 321,
  };
}

describe("regions of a law", () => {
  it("have the area and the middle of what they are", () => {
    expect(areaOf(square(2, 3, 4))).toBe(16);
    expect(areaOf([...square(2, 3, 4)].reverse())).toBe(16);
    const [x, y] = middleOf(square(2, 3, 4));
    expect([x, y]).toEqual([4, 5]);
    // A triangle's middle is the mean of its corners.
    const [tx, ty] = middleOf([
      [0, 0],
      [6, 0],
      [0, 3],
    ]);
    expect(tx).toBeCloseTo(2, 12);
    expect(ty).toBeCloseTo(1, 12);
  });

  it("are counted by what limits them, the largest first", () => {
    const kinds = kindsOf(
      map([
        region(square(0, 0, 2), ["OP at its high limit"]),
        region(square(4, 4, 6), []),
        region(square(2, 0, 2), ["OP at its high limit"]),
        region(square(0, 4, 1), ["OP at its low limit later"]),
        region(square(0, 6, 1), ["OP up as fast as it may", "OP at its high limit later"]),
      ]),
    );
    expect(kinds.map((kind) => [kind.label, kind.fill, kind.regions.length])).toEqual([
      [1, "free", 1],
      [2, "high", 2],
      [3, "later", 1],
      [4, "fast", 1],
    ]);
    expect(kinds[0]?.share).toBeCloseTo(0.36, 12);
  });

  it("say their law and their size in words", () => {
    const one = map([]);
    const law = { tag: "OP", right: 1.25, up: -0.5, offset: 34 };
    expect(lawOf(one, law)).toBe("OP = 1.3 × set point of PV −0.5 × OP before +34 %");
    // What plays no part is not said.
    expect(lawOf(one, { ...law, right: 0 })).toBe("OP = −0.5 × OP before +34 %");
    expect(lawOf(one, { ...law, right: 0, up: 0, offset: 100 })).toBe("OP = 100 %");
    expect(sizeOf(one)).toBe(
      "7 regions of the moves and 1 region of where to rest, over 4 parameters: 321 numbers in all.",
    );
  });
});
