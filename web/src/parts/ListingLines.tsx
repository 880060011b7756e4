import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { useEffect, useRef } from "react";
import type { Reading } from "../api/client";

interface Props {
  reading: Reading;
  /** A line that a fact came from. */
  cited?: number;
}

const marks: Record<string, string> = { understood: "✓", "passed over": "·", "not understood": "?" };

/** A listing line by line, with what was made of each. */
export function ListingLines({ reading, cited }: Props) {
  const at = useRef<HTMLDivElement>(null);
  useEffect(() => at.current?.scrollIntoView({ block: "center" }), [cited]);
  return (
    <Box
      tabIndex={0}
      role="region"
      aria-label="The listing, line by line"
      sx={{ maxHeight: 260, overflow: "auto", border: 1, borderColor: "divider", borderRadius: 1, py: 0.5 }}
    >
      {reading.lines.map((l) => (
        <Box
          key={l.number}
          ref={l.number === cited ? at : undefined}
          sx={{
            display: "grid",
            gridTemplateColumns: "44px 18px minmax(0, 1fr) auto",
            columnGap: 0.5,
            px: 0.5,
            bgcolor: l.number === cited ? "action.selected" : undefined,
            color:
              l.state === "passed over"
                ? "text.secondary"
                : l.state === "not understood"
                  ? "error.main"
                  : undefined,
          }}
        >
          <Box component="span" className="mono" sx={{ textAlign: "right", color: "text.secondary" }}>
            {l.number}
          </Box>
          <span aria-label={l.state} title={l.state} role="img">
            {marks[l.state]}
          </span>
          <Box
            component="span"
            className="mono"
            sx={{ whiteSpace: "pre", overflow: "hidden", textOverflow: "ellipsis" }}
          >
            {l.text}
          </Box>
          <Typography variant="caption" component="span" sx={{ maxWidth: 220 }} noWrap title={l.means}>
            {l.means}
          </Typography>
        </Box>
      ))}
      {reading.lineCount > reading.lines.length && (
        <Typography variant="caption" sx={{ px: 1 }}>
          {reading.lineCount - reading.lines.length} more lines are kept and not shown.
        </Typography>
      )}
    </Box>
  );
}
