import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { useOutletContext } from "react-router";
import { type Case, type PlanOfCopy, planCopy } from "../api/client";
import { useMay, usePreparing, useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { useHeld } from "../parts/useHeld";
import { Answers } from "./Answers";
import { Before } from "./Before";
import { Countdown } from "./Countdown";
import { Otherwise } from "./Otherwise";
import { PlanForm } from "./PlanForm";
import { ReadyList } from "./ReadyList";
import { Ways } from "./Ways";

/** Before a copy: does it fit, will the copy start, how long does it take, what must be ready. */
export default function PreparePage() {
  const c = useOutletContext<Case>();
  const [tried, setTried] = useState<PlanOfCopy | null>(null);
  const preparing = usePreparing(c.id, c.version, tried);
  const p = useHeld(c.id, preparing.data);
  const take = useTakeCase();
  const keep = useMutation({
    mutationFn: (plan: PlanOfCopy) => planCopy(c.id, c.version, plan),
    onSuccess: (updated) => {
      take(updated);
      setTried(null);
    },
  });
  const may = useMay("technician");
  const failed = preparing.isError && (
    <ErrorNotice error={preparing.error} retry={() => void preparing.refetch()} />
  );
  if (!p) return failed || <LinearProgress aria-label="Computing before the copy" />;
  const change = (part: Partial<PlanOfCopy>) => setTried({ ...(tried ?? p.plan), ...part });
  return (
    <>
      {failed}
      <Answers preparing={p} />
      {p.compared && <Otherwise list={p.otherwise} />}
      {tried && may && (
        <Box sx={{ display: "flex", gap: 1, alignItems: "center", mb: 1 }} className="no-print">
          <Button variant="contained" disabled={keep.isPending} onClick={() => keep.mutate(tried)}>
            Keep this plan
          </Button>
          <Button onClick={() => setTried(null)}>Back to the one that is kept</Button>
        </Box>
      )}
      {keep.isError && <ErrorNotice error={keep.error} />}
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 450px) minmax(0, 1fr)" },
          gap: 1.25,
          alignItems: "start",
          "@media print": { gridTemplateColumns: "1fr" },
        }}
      >
        <Box sx={{ display: "grid", gap: 1.25, gridTemplateColumns: "minmax(0, 1fr)" }} className="no-print">
          <Before preparing={p} plan={tried ?? p.plan} onChange={change} />
          <PlanForm key={c.version} preparing={p} plan={tried ?? p.plan} onChange={change} />
          <Countdown case={c} countdown={p.countdown} />
        </Box>
        <Box sx={{ display: "grid", gap: 1.25, gridTemplateColumns: "minmax(0, 1fr)" }}>
          <Ways preparing={p} onPick={(way) => change({ way })} />
          <ReadyList case={c} preparing={p} />
        </Box>
      </Box>
    </>
  );
}
