import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Judgement } from "../api/client";
import { stageTitle } from "../parts/stages";

interface Props {
  said: string;
  judgement?: Judgement;
  busy: boolean;
  onSay: (said: string) => void;
}

const fits = { computed: "agrees with the evidence", open: "left open", against: "ruled out" };
const colours = { computed: "success.main", open: "warning.main", against: "text.secondary" };

/** What the screen said, held against what was computed. */
export function Said({ said, judgement, busy, onSay }: Props) {
  const [text, setText] = useState(said);
  return (
    <Paper component="section" aria-label="What the screen said" sx={{ px: 1.5, py: 1, mt: 1.25 }}>
      <Box
        component="form"
        sx={{ display: "flex", gap: 1, alignItems: "center", flexWrap: "wrap" }}
        onSubmit={(e) => {
          e.preventDefault();
          onSay(text);
        }}
      >
        <Typography variant="body2" component="h3" sx={{ fontWeight: 650 }}>
          What did the screen say?
        </Typography>
        <TextField
          value={text}
          onChange={(e) => setText(e.target.value)}
          placeholder="BOOTMGR is missing, 0xc000000e, grub rescue…"
          sx={{ flex: 1, minWidth: 220 }}
          slotProps={{ htmlInput: { "aria-label": "What the screen said", maxLength: 500 } }}
        />
        <Button type="submit" variant="outlined" disabled={busy || text.trim() === said}>
          Hold it against the computation
        </Button>
      </Box>
      {judgement && judgement.said !== "" && <Held judgement={judgement} />}
    </Paper>
  );
}

function Held({ judgement: j }: { judgement: Judgement }) {
  return (
    <Box sx={{ mt: 1 }} aria-live="polite">
      <Typography sx={{ fontWeight: 650, color: j.contradicts ? "error.main" : undefined }}>
        {j.contradicts ? "Contradiction. " : ""}
        {j.verdict}
      </Typography>
      <Box component="ol" aria-label="Causes, the likeliest first" sx={{ m: 0, mt: 0.5, pl: 2.5 }}>
        {j.causes.map((c) => (
          <Box component="li" key={c.message + c.text} sx={{ py: 0.25 }}>
            <Typography variant="body2" component="span">
              <Box component="span" sx={{ fontWeight: 650, color: colours[c.fit] }}>
                {fits[c.fit]}
              </Box>
              {" · "}
              {stageTitle(c.stage)}: {c.text}{" "}
              <Box component="span" sx={{ color: "text.secondary" }}>
                {c.fit === "open" || !c.because ? c.look : `Computed: ${c.because}`}
              </Box>
            </Typography>
          </Box>
        ))}
      </Box>
    </Box>
  );
}
