import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Typography from "@mui/material/Typography";
import type { Work } from "../api/client";
import { CommandBlock } from "../parts/CommandBlock";

/** Commands for a running system, one after the other, and the same as a script. */
export function WorkView({ work, name, touches }: { work: Work; name: string; touches: string }) {
  const file = `${name}.${work.shell === "batch" ? "cmd" : "sh"}`;
  return (
    <Box sx={{ display: "grid", gap: 1 }}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
        <Typography variant="body2" sx={{ mr: "auto" }}>
          As a script that stops at the first failure, run as an administrator
          {work.putBack ? ", with the capture command beside it, which Evidence hands out" : ""}:
        </Typography>
        <Button
          component="a"
          variant="outlined"
          download={file}
          href={`data:text/plain;charset=utf-8,${encodeURIComponent(work.script)}`}
        >
          {file}
        </Button>
      </Box>
      {work.commands.map((c, i) => (
        <Box key={i} sx={{ display: "grid", gap: 0.25 }}>
          {c.byHand ? (
            <Typography variant="body2">{c.text}</Typography>
          ) : (
            <CommandBlock title={`${i + 1}. Touches ${touches}`} commands={c.typed ?? c.text} />
          )}
          <Typography variant="caption" color="text.secondary">
            Good: {c.good} Otherwise: {c.bad}
          </Typography>
        </Box>
      ))}
      {work.putBack && work.putBack.length > 0 && (
        <details>
          <summary>How to put the saved sectors back</summary>
          <Box sx={{ display: "grid", gap: 1, mt: 1 }}>
            {work.putBack.map((c, i) =>
              c.byHand ? (
                <Typography key={i} variant="body2">
                  {c.text}
                </Typography>
              ) : (
                <CommandBlock key={i} title={`Touches ${touches}`} commands={c.typed ?? c.text} />
              ),
            )}
          </Box>
        </details>
      )}
    </Box>
  );
}
