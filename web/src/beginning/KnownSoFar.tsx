import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Link from "@mui/material/Link";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { Link as RouterLink } from "react-router";
import type { Check, Question } from "../api/client";
import { usePalette } from "../parts/palette";
import { stageTitle, stateWord } from "../parts/stages";
import { useWidth } from "../parts/useWidth";

interface Props {
  check: Check;
  busy: boolean;
  onAnswer: (q: Question, option: string) => void;
}

/** What is known already, as the clone's pins, and the one question that settles most. */
export function KnownSoFar({ check, busy, onAnswer }: Props) {
  const [passed, setPassed] = useState<string[]>([]);
  const pins = check.drives.find((d) => d.role === "clone")?.pins ?? [];
  const q = check.trace.missing.find((x) => x.fact && !isEvidence(x) && !passed.includes(x.id));
  return (
    <Paper component="section" aria-label="What is known already" sx={{ px: 2, py: 1.25 }}>
      <Typography variant="body2" color="text.secondary">
        What is known already says
      </Typography>
      <Typography sx={{ fontWeight: 600 }}>{check.trace.headline}</Typography>
      <SmallPins pins={pins} />
      {q && (
        <Box
          role="group"
          aria-label="The question that settles most"
          sx={{ borderTop: 1, borderColor: "divider", pt: 1, mt: 0.5 }}
        >
          <Typography sx={{ fontWeight: 650 }}>{q.text}</Typography>
          <Typography variant="body2" color="text.secondary">
            {q.how}
          </Typography>
          <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 0.75, alignItems: "center" }}>
            {q.options.map((o) => (
              <Button key={o.id} variant="outlined" disabled={busy} onClick={() => onAnswer(q, o.id)}>
                {o.label}
              </Button>
            ))}
            <Button onClick={() => setPassed([...passed, q.id])}>not known</Button>
          </Box>
        </Box>
      )}
      <Typography variant="body2" sx={{ mt: 1 }}>
        <Link component={RouterLink} to="../evidence" relative="path">
          All facts of the machine
        </Link>
      </Typography>
    </Paper>
  );
}

/** A question that a piece of evidence answers better than a person: the next thing asks for that. */
export const isEvidence = (q: Question) => q.id.startsWith("contents:");

type ClonePin = Check["drives"][number]["pins"][number];

/** The clone's pins in small: at the line, hanging, hollow, or turned. */
function SmallPins({ pins }: { pins: ClonePin[] }) {
  const { meaning, text, background } = usePalette();
  const [box, width] = useWidth<HTMLDivElement>(480);
  const each = width / Math.max(pins.length, 1);
  const words = pins.map((p) => `${stageTitle(p.stage)}: ${stateWord[p.state] ?? p.state}`).join("; ");
  return (
    <Box ref={box} sx={{ minWidth: 0, overflow: "hidden" }}>
      <svg role="img" aria-label={words} width={width} height="84" style={{ display: "block" }}>
        <line x1="0" x2={width} y1="24" y2="24" stroke={text.primary} strokeWidth="1.5" />
        {pins.map((p, i) => {
          const x = each * (i + 0.5);
          const hangs = p.state === "blocks" ? 7 : 0;
          const fill = {
            passes: meaning.sea,
            blocks: meaning.rust,
            "wrong-disk": meaning.plum,
            unproven: background.paper,
            behind: background.paper,
          }[p.state];
          const edge =
            { unproven: meaning.brass, behind: text.secondary }[p.state as "unproven" | "behind"] ?? fill;
          return (
            <g key={p.stage}>
              <rect
                x={x - 8}
                y={5 + hangs}
                width="16"
                height="18"
                rx="2"
                fill={p.state === "behind" ? background.paper : meaning.solid}
                stroke={text.secondary}
              />
              <path
                d={`M${x - 8} ${25 + hangs}h16v9l-8 8l-8 -8z`}
                fill={fill}
                stroke={edge}
                strokeWidth="1.4"
                transform={p.state === "wrong-disk" ? `rotate(40 ${x} 33)` : undefined}
              />
              <text x={x} y={i % 2 ? 76 : 60} textAnchor="middle" fontSize="12" fill={text.secondary}>
                {stageTitle(p.stage)}
              </text>
            </g>
          );
        })}
      </svg>
    </Box>
  );
}
