import { describe, expect, test } from "vitest";
import { lay, ofTheStick, pathOf } from "./stickFolder";

const at = (...paths: string[]) => paths.map((p) => lay(new File([p], p.slice(p.lastIndexOf("/") + 1)), p));
const text = (list: File[]) => list.map(pathOf);

describe("The stick's folder", () => {
  test("gives the newest capture of each drive and the machine's summary", () => {
    const { pieces, sittings } = ofTheStick(
      at(
        "SHA256SUMS",
        "machine.txt",
        "original.lkcap",
        "clone.lkcap",
        "clone-after-2.lkcap",
        "clone-after-10.lkcap",
        "record.txt",
        "step.sh",
      ),
    );
    expect(text(pieces)).toEqual(["machine.txt", "original.lkcap", "clone-after-10.lkcap"]);
    expect(sittings.map((s) => s.record?.name)).toEqual(["record.txt"]);
  });

  test("of several sessions the newest tells how the machine stands, and all what was done", () => {
    const { pieces, sittings } = ofTheStick(
      at(
        "LATCHKEY/Model-20261127-020000/SHA256SUMS",
        "LATCHKEY/Model-20261127-020000/machine.txt",
        "LATCHKEY/Model-20261127-020000/clone.lkcap",
        "LATCHKEY/Model-20261127-020000/steps.json",
        "LATCHKEY/Model-20261126-010000/SHA256SUMS",
        "LATCHKEY/Model-20261126-010000/machine.txt",
        "LATCHKEY/Model-20261126-010000/clone-after-3.lkcap",
        "LATCHKEY/Model-20261126-010000/step-1/before.bin",
        "LATCHKEY/Model-20261126-010000/record.txt",
        "LATCHKEY-PLAN.json",
        "a-list.txt",
      ),
    );
    expect(text(pieces)).toEqual([
      "a-list.txt",
      "LATCHKEY/Model-20261127-020000/machine.txt",
      "LATCHKEY/Model-20261127-020000/clone.lkcap",
    ]);
    expect(sittings.map((s) => pathOf((s.steps ?? s.record)!))).toEqual([
      "LATCHKEY/Model-20261126-010000/record.txt",
      "LATCHKEY/Model-20261127-020000/steps.json",
    ]);
  });

  test("any other files are taken as they are", () => {
    for (const names of [["a.lkcap", "a-after-1.lkcap"], ["SHA256SUMS", "b.txt"], []]) {
      const { pieces, sittings } = ofTheStick(at(...names));
      expect(text(pieces)).toEqual(names);
      expect(sittings).toEqual([]);
    }
  });
});
