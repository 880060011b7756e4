import Box from "@mui/material/Box";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useSearchParams } from "react-router";
import type { Bench } from "../api/client";
import { useCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { benchOf } from "./benchOf";
import { Machine } from "./Machine";
import { Shelf } from "./Shelf";
import { SwitchedOn } from "./SwitchedOn";

const empty: Bench = { mode: "uefi", arch: "x64", secureBoot: false, behaviour: "generic", drives: [] };

/** A machine put together of parts and of disks of any case, switched on to see what it does. */
export default function BenchPage() {
  const id = Number(useSearchParams()[0].get("case"));
  return (
    <>
      <Typography variant="h1" sx={{ mb: 1 }}>
        Bench
      </Typography>
      {id > 0 ? <FromCase id={id} /> : <Laid on={empty} />}
    </>
  );
}

function FromCase({ id }: { id: number }) {
  const c = useCase(id);
  if (c.isLoadingError) return <ErrorNotice error={c.error} retry={() => void c.refetch()} />;
  if (!c.data) return <LinearProgress aria-label="Opening the case" />;
  return <Laid on={benchOf(c.data)} />;
}

function Laid({ on }: { on: Bench }) {
  const [bench, setBench] = useState(on);
  return (
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
  );
}
