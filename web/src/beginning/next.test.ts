import { describe, expect, it } from "vitest";
import type { Case, Check } from "../api/client";
import { nextThing } from "./next";

const the = (c: Partial<Case>) => c as Case;
const knows = (...roles: string[]) =>
  ({
    drives: ["original", "clone"].map((role) => ({ role, disk: roles.includes(role) ? {} : undefined })),
    trace: { verdict: "depends", missing: [{ id: "mode", text: "UEFI?", how: "look", fact: "mode" }] },
  }) as unknown as Check;

describe("nextThing", () => {
  it("asks first where it stands, then what is at hand", () => {
    expect(nextThing(the({}), undefined).title).toMatch(/where it stands/);
    expect(nextThing(the({ stands: "fails" }), undefined).title).toMatch(/get hold of/);
  });
  it("wants the clone first, and the original alone before a copy", () => {
    expect(nextThing(the({ stands: "fails", reach: "disks" }), knows()).title).toMatch(/^Hang the clone/);
    expect(nextThing(the({ stands: "fails", reach: "disks" }), knows("clone")).title).toMatch(
      /^Hang the original/,
    );
    expect(nextThing(the({ stands: "before", reach: "disks" }), knows()).title).toMatch(/^Hang the original/);
  });
  it("has the words to ask for where only screens are at hand", () => {
    const next = nextThing(the({ stands: "fails", reach: "screens" }), knows());
    expect(next.ask?.length).toBeGreaterThan(0);
    expect(next.commands).toContain("100 MB EFI");
  });
  it("goes on to the question, the repair or the proof", () => {
    const both = knows("original", "clone");
    expect(nextThing(the({ stands: "fails", reach: "disks" }), both).title).toMatch(/question below/);
    const stops = { ...both, trace: { ...both.trace, verdict: "stops" } } as Check;
    expect(nextThing(the({ stands: "fails", reach: "disks" }), stops).to?.path).toMatch(/repair/);
    expect(nextThing(the({ stands: "runs", reach: "disks" }), stops).to?.path).toMatch(/first-start/);
    const starts = { ...both, trace: { ...both.trace, verdict: "starts" } } as Check;
    expect(nextThing(the({ stands: "copied", reach: "disks" }), starts).title).toMatch(/Start it/);
  });
});
