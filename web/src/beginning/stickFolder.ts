/** Where a file lay in the folder that was dropped; its name alone where that is not known. */
const paths = new WeakMap<File, string>();

/** Remembers where a file lay. */
export function lay(file: File, path: string): File {
  paths.set(file, path.replace(/^\//, ""));
  return file;
}

export const pathOf = (file: File) => paths.get(file) ?? (file.webkitRelativePath || file.name);

/** What the stick did in a session: its steps and its record, as the files that tell of them. */
export interface Sitting {
  steps?: File;
  record?: File;
}

export interface OfTheStick {
  pieces: File[];
  sittings: Sitting[];
}

/**
 * What is taken of the folders that the stick made, each of which is known by its sums and its
 * summary: of the newest the newest capture of each drive, and what the machine says of itself;
 * of all of them what was done. The rest is the stick's own. Any other files are taken as they
 * are.
 */
export function ofTheStick(files: File[]): OfTheStick {
  const folderOf = (f: File) => pathOf(f).slice(0, -f.name.length);
  const sessions = [...new Set(files.filter((f) => f.name === "SHA256SUMS").map(folderOf))]
    .filter((at) => files.some((f) => f.name === "machine.txt" && folderOf(f) === at))
    .sort((a, b) => (when(a) < when(b) ? -1 : 1));
  if (sessions.length === 0) return { pieces: files, sittings: [] };
  const of = (at: string, name: string) => files.find((f) => f.name === name && folderOf(f) === at);
  const rest = files.filter((f) => f.name !== planName && !sessions.some((at) => pathOf(f).startsWith(at)));
  const last = sessions.at(-1)!;
  return {
    pieces: [...rest, of(last, "machine.txt")!, ...captures(files.filter((f) => folderOf(f) === last))],
    sittings: sessions
      .map((at) => ({ steps: of(at, "steps.json"), record: of(at, "record.txt") }))
      .filter((s) => s.steps || s.record),
  };
}

const planName = "LATCHKEY-PLAN.json";

/** When a session was begun, which is told at the end of its folder's name. */
const when = (folder: string) => /(\d{8}-\d{6}(?:-\d+)?)\/$/.exec(folder)?.[1] ?? "";

/** The newest capture of each drive: after a step it is taken again. */
function captures(files: File[]): File[] {
  const newest = new Map<string, { step: number; file: File }>();
  for (const file of files) {
    const m = /^(.+?)(?:-after-(\d+))?\.lkcap$/.exec(file.name);
    if (!m) continue;
    const step = Number(m[2] ?? 0);
    const before = newest.get(m[1]!);
    if (!before || before.step < step) newest.set(m[1]!, { step, file });
  }
  return [...newest.values()].map((n) => n.file);
}
