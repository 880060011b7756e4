import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import type { ReactNode } from "react";

/** A part of a screen, with what it rests on at the right of its title. */
export function Section({ title, from, children }: { title: string; from?: ReactNode; children: ReactNode }) {
  return (
    <Paper component="section" aria-label={title}>
      <Box
        sx={{
          display: "flex",
          alignItems: "center",
          gap: 1,
          px: 1.5,
          py: 0.5,
          minHeight: 34,
          borderBottom: 1,
          borderColor: "divider",
        }}
      >
        <Typography variant="body2" component="h3" sx={{ fontWeight: 650, mr: "auto" }}>
          {title}
        </Typography>
        <Typography variant="caption" color="text.secondary" component="div">
          {from}
        </Typography>
      </Box>
      {children}
    </Paper>
  );
}
