import { expect, it } from "vitest";
import type { Case } from "../api/client";
import { withChange } from "./change";

const c: Case = {
  id: 1,
  version: 1,
  title: "Kiosk",
  machine: "",
  firmware: { mode: "uefi" },
  deviceOrder: [],
  drives: [{ role: "original" }, { role: "clone", attached: false }],
  statements: [],
  verdict: "",
  reaches: "",
  stage: "",
  headline: "",
  demo: false,
  createdAt: "",
  updatedAt: "",
};
it("takes over a what-if and leaves the rest as it is", () => {
  const input = withChange(c, { mode: "legacy", attached: { clone: true } });
  expect(input.firmware?.mode).toBe("legacy");
  expect(input.drives?.map((d) => d.attached)).toEqual([undefined, true]);
  expect(input.deviceOrder).toEqual([]);
});
