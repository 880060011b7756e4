import type { Attempt } from "../api/client";

/** What was tried and what it led to, in a few words. */
export function pathOf(a: Attempt): string {
  const tried = a.entry ? `Entry ${a.entry}${a.name ? ` “${a.name}”` : ""}` : byItself(a.loader ?? "");
  const drive = a.role && a.role !== "other" ? `the ${a.role}` : a.drive ? `drive ${a.drive}` : "";
  const led = [drive, a.partition ? `partition ${a.partition}` : "", a.loader ?? ""].filter(Boolean);
  return `${tried} → ${led.length && drive ? led.join(", ") : "nothing"}`;
}

/** How the firmware comes to try something without a numbered entry. */
function byItself(loader: string): string {
  if (!loader.startsWith("\\")) return "The boot order";
  return /^\\EFI\\BOOT\\/i.test(loader) ? "The firmware’s own search" : "A boot entry";
}

interface Why {
  word: string;
  /** Where it stopped or is not proven. */
  stage?: string;
  text: string;
  colour: string;
}

/** How an attempt ended, and why. */
export function whyOf(a: Attempt): Why {
  const last = a.steps.at(-1);
  const blocked = a.steps.find((s) => s.state === "blocks");
  const unproven = a.steps.find((s) => s.state === "unproven");
  const wrong = a.steps.find((s) => s.state === "wrong-disk");
  if (blocked) return { word: "stopped", stage: blocked.stage, text: blocked.text, colour: "error.main" };
  if (wrong) return { word: "goes on from the original", text: wrong.text, colour: "meaning.plum" };
  if (unproven)
    return { word: "not proven", stage: unproven.stage, text: unproven.text, colour: "warning.main" };
  if (a.handsOver) return { word: "started", text: last?.text ?? "", colour: "success.main" };
  return { word: "passed over", text: last?.text ?? "", colour: "text.secondary" };
}
