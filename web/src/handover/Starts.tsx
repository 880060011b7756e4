import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableRow from "@mui/material/TableRow";
import { useState } from "react";
import { type Case, type HandOver, type StartSeen } from "../api/client";
import { withdrawStart } from "../api/handover";
import { useChangeCase } from "../api/queries";
import { StartForm } from "../firststart/StartForm";
import { Changes } from "../parts/Changes";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";

/** The record of starts: to add one, and to look at all of them. */
export function Starts({ case: c, handOver: h }: { case: Case; handOver: HandOver }) {
  const [open, setOpen] = useState<"form" | "list" | null>(null);
  const toggle = (what: "form" | "list") => setOpen(open === what ? null : what);
  return (
    <Box sx={{ px: 1.5, pb: 1 }}>
      <Box sx={{ display: "flex", gap: 1, alignItems: "center" }}>
        <Changes quiet>
          <Button
            variant={h.phase === "released" ? "outlined" : "contained"}
            aria-expanded={open === "form"}
            onClick={() => toggle("form")}
          >
            Record a start
          </Button>
        </Changes>
        {h.starts.length > 0 && (
          <Button aria-expanded={open === "list"} onClick={() => toggle("list")}>
            {h.starts.length === 1 ? "The one start" : `All ${h.starts.length} starts`}
          </Button>
        )}
      </Box>
      {open === "form" && (
        <Box sx={{ display: "grid", gap: 1.25, mt: 1.25, maxWidth: 640 }}>
          <StartForm case={c} />
        </Box>
      )}
      {open === "list" && <List case={c} starts={h.starts} />}
    </Box>
  );
}

const fromWords: Record<StartSeen["from"], string> = {
  clone: "from the clone",
  original: "from the original",
  neither: "from another disk",
  open: "from a disk that is not told",
  failed: "did not come up",
};

function List({ case: c, starts }: { case: Case; starts: StartSeen[] }) {
  const back = useChangeCase((start: number) => withdrawStart(c.id, c.version, start));
  return (
    <>
      <Table size="small" aria-label="Starts, the latest first" sx={{ mt: 1 }}>
        <TableBody>
          {starts.toReversed().map((s) => (
            <TableRow key={s.id}>
              <TableCell sx={{ whiteSpace: "nowrap" }}>{when(s.at)}</TableCell>
              <TableCell>{s.kind === "unknown" ? "not told how" : s.kind}</TableCell>
              <TableCell>
                <b>{fromWords[s.from]}</b>. {s.why} {s.note}
                {!s.counts &&
                  s.from === "clone" &&
                  " It does not count: only cold starts do, since the last that was not from the clone."}
              </TableCell>
              <TableCell>{s.who}</TableCell>
              <TableCell sx={{ width: 90 }}>
                <Changes quiet>
                  <Button
                    disabled={back.isPending}
                    aria-label={`Take back the start of ${when(s.at)}`}
                    onClick={() => back.mutate(s.id)}
                  >
                    Take back
                  </Button>
                </Changes>
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
      {back.isError && <ErrorNotice error={back.error} />}
    </>
  );
}
