import Box from "@mui/material/Box";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useOutletContext } from "react-router";
import type { Case } from "../api/client";
import { useHandOver } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { CutKey } from "./CutKey";
import { Looks } from "./Looks";
import { OldDrive } from "./OldDrive";
import { ReportLinks } from "./ReportLinks";
import { Starts } from "./Starts";
import { Times } from "./Times";

/** From the first good start to the old drive's release. */
export default function HandOverPage() {
  const c = useOutletContext<Case>();
  const h = useHandOver(c.id, c.version);
  const failed = h.isError && <ErrorNotice error={h.error} retry={() => void h.refetch()} />;
  if (!h.data) return failed || <LinearProgress aria-label="Computing the hand-over" />;
  return (
    <>
      {failed}
      <Box component="section" aria-label="Where it stands" aria-live="polite" sx={{ my: 1 }}>
        <Typography variant="h2">{h.data.headline}</Typography>
        <Typography color="text.secondary">
          {h.data.still ??
            (h.data.phase === "not-started"
              ? "Start the machine from the clone, and record what it says of its disk."
              : `Asked for here: ${h.data.rule.starts} cold starts on ${h.data.rule.days} days.`)}
        </Typography>
      </Box>
      <Paper component="section" aria-label="Starts" sx={{ mb: 1.25 }}>
        <CutKey handOver={h.data} />
        <Starts case={c} handOver={h.data} />
      </Paper>
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 11fr) minmax(0, 10fr)" },
          gap: 1.25,
          alignItems: "start",
        }}
      >
        <Looks case={c} handOver={h.data} />
        <Box sx={{ display: "grid", gap: 1.25 }}>
          <Times case={c} handOver={h.data} />
          <OldDrive case={c} handOver={h.data} />
          <ReportLinks case={c} />
        </Box>
      </Box>
    </>
  );
}
