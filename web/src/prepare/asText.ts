import type { Case, Preparing } from "../api/client";

/** The preparation as a text, for a message or a ticket. */
export function asText(c: Case, p: Preparing): string {
  const lines = [
    `${c.title}: before the copy`,
    `Does it fit? ${[p.answer.trap, p.answer.says].filter(Boolean).join(" ")}`,
    p.recommends,
    `How long? ${p.time.words}`,
    "",
    ...p.ready.map(
      (l) =>
        `[${l.evidence || l.who ? "x" : " "}] ${l.text}: ${l.why.replace(/\.$/, "")}.${l.command ? `\n    ${l.command}` : ""}`,
    ),
    "",
    "In the setup:",
    ...p.settings.map((s, i) => `${i + 1}. ${s}`),
    "",
    ...p.cards.map((d) =>
      [
        d.role,
        d.model,
        d.serial,
        d.size && `${d.size.label} · ${d.size.binary}`,
        d.bus,
        d.style,
        d.id,
        d.partitions,
      ]
        .filter(Boolean)
        .join(" · "),
    ),
  ];
  return lines.filter((l) => l !== undefined).join("\n") + "\n";
}
