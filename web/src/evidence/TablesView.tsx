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
import type { Case, DriveTables } from "../api/client";
import { useTables } from "../api/queries";
import { Detail, type DetailContent } from "../parts/Detail";
import { ErrorNotice } from "../parts/ErrorNotice";
import { groupNumbers } from "../parts/format";
import { mono } from "../theme";

/** What each copy of both disks' tables says, what is wrong, and what would make them one. */
export function TablesView({ case: c }: { case: Case }) {
  const tables = useTables(c.id, c.version);
  const [detail, setDetail] = useState<DetailContent | null>(null);
  if (tables.isLoadingError) return <ErrorNotice error={tables.error} retry={() => void tables.refetch()} />;
  if (tables.isPending) return <LinearProgress aria-label="Reading the tables" />;
  if (tables.data.length === 0)
    return <Typography sx={{ mt: 1 }}>No partition table is in evidence yet.</Typography>;
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "1fr", lg: "1fr 1fr" },
        gap: 1.5,
        mt: 1,
        alignItems: "start",
      }}
    >
      {tables.data.map((d) => (
        <OfDrive key={d.role} drive={d} onDetail={setDetail} />
      ))}
      <Detail caseId={c.id} content={detail} onClose={() => setDetail(null)} />
    </Box>
  );
}

type Copy = DriveTables["copies"][number];

function OfDrive({ drive: d, onDetail }: { drive: DriveTables; onDetail: (d: DetailContent) => void }) {
  const primary = d.copies.find((c) => c.name === "primary");
  return (
    <Paper component="section" aria-label={`Tables of the ${d.role}`} sx={{ p: 1.5, minWidth: 0 }}>
      <Typography variant="h3" component="h2">
        {d.role === "original" ? "Original" : "Clone"}: {d.style}
      </Typography>
      <Typography variant="body2" sx={{ mt: 0.5 }}>
        {d.says}
      </Typography>
      {d.findings.map((f) => (
        <Box
          key={`${f.code} ${f.source.offset ?? 0} ${f.text}`}
          sx={{ mt: 1, pl: 1, borderLeft: 3, borderColor: "warning.main" }}
        >
          <Button
            sx={{ p: 0, textAlign: "left", fontWeight: 600, color: "text.primary" }}
            aria-label={`Show where it stands: ${f.text}`}
            onClick={() =>
              onDetail({
                title: f.source.structure ?? "Table",
                text: `${f.text} ${f.means}`,
                facts: [
                  {
                    label: f.source.field ?? "Found",
                    value: f.got ?? "",
                    source: { ...f.source, drive: d.role },
                  },
                ],
                risks: [],
              })
            }
          >
            {f.text}
          </Button>
          <Typography variant="body2" color="text.secondary">
            {f.want && `Expected ${groupNumbers(f.want)}, found ${groupNumbers(f.got ?? "nothing")}. `}
            {f.means}
          </Typography>
        </Box>
      ))}
      {d.steps.map((s) => (
        <Box key={s.title} sx={{ mt: 1, pl: 1, borderLeft: 3, borderColor: "primary.main" }}>
          <Typography variant="body2" sx={{ fontWeight: 600 }}>
            To bring them into order: {s.title}
          </Typography>
          <Typography variant="body2" color="text.secondary">
            {s.why} Risk {s.risk}. <code>latchkey tables</code> prints its commands; Repair plans it where the
            start wants it.
          </Typography>
        </Box>
      ))}
      {d.copies.map((copy) => (
        <Box key={copy.name} sx={{ mt: 1.25 }}>
          <Typography variant="body2" component="h3" sx={{ fontWeight: 600 }}>
            {heading(copy)}: {copy.state}
          </Typography>
          {copy.id && (
            <Typography
              variant="body2"
              color={
                copy.name === "backup" && primary?.id && primary.id !== copy.id
                  ? "warning.main"
                  : "text.secondary"
              }
              sx={{ fontFamily: mono, fontSize: "0.75rem" }}
            >
              disk identifier {copy.id}
              {copy.name === "backup" && primary?.id && primary.id !== copy.id && ", not the primary's"}
            </Typography>
          )}
          {copy.entries.length > 0 && (
            <Entries copy={copy} beside={copy.name === "backup" ? primary : undefined} />
          )}
        </Box>
      ))}
    </Paper>
  );
}

const heading = (copy: Copy) =>
  copy.name === "sector 0"
    ? "Sector 0"
    : copy.name === "as told"
      ? "As a listing or a person tells it"
      : `GPT, ${copy.name} (sector ${groupNumbers(String(copy.sector))})`;

const about = (e: Copy["entries"][number], n: number) =>
  `${e.rough ? "about " : ""}${groupNumbers(String(n))}`;

/** The entries of a copy; those that another one has otherwise are marked. */
function Entries({ copy, beside }: { copy: Copy; beside?: Copy }) {
  const otherwise = (e: Copy["entries"][number]) =>
    beside !== undefined &&
    beside.entries.length > 0 &&
    !beside.entries.some((x) => JSON.stringify(x) === JSON.stringify(e));
  return (
    <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label={`Entries of ${copy.name}`}>
      <Table size="small">
        <TableHead>
          <TableRow>
            {["No.", "First sector", "Sectors", "Type", "Name"].map((h) => (
              <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", px: 0.75 }}>
                {h}
              </TableCell>
            ))}
          </TableRow>
        </TableHead>
        <TableBody>
          {copy.entries.map((e) => (
            <TableRow key={`${e.number} ${e.first}`} sx={{ "& > *": { px: "6px !important" } }}>
              <TableCell>{e.number}</TableCell>
              <TableCell sx={{ fontFamily: mono, fontSize: "0.75rem" }}>
                {e.unplaced ? "not told" : about(e, e.first)}
              </TableCell>
              <TableCell sx={{ fontFamily: mono, fontSize: "0.75rem" }}>{about(e, e.length)}</TableCell>
              <TableCell>
                {e.type}
                {e.active && ", active"}
              </TableCell>
              <TableCell>
                {e.name}
                {otherwise(e) && (
                  <Typography component="span" variant="body2" color="warning.main">
                    {" "}
                    not as in the primary
                  </Typography>
                )}
              </TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Box>
  );
}
