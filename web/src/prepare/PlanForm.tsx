import Box from "@mui/material/Box";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { PlanOfCopy, Preparing } from "../api/client";
import { Pick } from "../parts/Pick";

interface Props {
  preparing: Preparing;
  plan: PlanOfCopy;
  onChange: (part: Partial<PlanOfCopy>) => void;
}

/** What the answers come from and evidence does not tell: every field may stay empty. */
export function PlanForm({ preparing: p, plan, onChange }: Props) {
  const [capacity, setCapacity] = useState(plan.capacity ?? "");
  const links = Object.fromEntries(p.links.map((l) => [l.key, l.name]));
  const media = Object.fromEntries(p.media.filter((m) => m.key !== "unknown").map((m) => [m.key, m.name]));
  return (
    <Paper component="section" aria-label="The path of the copy" sx={{ p: 1.5 }} className="no-print">
      <Typography variant="body2" component="h2" sx={{ fontWeight: 650, mb: 1 }}>
        The new drive, and the path of the copy
      </Typography>
      <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1.25 }}>
        <TextField
          label="The new drive's capacity"
          placeholder="240 GB, as sold"
          value={p.inEvidence ? (p.target?.label ?? "") : capacity}
          slotProps={{ htmlInput: { readOnly: p.inEvidence } }}
          helperText={p.inEvidence ? "from the evidence" : "Enter to compute"}
          onChange={(e) => setCapacity(e.target.value)}
          onBlur={() => !p.inEvidence && capacity !== (plan.capacity ?? "") && onChange({ capacity })}
          onKeyDown={(e) => e.key === "Enter" && !p.inEvidence && onChange({ capacity })}
        />
        <Pick
          label="Its sectors"
          value={plan.sectorSize || p.inEvidence ? (String(p.sectorSize) as "512" | "4096") : undefined}
          options={{ "512": "512 bytes", "4096": "4,096 bytes" }}
          onPick={(v) => onChange({ sectorSize: v ? (Number(v) as 512 | 4096) : undefined })}
        />
        <Pick
          label="The original hangs on"
          value={plan.fromLink || undefined}
          options={links}
          onPick={(fromLink) => onChange({ fromLink })}
        />
        <Pick
          label="The original is"
          value={plan.fromMedium || undefined}
          options={media}
          onPick={(fromMedium) => onChange({ fromMedium })}
        />
        <Pick
          label="The new drive hangs on"
          value={plan.toLink || undefined}
          options={links}
          onPick={(toLink) => onChange({ toLink })}
        />
        <Pick
          label="The new drive is"
          value={plan.toMedium || undefined}
          options={media}
          onPick={(toMedium) => onChange({ toMedium })}
        />
        {!p.entriesKnown && (
          <Pick
            label="A boot entry for the new drive"
            value={plan.entry || undefined}
            options={{ made: "comes with the copy", none: "is not made" }}
            onPick={(entry) => onChange({ entry })}
          />
        )}
      </Box>
      <FormControlLabel
        control={
          <Checkbox
            size="small"
            checked={plan.beside ?? false}
            onChange={(e) => onChange({ beside: e.target.checked || undefined })}
          />
        }
        label="The original stays plugged in at the first start"
        slotProps={{ typography: { variant: "body2" } }}
      />
      <Typography variant="body2" color="text.secondary">
        While it is copied. On what the drive hangs later is a fact of the machine, told under Evidence.
        {p.time.rates && ` Reckoned with ${p.time.slow}: ${p.time.rates}.`}
      </Typography>
    </Paper>
  );
}
