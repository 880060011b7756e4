import { describe, expect, it } from "vitest";
import { groupNumbers, grouped, when } from "./format";

describe("numbers", () => {
  it("groups sectors by spaces that do not break", () => {
    expect(grouped(976773168)).toBe("976\u2006\u2060773\u2006\u2060168");
    expect(grouped(34)).toBe("34");
  });
  it("groups only whole numbers within a text", () => {
    expect(groupNumbers("ends at 488397167, id 12345678-ABCD, 0x1234567")).toBe(
      "ends at 488\u2006\u2060397\u2006\u2060167, id 12345678-ABCD, 0x1234567",
    );
  });
});

it("shows dates with the zone", () => {
  expect(when("2026-11-24T14:05:00Z")).toMatch(/^2[45] Nov 2026 \d\d:05 .+/);
});
