import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Bench } from "../api/client";
import { Machine } from "./Machine";
import { Shelf } from "./Shelf";
import { SwitchedOn } from "./SwitchedOn";

/** A machine put together of parts and of disks of any case, switched on to see what it does. */
export default function BenchPage() {
  const [bench, setBench] = useState<Bench>({
    mode: "uefi",
    arch: "x64",
    secureBoot: false,
    behaviour: "generic",
    drives: [],
  });
  return (
    <>
      <Typography variant="h1" sx={{ mb: 1 }}>
        Bench
      </Typography>
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "1fr", md: "380px minmax(0, 1fr)" },
          gap: 1.5,
          alignItems: "start",
        }}
      >
        <Paper component="section" aria-label="The machine" sx={{ p: 1.5 }}>
          <Machine bench={bench} onChange={setBench} />
          <Shelf bench={bench} onChange={setBench} />
        </Paper>
        <SwitchedOn
          key={JSON.stringify({ ...bench, answers: undefined })}
          bench={bench}
          onAnswer={(answers) => setBench({ ...bench, answers })}
        />
      </Box>
    </>
  );
}
