/** What a loop can begin on: the library and the plants of the works, with the signals of the loop that begins. */
import { describe, expect, it, vi } from "vitest";
import { effectScope, nextTick } from "vue";

const saved = [
  { id: "s1", name: "dosing line", spec: { process: { gain: 2 }, pv: { tag: "A.PV" }, op: { tag: "A.OP" } } },
];
const asked: unknown[] = [];
let isAway = false;
vi.mock("../src/api/client", () => ({
  api: {
    GET: (path: string) =>
      path.endsWith("/saved")
        ? isAway
          ? Promise.reject(new Error("away"))
          : Promise.resolve(saved)
        : Promise.resolve([{ title: "First order", process: { gain: 1 } }]),
    POST: (_: string, { body }: { body: { process: unknown; tag: string } }) => {
      asked.push(body);
      const plant = {
        process: body.process,
        pv: { tag: `${body.tag}.PV`, span: 7 },
        op: { tag: `${body.tag}.OP` },
      };
      return Promise.resolve(plant);
    },
  },
  answered: (promise: Promise<unknown>) => promise,
}));
vi.stubGlobal("window", Object.assign(globalThis, { addEventListener: () => undefined }));
const { useBeginnings } = await import("../src/works/beginnings");

const loop = (tag: string, pv: string, op: string) =>
  ({ tag, pv: { tag: pv }, op: { tag: op } }) as unknown as Parameters<
    ReturnType<typeof useBeginnings>["beginnings"]["value"][number]["plantFor"]
  >[0];

describe("what a loop can begin on", () => {
  it("is the library and what the works have saved, each with the signals of the loop", async () => {
    const scope = effectScope();
    const { beginnings, refresh } = scope.run(useBeginnings)!;
    await refresh();
    await nextTick();
    expect(beginnings.value.map(({ title, isSaved }) => [title, isSaved])).toEqual([
      ["First order", false],
      ["dosing line", true],
    ]);
    const [library, works] = beginnings.value;
    expect(await library!.plantFor(loop(" B ", "TT-7", "TV-7"))).toMatchObject({
      pv: { tag: "TT-7", span: 7 },
      op: { tag: "TV-7" },
    });
    expect(asked).toEqual([{ process: { gain: 1 }, tag: "B" }]);
    expect(await works!.plantFor(loop("C", "FT-1", "FV-1"))).toEqual({
      process: { gain: 2 },
      pv: { tag: "FT-1" },
      op: { tag: "FV-1" },
    });
    // What is saved stays as it is: the next loop finds it unchanged.
    expect(saved[0]!.spec.pv.tag).toBe("A.PV");
    scope.stop();
  });

  it("is the library alone where what is saved cannot be read", async () => {
    isAway = true;
    const scope = effectScope();
    const { beginnings, refresh } = scope.run(useBeginnings)!;
    await refresh();
    expect(beginnings.value.map(({ title }) => title)).toEqual(["First order"]);
    scope.stop();
  });
});
