import type { Bench, Case } from "../api/client";
import { isRole } from "../parts/format";

/** The machine of a case, put on the bench: its settings, its boot entries, and its drives in the order they are tried. */
export function benchOf(c: Case): Bench {
  const { mode, arch, secureBoot } = c.firmware;
  const place = (role: string) => (c.deviceOrder.indexOf(role) + 1 || 9) - 1;
  const drives = [...c.drives]
    .sort((a, b) => place(a.role) - place(b.role))
    .filter((d) => isRole(d.role))
    .map((d) => ({ case: c.id, disk: d.role, as: d.role, bus: d.bus, on: d.attached ?? true }));
  return { mode, arch, secureBoot, behaviour: "generic", entriesOf: c.id, drives };
}
