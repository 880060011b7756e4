import type { Case, Check } from "../api/client";

/** Where a person stands, in the order in which a copy goes. */
export const stands = {
  before: "before the copy",
  copied: "copied, not tried",
  fails: "does not start",
  old: "the old disk came up",
  runs: "runs, is watched",
} as const;

/** What a person can get hold of. */
export const reaches = {
  running: "a system that runs in it",
  disks: "the disks, on another computer",
  screens: "only its screens",
} as const;

export type Stands = keyof typeof stands;
export type Reach = keyof typeof reaches;

/** The one thing to do next. */
export interface Next {
  title: string;
  /** What the commands touch, above them. */
  touches?: string;
  commands?: string;
  /** What to ask a person who sits before the machine, word by word. */
  ask?: string[];
  /** Where its result goes, and what it takes. */
  then: string;
  /** A screen of the case that goes on from here. */
  to?: { path: string; name: string };
}

const known = (check: Check | undefined, role: string) =>
  check?.drives.find((d) => d.role === role)?.disk !== undefined;

/** What to do next: from where a person stands, what is at hand, and what is known already. */
export function nextThing(c: Case, check: Check | undefined): Next {
  const clone = known(check, "clone");
  const original = known(check, "original");
  const wanted = c.stands === "before" ? !original && "original" : !clone ? "clone" : !original && "original";
  if (!c.stands)
    return { title: "Say where it stands.", then: "One click above; everything else follows from it." };
  if (!c.reach)
    return {
      title: "Say what you can get hold of.",
      then: "It decides what to ask for, and with which command.",
    };
  if (wanted) return evidenceOf(wanted, c);
  if (c.stands === "runs")
    return {
      title: "Prove that it runs from the clone.",
      then: "With a capture taken on the running machine, or with its disk's identifier.",
      to: { path: "../first-start", name: "First start" },
    };
  if (check?.trace.verdict === "depends")
    return {
      title: check.trace.missing.some((q) => q.fact)
        ? "Answer the question below."
        : (check.trace.missing[0]?.text ?? "Look at the start check."),
      then: check.trace.missing.some((q) => q.fact)
        ? "It is the one that settles most."
        : (check.trace.missing[0]?.how ?? ""),
      to: { path: "../check", name: "Start check" },
    };
  if (check?.trace.verdict === "starts")
    return {
      title: "Start it, and watch.",
      then: "Nothing that is known stands against it.",
      to: { path: "../check", name: "See why" },
    };
  return {
    title: "Mend it, step by step.",
    then: "The least risky way is planned, with its commands and what they save first:",
    to: { path: "../repair", name: "Repair" },
  };
}

function evidenceOf(role: "original" | "clone", c: Case): Next {
  const file = `${role}.lkcap`;
  if (c.reach === "screens")
    return {
      title: "Have the disks read aloud.",
      ask: [
        "Windows: right-click the start button, Disk Management. A line for each disk, then one for each part of it from the left; of the second disk only what differs.",
        "Or the firmware's own screens: see below at the right.",
      ],
      touches: "What to type at the right, as the screen shows it",
      commands:
        "original 465.76 GB\n100 MB EFI\nC: 465.14 GB NTFS\n532 MB recovery\nclone 931.51 GB the same\nwithout EFI",
      then: "Type it, or paste it, at the right. What the screen does not show stays unknown.",
    };
  if (c.reach === "disks")
    return {
      title: `Hang the ${role} on the other computer and take a capture.`,
      touches: "Without a disk the command lists them; compare size and model",
      commands: `latchkey-capture\nlatchkey-capture \\\\.\\PhysicalDriveN -o ${file}`,
      then: `A few hundred kB, a few seconds, read only. Drop ${file} at the right.`,
      to: { path: "../evidence?view=pieces", name: "Get the command, or for Linux" },
    };
  return {
    title: `Take a capture on the running machine.`,
    touches: "In a terminal as administrator; the firmware's boot entries come along",
    commands: `latchkey-capture\nlatchkey-capture \\\\.\\PhysicalDriveN -o ${file}`,
    then: `No program may be brought there? Paste instead what these print: Get-Disk, Get-Partition and Get-Volume | ConvertTo-Json, or diskpart's list disk and list partition.`,
    to: { path: "../evidence?view=pieces", name: "Get the command, or for Linux" },
  };
}
