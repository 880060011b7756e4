import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Case, Reference } from "../api/client";
import { useReferences } from "../api/queries";
import { Detail, type DetailContent } from "../parts/Detail";
import { ErrorNotice } from "../parts/ErrorNotice";
import { mono } from "../theme";

/** What each name means, as a technician reads it; the holder's own disk decides what is good. */
const meaning: Record<Reference["means"], { text: string; good: boolean }> = {
  this: { text: "on its own disk", good: true },
  both: { text: "on both disks", good: true },
  other: { text: "only on the other disk", good: false },
  none: { text: "on neither disk", good: false },
  unknown: { text: "cannot be told", good: false },
};

/** For the firmware there is no own disk: the clone is what counts. */
const firmwareMeaning: Record<Reference["means"], string> = {
  this: "on the clone",
  both: "on both disks",
  other: "only on the original",
  none: "on neither disk",
  unknown: "cannot be told",
};

/** Who names which disk, partition or file system, and on which disk that exists. */
export function ReferencesTable({ case: c }: { case: Case }) {
  const refs = useReferences(c.id, c.version);
  const [detail, setDetail] = useState<DetailContent | null>(null);
  if (refs.isLoadingError) return <ErrorNotice error={refs.error} retry={() => void refs.refetch()} />;
  if (refs.isPending) return <LinearProgress aria-label="Looking through the evidence" />;
  return (
    <Paper component="section" aria-label="Who refers to what" sx={{ p: 1.5, mt: 1 }}>
      <Box sx={{ display: "flex", justifyContent: "space-between", alignItems: "baseline", gap: 2 }}>
        <Typography variant="body2" color="text.secondary">
          Boot entries and configuration find the next thing by a name. A copy that made new identifiers
          leaves names behind that lead to the original, or to nothing.
        </Typography>
        <Button
          component="a"
          href={`/api/v1/cases/${c.id}/references.csv`}
          download
          disabled={refs.data.length === 0}
          sx={{ whiteSpace: "nowrap" }}
        >
          Save as CSV
        </Button>
      </Box>
      {refs.data.length === 0 ? (
        <Typography sx={{ mt: 1 }}>
          Nothing in the evidence refers to a disk yet. A capture holds the boot configuration; a listing of
          boot entries tells what the firmware looks for.
        </Typography>
      ) : (
        <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="References">
          <Table size="small">
            <TableHead>
              <TableRow>
                {["Lies on", "Who names it", "Named by", "Value", "Original", "Clone", "Exists"].map((h) => (
                  <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", px: 0.75 }}>
                    {h}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {refs.data.map((r, i) => (
                <Row
                  key={`${r.drive ?? ""} ${r.holder} ${r.value} ${i}`}
                  reference={r}
                  onDetail={setDetail}
                />
              ))}
            </TableBody>
          </Table>
        </Box>
      )}
      <Detail caseId={c.id} content={detail} onClose={() => setDetail(null)} />
    </Paper>
  );
}

function Row({ reference: r, onDetail }: { reference: Reference; onDetail: (d: DetailContent) => void }) {
  const words = r.drive ? meaning[r.means].text : firmwareMeaning[r.means];
  const good = meaning[r.means].good;
  return (
    <TableRow sx={{ "& > *": { px: "6px !important" } }}>
      <TableCell>{r.drive ?? "firmware"}</TableCell>
      <TableCell sx={{ overflowWrap: "anywhere", minWidth: 190 }}>{r.holder}</TableCell>
      <TableCell sx={{ whiteSpace: "nowrap" }}>{r.kind}</TableCell>
      <TableCell>
        <Button
          aria-label={`Show where ${r.holder} names ${r.value}`}
          sx={{
            p: 0,
            minWidth: 0,
            lineHeight: 1.4,
            fontFamily: mono,
            fontSize: "0.75rem",
            fontWeight: 400,
            color: "text.primary",
            textAlign: "left",
            overflowWrap: "anywhere",
          }}
          onClick={() =>
            onDetail({
              title: r.holder,
              text: `Names ${r.kind} ${r.value}, which is ${words}.`,
              facts: [{ label: r.kind, value: r.value, source: r.source }],
              risks: [],
            })
          }
        >
          {r.value}
        </Button>
      </TableCell>
      {["original", "clone"].map((role) => (
        <TableCell key={role} sx={{ whiteSpace: "nowrap" }}>
          {where(r, role)}
        </TableCell>
      ))}
      <TableCell
        sx={{ whiteSpace: "nowrap", color: good ? undefined : "error.main", fontWeight: good ? 400 : 650 }}
      >
        {words}
      </TableCell>
    </TableRow>
  );
}

function where(r: Reference, role: string): string {
  const on = r.on.find((x) => x.drive === role);
  if (!on?.known) return "not known";
  return on.partitions.length > 0 ? `partition ${on.partitions.join(", ")}` : "–";
}
