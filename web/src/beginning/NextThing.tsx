import Box from "@mui/material/Box";
import Link from "@mui/material/Link";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { Link as RouterLink } from "react-router";
import { CommandBlock } from "../parts/CommandBlock";
import type { Next } from "./next";

/** The one thing to do next, with the command to copy or the words to ask for. */
export function NextThing({ next }: { next: Next }) {
  return (
    <Paper
      component="section"
      aria-label="Next"
      aria-live="polite"
      sx={{ px: 2, py: 1.25, borderLeft: "4px solid", borderLeftColor: "primary.main" }}
    >
      <Typography variant="body2" color="text.secondary">
        Next, and only this
      </Typography>
      <Typography variant="h2" sx={{ fontSize: "1.1rem", mb: 0.75 }}>
        {next.title}
      </Typography>
      {next.ask?.map((line) => (
        <Typography key={line} variant="body2" sx={{ mb: 0.5 }}>
          {line}
        </Typography>
      ))}
      {next.commands && <CommandBlock title={next.touches ?? ""} commands={next.commands} />}
      <Typography variant="body2" color="text.secondary" sx={{ mt: 0.75 }}>
        {next.then}
        {next.to && (
          <Box component="span" sx={{ ml: 1 }}>
            <Link component={RouterLink} to={next.to.path} relative="path">
              {next.to.name}
            </Link>
          </Box>
        )}
      </Typography>
    </Paper>
  );
}
