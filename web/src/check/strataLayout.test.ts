import { describe, expect, it } from "vitest";
import type { Disk, Partition } from "../api/client";
import { columnOf, spread } from "./strataLayout";

const GiB = 2 ** 30;
const partition = (number: number, start: number, length: number): Partition => ({
  number,
  start,
  length,
  type: "Basic data",
  role: "system",
  size: { bytes: length * 512, label: "", binary: "" },
  kind: "NTFS",
  active: false,
  lost: false,
  placed: true,
  source: { origin: "bytes", offset: 0, length: 0 },
});
const disk = (sectors: number, partitions: Partition[]): Disk => ({
  size: { bytes: sectors * 512, label: "", binary: "" },
  sectorSize: 512,
  sectors,
  style: "GPT",
  partitions,
  problems: [],
  facts: [],
  rounded: false,
  filename: "",
  receivedAt: "",
  held: { bytes: 0, label: "", binary: "" },
});
const total = (layers: { height: number }[]) => layers.reduce((sum, l) => sum + l.height, 0);
const sectors = (GiB * 100) / 512;

describe("columnOf", () => {
  const small = partition(1, 2048, 204800);
  const big = partition(2, 206848, sectors - 206848 - 2048);
  it("keeps small partitions readable and fills the column", () => {
    const layers = columnOf(disk(sectors, [small, big]), "readable", 0, 300);
    expect(layers).toHaveLength(2);
    expect(layers[0]!.height).toBeGreaterThan(25);
    expect(total(layers)).toBeCloseTo(300);
  });
  it("is in proportion at true scale, both disks alike", () => {
    const layers = columnOf(disk(sectors, [small, big]), "true", 200 * GiB, 300);
    expect(total(layers)).toBeGreaterThan(149);
    expect(total(layers)).toBeLessThan(150.1);
    expect(layers[0]!.height).toBeLessThan(0.2);
  });
  it("shows free room, and no room beyond the end of the disk", () => {
    const free = columnOf(disk(sectors, [small]), "true", 100 * GiB, 100);
    expect(free.map((l) => l.index)).toEqual([0, -1]);
    const cut = columnOf(
      disk(sectors, [partition(1, 2048, sectors * 2), partition(2, sectors * 3, 100)]),
      "true",
      100 * GiB,
      100,
    );
    expect(total(cut)).toBeLessThanOrEqual(100);
    expect(cut[1]!.height).toBe(0);
  });
  it("has nothing to show without evidence", () => expect(columnOf(undefined, "true", 1, 1)).toEqual([]));
});

describe("spread", () => {
  it("keeps labels apart and within the drawing", () => {
    const out = spread([10, 11, 12, 95], 20, 5, 100);
    for (let i = 1; i < out.length; i++) expect(out[i]! - out[i - 1]!).toBeGreaterThanOrEqual(20);
    expect(out[3]).toBeLessThanOrEqual(100);
  });
});

describe("a disk that is only told of", () => {
  it("is as long as its partitions, without gaps that nobody told", () => {
    const told = disk(0, [
      { ...partition(1, 2048, 204800), placed: false },
      { ...partition(2, 40_000_000, 204800), placed: false },
    ]);
    delete told.sectors;
    const layers = columnOf(told, "readable", 0, 100);
    expect(layers.map((l) => l.index)).toEqual([0, 1]);
    expect(layers.every((l) => Number.isFinite(l.height))).toBe(true);
  });
});
