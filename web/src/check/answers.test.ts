import { describe, expect, it } from "vitest";
import type { Case, Question } from "../api/client";
import { withAnswer, withChange } from "./answers";

const c: Case = {
  id: 1,
  version: 1,
  title: "Kiosk",
  machine: "",
  firmware: { mode: "uefi" },
  deviceOrder: [],
  drives: [{ role: "original" }, { role: "clone", attached: false }],
  verdict: "",
  reaches: "",
  stage: "",
  headline: "",
  demo: false,
  createdAt: "",
  updatedAt: "",
};
const question = (field?: string): Question => ({
  id: "q",
  stage: "order",
  text: "",
  how: "",
  options: [],
  field,
});

describe("withAnswer", () => {
  it("writes the typed fact that a question is about", () => {
    expect(withAnswer(c, question("secureBoot"), "no")?.firmware).toEqual({
      mode: "uefi",
      secureBoot: false,
    });
    expect(withAnswer(c, question("mode"), "legacy")?.firmware?.mode).toBe("legacy");
    expect(withAnswer(c, question("deviceOrder"), "clone")?.deviceOrder).toEqual(["clone", "original"]);
    expect(withAnswer(c, question("attached:clone"), "yes")?.drives?.[1]?.attached).toBe(true);
    expect(withAnswer(c, question("entry:clone"), "yes")?.firmware?.entries).toEqual({ clone: true });
  });
  it("has none for a question that only evidence answers", () =>
    expect(withAnswer(c, question(), "yes")).toBeUndefined());
});

it("takes over a what-if and leaves the rest as it is", () => {
  const input = withChange(c, { mode: "legacy", attached: { clone: true } });
  expect(input.firmware?.mode).toBe("legacy");
  expect(input.drives?.map((d) => d.attached)).toEqual([undefined, true]);
  expect(input.deviceOrder).toEqual([]);
});
