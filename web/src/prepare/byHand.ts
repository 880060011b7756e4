import type { Preparing } from "../api/client";

export type Part = Preparing["parts"][number];

/** A partition in a column, in bytes. */
export interface Lying {
  number: number;
  start: number;
  size: number;
}

export const MiB = 1 << 20;
export const GiB = 1 << 30;

/**
 * How the partitions lie when some have other sizes: one behind the other, as the server lays them out.
 * It is drawn while a grip is dragged; what is kept is the server's own.
 */
export function lieByHand(parts: Part[], sizes: Record<string, number>): Lying[] {
  let at = MiB;
  let same = true;
  return [...parts]
    .sort((a, b) => a.start - b.start)
    .map((p) => {
      const size = sizes[p.number] ?? p.size.bytes;
      const start = same && p.start >= at ? p.start : Math.ceil(at / MiB) * MiB;
      same = same && size === p.size.bytes;
      at = start + size;
      return { number: p.number, start, size };
    });
}

/** The partition that a grip makes larger or smaller: the largest that can change its size. */
export const gripped = (parts: Part[]): Part | undefined =>
  parts
    .filter((p) => !p.fixed)
    .sort(
      (a, b) => Number(b.role === "system") - Number(a.role === "system") || b.size.bytes - a.size.bytes,
    )[0];

/** A size that a grip is moved to: whole MiB, not below what the partition needs, not beyond the room. */
export function snapped(bytes: number, part: Part, room: number): number {
  const least = part.least?.bytes ?? MiB;
  return Math.max(Math.min(Math.round(bytes / MiB) * MiB, room), least);
}

/** What a size that was typed in GiB is in bytes; undefined for one that is none. */
export function typedGiB(text: string): number | undefined {
  const n = Number(text.replace(",", "."));
  return text.trim() !== "" && Number.isFinite(n) && n > 0 ? Math.round((n * GiB) / MiB) * MiB : undefined;
}
