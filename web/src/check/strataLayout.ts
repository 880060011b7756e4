export type Scale = "readable" | "true";

/** A partition as far as it is drawn, in sectors. */
export interface Placed {
  start: number;
  length: number;
  /** Its place is known. */
  placed?: boolean;
}

/** A disk as far as it is drawn. */
export interface Drawn<P extends Placed> {
  sectors?: number;
  sectorSize: number;
  partitions: P[];
}

/** A partition or a gap of a disk, placed in its column. */
export interface Layer<P extends Placed> {
  key: string;
  /** Index into the disk's partitions; -1 for a gap. */
  index: number;
  partition?: P;
  /** Pixels from the top of the column. */
  y: number;
  height: number;
}

/** Gaps smaller than this are the tables' own room and alignment, in bytes. */
const smallestGap = 8 << 20;
const leastHeight = 26;

/** Places a disk's partitions and gaps in a column of the given height. */
export function columnOf<P extends Placed>(
  disk: Drawn<P> | undefined,
  scale: Scale,
  largest: number,
  height: number,
): Layer<P>[] {
  if (!disk) return [];
  const parts = segments(disk);
  const heights = scale === "true" ? trueHeights(parts, largest, height) : readableHeights(parts, height);
  let y = 0;
  return parts.map((s, i) => {
    const layer = { key: s.key, index: s.index, partition: s.partition, y, height: heights[i] ?? 0 };
    y += layer.height;
    return layer;
  });
}

interface Segment<P extends Placed> {
  key: string;
  index: number;
  partition?: P;
  bytes: number;
}

type Sized = { bytes: number };

/** The capacity, or where the last partition ends when nobody told it. */
const sectorsOf = <P extends Placed>(disk: Drawn<P>) =>
  disk.sectors ?? Math.max(0, ...disk.partitions.map((p) => p.start + p.length));

/** The capacity in bytes, as far as it is known. */
export const bytesOf = <P extends Placed>(disk: Drawn<P> | undefined) =>
  disk ? sectorsOf(disk) * disk.sectorSize : 0;

function segments<P extends Placed>(disk: Drawn<P>): Segment<P>[] {
  const ordered = disk.partitions
    .map((partition, index) => ({ partition, index }))
    .sort((a, b) => a.partition.start - b.partition.start);
  const out: Segment<P>[] = [];
  const sectors = sectorsOf(disk);
  const placed = disk.partitions.every((p) => p.placed);
  let at = 0;
  const gap = (to: number) => {
    if (!placed) return; // what lies between is not known
    const bytes = (to - at) * disk.sectorSize;
    if (bytes >= smallestGap) out.push({ key: `gap ${at}`, index: -1, bytes });
  };
  for (const { partition, index } of ordered) {
    gap(Math.min(partition.start, sectors));
    // What lies beyond the end of the disk does not exist and takes no room.
    const end = Math.min(partition.start + partition.length, sectors);
    out.push({
      key: `partition ${index}`,
      index,
      partition,
      bytes: Math.max(end - partition.start, 0) * disk.sectorSize,
    });
    at = Math.max(at, partition.start + partition.length);
  }
  gap(sectors);
  return out;
}

const trueHeights = (parts: Sized[], largest: number, height: number) =>
  parts.map((s) => (largest > 0 ? (s.bytes / largest) * height : 0));

/** Every layer gets a least height; the rest is shared out by the square root of the size. */
function readableHeights(parts: Sized[], height: number): number[] {
  const least = Math.min(leastHeight, height / Math.max(parts.length, 1));
  const rest = height - least * parts.length;
  const weights = parts.map((s) => Math.sqrt(s.bytes));
  const total = weights.reduce((a, b) => a + b, 0);
  return weights.map((w) => least + (total > 0 ? (rest * w) / total : 0));
}

/** Moves labels apart, so that each keeps its distance and none leaves the drawing. */
export function spread(wanted: number[], distance: number, from: number, to: number): number[] {
  const out = [...wanted];
  for (let i = 0; i < out.length; i++) out[i] = Math.max(out[i]!, i === 0 ? from : out[i - 1]! + distance);
  for (let i = out.length - 1; i >= 0; i--)
    out[i] = Math.min(out[i]!, i === out.length - 1 ? to : out[i + 1]! - distance);
  return out;
}
