/** A fit in the background of the server: how far it is, the best so far, and its end. */
import { answered, api, type ModelRow, type Schemas } from "../api/client";
import { jobsByLoop } from "../lib/serverJob";

export const useFitJob = jobsByLoop<Schemas["IdentifyRequest"], Schemas["FitState"], ModelRow>({
  begin: (tag, body) => answered(api.POST("/api/v1/loops/{tag}/fits", { params: { path: { tag } }, body })),
  look: (id) => answered(api.GET("/api/v1/fits/{id}", { params: { path: { id } } })),
  underWay: (tag) => answered(api.GET("/api/v1/loops/{tag}/fits/under-way", { params: { path: { tag } } })),
  end: (id) => void api.DELETE("/api/v1/fits/{id}", { params: { path: { id } } }),
  made: (state) => state.outcome?.model ?? null,
  failed: "The fit failed.",
  // What there was stays in sight while nothing newer is told.
  shown: (seen, before) => ({ ...seen, outcome: seen.outcome ?? before?.outcome ?? null }),
});
