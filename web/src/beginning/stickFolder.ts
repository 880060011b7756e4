/**
 * What is taken of the folder that the stick made, which is known by its sums and its summary:
 * the newest capture of each drive, and what the machine says of itself. The rest is the
 * stick's own. Any other files are taken as they are.
 */
export function ofTheStick(files: File[]): File[] {
  const has = (name: string) => files.some((f) => f.name === name);
  if (!has("SHA256SUMS") || !has("machine.txt")) return files;
  const newest = new Map<string, { step: number; file: File }>();
  for (const file of files) {
    const m = /^(.+?)(?:-after-(\d+))?\.lkcap$/.exec(file.name);
    if (!m) continue;
    const step = Number(m[2] ?? 0);
    const before = newest.get(m[1]!);
    if (!before || before.step < step) newest.set(m[1]!, { step, file });
  }
  return [...files.filter((f) => f.name === "machine.txt"), ...[...newest.values()].map((n) => n.file)];
}
