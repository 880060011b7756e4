import { describe, expect, it } from "vitest";
import type { Attempt } from "../api/client";
import { pathOf, whyOf } from "./attempt";

const attempt = (part: Partial<Attempt>): Attempt => ({ steps: [], handsOver: false, final: false, ...part });

describe("pathOf", () => {
  it("names the entry and where it leads", () => {
    expect(
      pathOf(
        attempt({
          entry: "0003",
          name: "Windows Boot Manager",
          role: "clone",
          drive: "b",
          partition: 1,
          loader: "\\EFI\\a.efi",
        }),
      ),
    ).toBe("Entry 0003 “Windows Boot Manager” → the clone, partition 1, \\EFI\\a.efi");
  });
  it("says when an entry leads nowhere", () => {
    expect(pathOf(attempt({ entry: "0003", loader: "\\EFI\\a.efi" }))).toBe("Entry 0003 → nothing");
  });
  it("tells the firmware's own search from an entry of unknown number and from a legacy order", () => {
    const on = { role: "original", drive: "a" } as const;
    expect(pathOf(attempt({ ...on, loader: "\\EFI\\BOOT\\BOOTX64.EFI" }))).toMatch(
      /own search → the original/,
    );
    expect(pathOf(attempt({ ...on, loader: "\\EFI\\Microsoft\\Boot\\bootmgfw.efi" }))).toMatch(
      /^A boot entry/,
    );
    expect(pathOf(attempt({ ...on, loader: "boot sector" }))).toMatch(/^The boot order/);
  });
});

describe("whyOf", () => {
  const step = (state: string, text: string) => ({ stage: "table", state, text }) as Attempt["steps"][number];
  it("gives what blocks before anything else", () => {
    const why = whyOf(attempt({ steps: [step("passes", "fine"), step("blocks", "damaged")] }));
    expect(why).toMatchObject({ word: "stopped", stage: "table", text: "damaged" });
  });
  it("tells a start from one that is not proven and from one by the other disk", () => {
    expect(whyOf(attempt({ handsOver: true, steps: [step("passes", "comes up")] })).word).toBe("started");
    expect(whyOf(attempt({ handsOver: true, steps: [step("unproven", "?")] })).word).toBe("not proven");
    expect(whyOf(attempt({ handsOver: true, steps: [step("wrong-disk", "!")] })).word).toMatch(/original/);
  });
});
