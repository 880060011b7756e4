import type { Toolbox } from "../api/client";

/** The toolboxes as the screens name them. */
export const toolboxName: Record<Toolbox, string> = {
  firmware: "Firmware screens",
  "windows-recovery": "Windows recovery",
  linux: "Live Linux",
  "mac-recovery": "Mac recovery",
  "old-drive": "Old drive put back",
};

export const toolboxes = Object.keys(toolboxName) as Toolbox[];
