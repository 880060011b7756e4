import { changing, client, etag, unwrap } from "./call";
import type { Fate, Role, Work } from "./client";

export type StartKind = "cold" | "warm" | "unknown";

/** What was seen of a start: which disk the system runs from, or that it did not come up. */
export interface Seen {
  kind: StartKind;
  at?: string;
  id?: string;
  capacity?: string;
  answer?: string;
  failed?: string;
  note?: string;
}

export const recordStart = (id: number, version: number, body: Seen) =>
  unwrap(client.POST("/cases/{id}/starts", { params: changing(id, version), body }));

export function recordStartCapture(id: number, version: number, file: File, { kind, at, note }: Seen) {
  const form = new FormData();
  form.set("file", file);
  form.set("kind", kind);
  if (at) form.set("at", at);
  if (note) form.set("note", note);
  return unwrap(
    client.POST("/cases/{id}/starts/capture", {
      params: changing(id, version),
      body: { file: "" },
      bodySerializer: () => form,
    }),
  );
}

export const withdrawStart = (id: number, version: number, start: number) =>
  unwrap(
    client.DELETE("/cases/{id}/starts/{start}", {
      params: { path: { id, start }, header: { "If-Match": etag(version) } },
    }),
  );

export const getHandOver = (id: number) =>
  unwrap(client.GET("/cases/{id}/hand-over", { params: { path: { id } } }));

export const decideOldDrive = (
  id: number,
  version: number,
  body: { keepUntil?: string; place?: string; serial?: string; beside?: boolean; saved?: boolean },
) => unwrap(client.PUT("/cases/{id}/hand-over", { params: changing(id, version), body }));

export const lookAt = (id: number, version: number, key: string, seen: boolean) =>
  unwrap(
    client.PUT("/cases/{id}/hand-over/looks/{key}", {
      params: { path: { id, key }, header: { "If-Match": etag(version) } },
      body: { seen },
    }),
  );

export const addAnswer = (id: number, version: number, text: string) =>
  unwrap(client.POST("/cases/{id}/hand-over/answers", { params: changing(id, version), body: { text } }));

export const withdrawAnswer = (id: number, version: number, answer: number) =>
  unwrap(
    client.DELETE("/cases/{id}/hand-over/answers/{answer}", {
      params: { path: { id, answer }, header: { "If-Match": etag(version) } },
    }),
  );

export const timeStart = (id: number, version: number, side: Role, text: string) =>
  unwrap(client.POST("/cases/{id}/hand-over/times", { params: changing(id, version), body: { side, text } }));

export const forgetTimes = (id: number, version: number) =>
  unwrap(client.DELETE("/cases/{id}/hand-over/times", { params: changing(id, version) }));

export const releaseOldDrive = (id: number, version: number, fate: Fate | "none") =>
  unwrap(client.PUT("/cases/{id}/hand-over/release", { params: changing(id, version), body: { fate } }));

export const oldDriveCommands = (id: number, fate: "image" | "data" | "wiped", system: Work["system"]) =>
  unwrap(
    client.GET("/cases/{id}/hand-over/old-drive", { params: { path: { id }, query: { fate, system } } }),
  );

export const hideRecovery = (id: number, partition: number) =>
  unwrap(
    client.GET("/cases/{id}/hand-over/recovery-letter", {
      params: { path: { id }, query: { partition } },
    }),
  );
