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
