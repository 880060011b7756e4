import { type Case, type CaseInput, type WhatIf, inputOf } from "../api/client";

/** The case with a what-if taken over. */
export function withChange(c: Case, change: WhatIf): CaseInput {
  const input = inputOf(c);
  if (change.mode) input.firmware = { ...input.firmware, mode: change.mode };
  if (change.secureBoot !== undefined) input.firmware = { ...input.firmware, secureBoot: change.secureBoot };
  if (change.storageMode) input.firmware = { ...input.firmware, storageMode: change.storageMode };
  if (change.bootOrder) input.firmware = { ...input.firmware, bootOrder: change.bootOrder };
  if (change.deviceOrder) input.deviceOrder = change.deviceOrder;
  const attached = change.attached;
  if (attached)
    input.drives = input.drives?.map((d) => (d.role in attached ? { ...d, attached: attached[d.role] } : d));
  return input;
}
