import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { MarkInput, PlanStep } from "../api/client";
import { CommandBlock } from "../parts/CommandBlock";
import { groupNumbers } from "../parts/format";
import { setWho, whoami } from "../parts/who";
import { riskWord, toolboxName } from "./words";

interface Props {
  step: PlanStep;
  /** It was done already: it can only be taken back. */
  done: boolean;
  /** The disk it touches, in full. */
  disk: string;
  busy: boolean;
  onMark: (mark: MarkInput) => void;
}

/** The current step, large: its commands, risk and proof, and what became of it. */
export function StepPanel({ step, done, disk, busy, onMark }: Props) {
  const [note, setNote] = useState("");
  const [who, setName] = useState(whoami);
  const mark = (state: MarkInput["state"]) => {
    setWho(who.trim());
    onMark({ step: step.key, state, note: note.trim() || undefined, who: who.trim() });
  };
  const nameless = who.trim() === "";
  return (
    <Paper component="section" aria-label="The step" sx={{ p: 1.5 }}>
      <Typography variant="h2">{step.title}</Typography>
      <Typography sx={{ mt: 0.5 }}>{step.why}</Typography>
      <Typography variant="body2" sx={{ mt: 0.5 }}>
        <b>With:</b> {toolboxName[step.toolbox]} · <b>Disk:</b> {step.disk ? disk : "none is touched"} ·{" "}
        <b>Risk:</b>{" "}
        <Box
          component="span"
          sx={{
            color: step.risk === "real" ? "error.main" : undefined,
            fontWeight: step.risk === "real" ? 650 : 400,
          }}
        >
          {riskWord[step.risk]}
        </Box>{" "}
        · about {step.minutes} minutes
      </Typography>
      {step.commands.map((c, i) => (
        <Box key={i} sx={{ mt: 1.25 }}>
          {step.toolbox === "firmware" || step.toolbox === "mac-recovery" ? (
            <Typography>{c.text}</Typography>
          ) : (
            <CommandBlock
              title={`${i + 1} of ${step.commands.length}${step.disk ? ` · ${disk}` : ""}`}
              commands={c.text}
            />
          )}
          <Typography variant="body2" color="text.secondary" sx={{ mt: 0.25 }}>
            {c.good && <>Good: {groupNumbers(c.good)}</>}
            {c.bad && <> Otherwise: {c.bad}</>}
          </Typography>
        </Box>
      ))}
      <Typography variant="body2" sx={{ mt: 1.25 }}>
        <b>Undo:</b> {step.undo}
      </Typography>
      {step.after.headline && (
        <Typography variant="body2">
          <b>Then:</b> {step.after.headline}
        </Typography>
      )}
      <Box className="no-print" sx={{ mt: 1.5, display: "grid", gap: 1 }}>
        <TextField
          label="What it answered, or what was seen"
          multiline
          minRows={2}
          maxRows={8}
          value={note}
          onChange={(e) => setNote(e.target.value)}
          slotProps={{ htmlInput: { maxLength: 20000 } }}
        />
        <Box sx={{ display: "flex", gap: 1, flexWrap: "wrap", alignItems: "center" }}>
          <TextField
            label="Your name"
            value={who}
            onChange={(e) => setName(e.target.value)}
            sx={{ width: 180 }}
            slotProps={{ htmlInput: { maxLength: 80 } }}
          />
          {done ? (
            <Button variant="outlined" disabled={busy || nameless} onClick={() => mark("undone")}>
              It was not done after all
            </Button>
          ) : (
            <>
              <Button variant="contained" disabled={busy || nameless} onClick={() => mark("done")}>
                Done
              </Button>
              <Button variant="outlined" disabled={busy || nameless} onClick={() => mark("failed")}>
                Failed: another way
              </Button>
              <Button disabled={busy || nameless} onClick={() => mark("skipped")}>
                Leave it out
              </Button>
            </>
          )}
        </Box>
      </Box>
    </Paper>
  );
}
