import type { Role } from "../api/client";

// A sixth of an em, and a joiner so that no line breaks there: the narrower spaces
// of the sans are too narrow to be seen.
const thin = "\u2006\u2060";

/** Sector numbers and byte offsets, grouped by narrow spaces that do not break. */
export const grouped = (n: number) => n.toString().replace(/\B(?=(\d{3})+$)/g, thin);

/** Groups the long numbers within a text: sectors and byte offsets, not parts of identifiers. */
export const groupNumbers = (text: string) =>
  text.replace(/(?<![\w-])\d{5,}(?![\w-])/g, (n) => grouped(Number(n)));

const date = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", year: "numeric" });
const time = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit", timeZoneName: "short" });

/** 24 Nov 2026 14:05 with the local zone. */
export function when(iso: string): string {
  const d = new Date(iso);
  return `${date.format(d)} ${time.format(d)}`;
}

const shortDate = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short" });
const shortTime = new Intl.DateTimeFormat("en-GB", { hour: "2-digit", minute: "2-digit" });

/** 24 Nov 14:05, where the year and the zone are plain. */
export const shortWhen = (iso: string) =>
  `${shortDate.format(new Date(iso))} ${shortTime.format(new Date(iso))}`;

/** "3 hours ago" for what was within a day, else 24 Nov 2026 14:05. */
export function ago(iso: string, now = Date.now()): string {
  const minutes = Math.floor((now - new Date(iso).getTime()) / 60_000);
  if (minutes < 0 || minutes >= 24 * 60) return when(iso);
  if (minutes < 1) return "just now";
  if (minutes < 60) return minutes === 1 ? "a minute ago" : `${minutes} minutes ago`;
  const hours = Math.floor(minutes / 60);
  return hours === 1 ? "an hour ago" : `${hours} hours ago`;
}

export const busName: Record<string, string> = {
  sata: "SATA",
  nvme: "NVMe",
  usb: "USB",
  ide: "IDE",
  scsi: "SCSI",
  virtio: "virtio",
  sd: "SD card",
};

export const roles: Role[] = ["original", "clone"];

export const isRole = (s: string | undefined): s is Role => s === "original" || s === "clone";
