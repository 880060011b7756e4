import { type Case, type CaseInput, type Question, type WhatIf, inputOf } from "../api/client";

/** The case as it would be with a question answered; undefined when no typed fact answers it. */
export function withAnswer(c: Case, q: Question, option: string): CaseInput | undefined {
  const input = inputOf(c);
  const field = q.field;
  if (!field) return undefined;
  const [name, role] = field.split(":");
  const yes = option === "yes";
  if (name === "attached") {
    input.drives = input.drives?.map((d) => (d.role === role ? { ...d, attached: yes } : d));
  } else if (name === "entry" && role) {
    input.firmware = { ...input.firmware, entries: { ...input.firmware?.entries, [role]: yes } };
  } else if (name === "answer" && role) {
    // The question's name may hold a colon of its own.
    const answers = { ...input.firmware?.answers, [field.slice("answer:".length)]: option };
    input.firmware = { ...input.firmware, answers };
  } else if (name === "deviceOrder") {
    input.deviceOrder = option === "clone" ? ["clone", "original"] : ["original", "clone"];
  } else {
    input.firmware = { ...input.firmware, [field]: option === "yes" || option === "no" ? yes : option };
  }
  return input;
}

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
