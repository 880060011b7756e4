import { stages } from "../api/generated/words";

export { stages };

export type Stage = (typeof stages)[number][0];

export const stageTitle = (stage: string) => stages.find(([s]) => s === stage)?.[1] ?? stage;

/** How a pin's state is said. */
export const stateWord: Record<string, string> = {
  passes: "passes",
  blocks: "blocks",
  unproven: "not proven",
  behind: "not reached",
  "wrong-disk": "wrong disk",
};
