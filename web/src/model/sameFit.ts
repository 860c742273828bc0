/** Whether two fits are asked for in the same way, whatever the order in which their signals were chosen. */
import type { Schemas } from "../api/client";
import type { Structure } from "../lib/structures";

type Options = Schemas["FitOptions"];

/** All that a fit is made under, signals in an order of their own. */
export function settingsOf(options: Options): string {
  const { structure, loss, noise, find_steps, drift, initial_state, constraints } = options;
  const [disturbances, outputs] = [options.disturbances ?? [], options.outputs ?? []];
  return JSON.stringify([
    structure,
    loss,
    noise ?? "white",
    find_steps ?? false,
    drift,
    initial_state,
    constraints,
    // A physical model names its channels itself.
    options.physical ? [] : [...disturbances].sort(),
    options.physical ? [] : [...outputs].sort(),
    structure.kind === "matrix" ? waysOf(options) : (options.paths ?? []),
    options.physical ?? null,
  ]);
}

/** The cells of a matrix by their tags; those that nobody chose are first order plus dead time. */
function waysOf({ cells, disturbances, outputs }: Options): string[] {
  const usual: Structure = { kind: "fopdt" };
  const ways = ["", ...(outputs ?? [])].flatMap((output, i) =>
    ["", ...(disturbances ?? [])].map((input, j) => {
      const cell = cells?.length ? cells[i]?.[j] : usual;
      return `${output}\n${input}\n${cell?.kind ?? "none"}`;
    }),
  );
  return ways.sort();
}
