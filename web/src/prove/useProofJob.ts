/** A proof in the background of the server. */
import { answered, api, type ProofRow, type Schemas } from "../api/client";
import { jobsByLoop } from "../lib/serverJob";

export const useProofJob = jobsByLoop<Schemas["ProofRequest"], Schemas["ProofState"], ProofRow>({
  begin: (tag, body) => answered(api.POST("/api/v1/loops/{tag}/proofs", { params: { path: { tag } }, body })),
  look: (id) => answered(api.GET("/api/v1/proofs/jobs/{id}", { params: { path: { id } } })),
  underWay: (tag) => answered(api.GET("/api/v1/loops/{tag}/proofs/under-way", { params: { path: { tag } } })),
  end: (id) => void api.DELETE("/api/v1/proofs/jobs/{id}", { params: { path: { id } } }),
  made: (state) => state.outcome?.row ?? null,
  failed: "The proof failed.",
});
