import { expect, it } from "vitest";
import type { Case } from "../api/client";
import { benchOf } from "./benchOf";

it("lays a case's drives in the order in which they are tried, with its settings and entries", () => {
  const c = {
    id: 7,
    firmware: { mode: "legacy", arch: "x64", secureBoot: false },
    deviceOrder: ["clone", "original"],
    drives: [
      { role: "original", bus: "sata", attached: false },
      { role: "clone", bus: "nvme" },
    ],
  } as unknown as Case;
  expect(benchOf(c)).toEqual({
    mode: "legacy",
    arch: "x64",
    secureBoot: false,
    behaviour: "generic",
    entriesOf: 7,
    drives: [
      { case: 7, disk: "clone", as: "clone", bus: "nvme", on: true },
      { case: 7, disk: "original", as: "original", bus: "sata", on: false },
    ],
  });
});
