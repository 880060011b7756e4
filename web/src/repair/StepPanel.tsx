import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Command, MarkInput, PlanStep, StepForm, Toolbox } from "../api/client";
import { CommandBlock } from "../parts/CommandBlock";
import { groupNumbers } from "../parts/format";
import { readersOnly } from "../parts/Changes";
import { riskWord } from "../api/generated/words";
import { TableStrata } from "./TableStrata";
import { toolboxName } from "./words";

interface Props {
  step: PlanStep;
  /** It was done already: it can only be taken back. */
  done: boolean;
  /** The disk it touches, in full. */
  disk: string;
  busy: boolean;
  /** The person may tick steps off. */
  may: boolean;
  onMark: (mark: MarkInput) => void;
}

/** The current step, large: its commands, risk and proof, and what became of it. */
export function StepPanel({ step, done, disk, busy, may, onMark }: Props) {
  const [note, setNote] = useState("");
  const [by, setBy] = useState<Toolbox | null>(null);
  const forms: StepForm[] = [step, ...step.also];
  const form = forms.find((f) => f.toolbox === by) ?? step;
  const mark = (state: MarkInput["state"]) =>
    onMark({ step: step.key, state, note: note.trim() || undefined });
  return (
    <Paper component="section" aria-label="The step" sx={{ p: 1.5 }}>
      <Typography variant="h2">{step.title}</Typography>
      <Typography sx={{ mt: 0.5 }}>{step.why}</Typography>
      {step.table && <TableStrata table={step.table} />}
      <Typography variant="body2" sx={{ mt: 0.5 }}>
        <b>Disk:</b> {step.disk ? disk : "none is touched"} · <b>Risk:</b>{" "}
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
      <Typography variant="body2">
        <b>Save first:</b> {groupNumbers(step.save)}
      </Typography>
      <Box className="no-print" sx={{ display: "flex", alignItems: "center", gap: 1, mt: 1 }}>
        <Typography variant="body2" sx={{ fontWeight: 650 }}>
          With
        </Typography>
        {forms.length === 1 ? (
          <Typography variant="body2">{toolboxName[form.toolbox]}</Typography>
        ) : (
          <ToggleButtonGroup
            exclusive
            size="small"
            aria-label="Toolbox for this step"
            value={form.toolbox}
            onChange={(_, box: Toolbox | null) => box && setBy(box)}
          >
            {forms.map((f) => (
              <ToggleButton key={f.toolbox} value={f.toolbox} sx={{ py: 0.25, textTransform: "none" }}>
                {toolboxName[f.toolbox]}
              </ToggleButton>
            ))}
          </ToggleButtonGroup>
        )}
      </Box>
      {step.passphrase && (
        <Typography variant="body2" sx={{ mb: 1 }}>
          <b>Passphrase:</b> the commands open {step.passphrase}, which is encrypted, and ask for it. It is
          kept nowhere.
        </Typography>
      )}
      <Commands form={form} disk={step.disk ? disk : ""} />
      <Typography variant="body2" sx={{ mt: 1.25 }}>
        <b>Undo:</b> {step.undo}
      </Typography>
      {form.putBack && form.putBack.length > 0 && (
        <Box component="details" sx={{ my: 0.5 }}>
          <Typography component="summary" variant="body2" sx={{ cursor: "pointer" }}>
            How to put the saved sectors back
          </Typography>
          <Lines commands={form.putBack} disk={disk} />
        </Box>
      )}
      {step.after.headline && (
        <Typography variant="body2">
          <b>Then:</b> {step.after.headline}
        </Typography>
      )}
      {may ? (
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
            {done ? (
              <Button variant="outlined" disabled={busy} onClick={() => mark("undone")}>
                It was not done after all
              </Button>
            ) : (
              <>
                <Button variant="contained" disabled={busy} onClick={() => mark("done")}>
                  Done
                </Button>
                <Button variant="outlined" disabled={busy} onClick={() => mark("failed")}>
                  Failed: another way
                </Button>
                <Button disabled={busy} onClick={() => mark("skipped")}>
                  Leave it out
                </Button>
              </>
            )}
          </Box>
        </Box>
      ) : (
        <Typography variant="body2" color="text.secondary" className="no-print" sx={{ mt: 1.5 }}>
          {readersOnly}
        </Typography>
      )}
    </Paper>
  );
}

function Commands({ form, disk }: { form: StepForm; disk: string }) {
  return (
    <>
      <Lines commands={form.commands} disk={disk} batch={form.shell === "batch"} />
    </>
  );
}

/** What to type or to do, one after the other, with what to look for. */
function Lines({ commands, disk, batch }: { commands: Command[]; disk: string; batch?: boolean }) {
  return commands.map((c, i) => (
    <Box key={i} sx={{ mt: 1.25 }}>
      {c.byHand ? (
        <Typography>
          {commands.length > 1 && <b>{i + 1}. By hand: </b>}
          {c.text}
        </Typography>
      ) : (
        <CommandBlock
          title={`${i + 1} of ${commands.length}${disk ? ` · ${disk}` : ""}`}
          commands={(batch && c.typed) || c.text}
        />
      )}
      <Typography variant="body2" color="text.secondary" sx={{ mt: 0.25 }}>
        Good: {groupNumbers(c.good)} Otherwise: {c.bad}
      </Typography>
      {batch && c.typed && (
        <Box component="details">
          <Typography component="summary" variant="body2" color="text.secondary" sx={{ cursor: "pointer" }}>
            The same in the batch file
          </Typography>
          <Box component="pre" className="mono" tabIndex={0} sx={{ m: 0, p: 1, overflowX: "auto" }}>
            {c.text.replaceAll("\r", "")}
          </Box>
        </Box>
      )}
    </Box>
  ));
}
