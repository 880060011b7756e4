import { changing, client, unwrap } from "./call";

export const modelMemory = (id: number) =>
  unwrap(client.GET("/cases/{id}/model", { params: { path: { id } } }));

export const takeModelMemory = (id: number, version: number, keys: string[]) =>
  unwrap(client.POST("/cases/{id}/model", { params: changing(id, version), body: { keys } }));

export const getFleet = () => unwrap(client.GET("/fleet"));

export const judgeFleet = () => unwrap(client.POST("/fleet"));

export const getFigures = () => unwrap(client.GET("/figures"));

/** Takes in a case that another bench exported. */
export function importCase(file: File) {
  const form = new FormData();
  form.set("file", file);
  return unwrap(client.POST("/imports", { body: { file: "" }, bodySerializer: () => form }));
}
