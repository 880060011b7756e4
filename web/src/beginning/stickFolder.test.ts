import { describe, expect, it } from "vitest";
import { ofTheStick } from "./stickFolder";

const named = (...names: string[]) => names.map((n) => new File([], n));
const taken = (...names: string[]) =>
  ofTheStick(named(...names))
    .map((f) => f.name)
    .sort();

describe("the stick's folder", () => {
  it("gives the newest capture of each drive, and the summary", () => {
    expect(
      taken(
        "SHA256SUMS",
        "machine.json",
        "machine.txt",
        "record.txt",
        "clone.lkcap",
        "clone-after-1.lkcap",
        "clone-after-10.lkcap",
        "clone-after-2.lkcap",
        "original.lkcap",
        "BootOrder-8be4df61-93ca-11d2-aa0d-00e098032b8c",
        "step.sh",
      ),
    ).toEqual(["clone-after-10.lkcap", "machine.txt", "original.lkcap"]);
  });
  it("leaves other files as they are", () => {
    expect(taken("machine.txt", "a.lkcap", "notes.txt")).toEqual(["a.lkcap", "machine.txt", "notes.txt"]);
  });
});
