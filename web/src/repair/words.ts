import type { PlanStep, Toolbox } from "../api/client";

/** The toolboxes as the screens name them. */
export const toolboxName: Record<Toolbox, string> = {
  firmware: "Firmware screens",
  "windows-recovery": "Windows recovery",
  linux: "Live Linux",
  "mac-recovery": "Mac recovery",
  "old-drive": "Old drive put back",
};

export const toolboxes = Object.keys(toolboxName) as Toolbox[];

/** A risk in words; the mark beside it only supports them. */
export const riskWord: Record<PlanStep["risk"], string> = {
  none: "nothing on a disk changes",
  low: "only what starts the system changes",
  real: "a risk to the data: save it first",
};
