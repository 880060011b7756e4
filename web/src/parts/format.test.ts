import { describe, expect, it } from "vitest";
import { groupNumbers, grouped, parseSize, when } from "./format";

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

describe("parseSize", () => {
  it.each([
    ["500107862016", 500107862016],
    ["500 107 862 016", 500107862016],
    ["232 GB", 232e9],
    ["465.8 GiB", Math.round(465.8 * 2 ** 30)],
    ["1,5 TB", 1.5e12],
    ["64MiB", 64 * 2 ** 20],
  ])("reads %s", (text, bytes) => expect(parseSize(text)).toBe(bytes));
  it.each(["", "large", "-5 GB", "5 XB", "0"])("refuses %s", (text) =>
    expect(parseSize(text)).toBeUndefined(),
  );
});

it("shows dates with the zone", () => {
  expect(when("2026-11-24T14:05:00Z")).toMatch(/^2[45] Nov 2026 \d\d:05 .+/);
});
