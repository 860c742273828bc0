/** Files on their way into records. */
import { answered, api, type RecordInfo, type Schemas } from "../api/client";

export function uploadFile(file: File, signal?: AbortSignal): Promise<Schemas["UploadedFile"]> {
  return answered(
    api.POST("/api/v1/uploads", {
      params: { query: { name: file.name } },
      body: file as unknown as string,
      bodySerializer: (body) => body as unknown as BodyInit,
      headers: { "Content-Type": "application/octet-stream" },
      signal,
    }),
  );
}

/** The same file read in another way. */
export function lookAgain(id: string, reading: Schemas["Reading"]): Promise<Schemas["UploadedFile"]> {
  return answered(api.POST("/api/v1/uploads/{id}/preview", { params: { path: { id } }, body: reading }));
}

/** Imports a file and waits for the record; tells how far it is, and by which identifier it can be cancelled. */
export async function takeImport(
  tag: string,
  upload: string,
  name: string,
  mapping: Schemas["Mapping"],
  progress: (share: number) => void,
  begun: (id: string) => void,
): Promise<RecordInfo> {
  let state = await answered(
    api.POST("/api/v1/loops/{tag}/imports", {
      params: { path: { tag } },
      body: { upload_id: upload, name, mapping },
    }),
  );
  begun(state.id);
  while (state.stage === "running") {
    await new Promise((resolve) => setTimeout(resolve, 60));
    state = await answered(api.GET("/api/v1/imports/{id}", { params: { path: { id: state.id } } }));
    progress(state.share);
  }
  if (!state.record) throw new Error(state.problem?.detail ?? "The import failed.");
  return state.record;
}

/** Which channels a record has, in a few words: `PV, OP, SP, 27 other`. */
export function channelsInWords(channels: { role: Schemas["Role"] }[]): string {
  const count = (role: Schemas["Role"]) => channels.filter((channel) => channel.role === role).length;
  const words = (["pv", "op", "sp", "dv"] as const)
    .map((role) => [role.toUpperCase(), count(role)] as const)
    .filter(([, number]) => number > 0)
    .map(([role, number]) => (number > 1 ? `${number} ${role}` : role));
  const other = count("other");
  if (other > 0) words.push(`${other} other`);
  return words.join(", ");
}
