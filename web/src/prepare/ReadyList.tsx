import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type Preparing, tickReady } from "../api/client";
import { useMay, useTakeCase } from "../api/queries";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { groupNumbers, when } from "../parts/format";
import { asText } from "./asText";
import { DriveCards } from "./DriveCards";

type Line = Preparing["ready"][number];

/** What must be ready: each line is there because of a fact of this case. */
export function ReadyList({ case: c, preparing: p }: { case: Case; preparing: Preparing }) {
  const take = useTakeCase();
  const [open, setOpen] = useState("");
  const [copied, setCopied] = useState(false);
  const may = useMay("technician");
  const tick = useMutation({
    mutationFn: (l: Line) => tickReady(c.id, c.version, l.key, !l.who),
    onSuccess: take,
  });
  const done = p.ready.filter((l) => l.evidence || l.who).length;
  return (
    <Paper component="section" aria-label="Ready?">
      <Box
        sx={{
          display: "flex",
          flexWrap: "wrap",
          alignItems: "center",
          gap: 1,
          px: 1.5,
          py: 0.5,
          borderBottom: 1,
          borderColor: "divider",
        }}
      >
        <Typography variant="body2" component="h2" sx={{ fontWeight: 650, mr: "auto" }}>
          Ready?
        </Typography>
        <Typography variant="body2" color="text.secondary">
          {done} of {p.ready.length} · each line is here because of a fact of this case
        </Typography>
        <Button
          className="no-print"
          size="small"
          onBlur={() => setCopied(false)}
          onClick={() => void navigator.clipboard.writeText(asText(c, p)).then(() => setCopied(true))}
        >
          {copied ? "Copied" : "Copy as text"}
        </Button>
        <Button className="no-print" size="small" onClick={() => window.print()}>
          Print
        </Button>
      </Box>
      {tick.isError && <ErrorNotice error={tick.error} />}
      <Box component="ul" sx={{ listStyle: "none", m: 0, p: 0 }}>
        {p.ready.map((l) => (
          <Box key={l.key} component="li" sx={{ borderBottom: 1, borderColor: "divider", px: 1 }}>
            <Box sx={{ display: "flex", alignItems: "flex-start" }}>
              <Checkbox
                size="small"
                checked={l.evidence || !!l.who}
                disabled={l.evidence || !may || tick.isPending}
                onChange={() => tick.mutate(l)}
                slotProps={{ input: { "aria-label": l.text } }}
                sx={{ p: 0.5 }}
              />
              <Typography variant="body2" sx={{ py: 0.5, flex: 1 }}>
                <Box component="span" sx={{ fontWeight: l.first && !l.who && !l.evidence ? 650 : 400 }}>
                  {l.text}
                </Box>
                <Box component="span" sx={{ color: "text.secondary" }}>
                  {l.who ? ` · ${l.who}, ${when(l.at!)}` : `: ${groupNumbers(l.why.replace(/\.$/, ""))}.`}
                </Box>
              </Typography>
              {(l.how || l.command) && (
                <Button
                  className="no-print"
                  size="small"
                  aria-expanded={open === l.key}
                  aria-label={`How: ${l.text}`}
                  onClick={() => setOpen(open === l.key ? "" : l.key)}
                >
                  how
                </Button>
              )}
            </Box>
            {open === l.key && (
              <Box sx={{ pl: 4, pb: 1 }}>
                <Typography variant="body2">{l.how}</Typography>
                {l.command && <CommandBlock title={l.text} commands={l.command} />}
              </Box>
            )}
          </Box>
        ))}
      </Box>
      <Box sx={{ px: 1.5, py: 1 }}>
        <Typography variant="body2" component="h3" sx={{ fontWeight: 650 }}>
          In the setup, before the first start
        </Typography>
        <Box component="ol" sx={{ m: 0, pl: 2.5 }}>
          {p.settings.map((s) => (
            <Typography key={s} component="li" variant="body2">
              {s}
            </Typography>
          ))}
        </Box>
      </Box>
      <DriveCards cards={p.cards} />
    </Paper>
  );
}
