import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Case, Disk, Drive, Role } from "../api/client";
import { Detail, type DetailContent } from "../check/Detail";
import { groupNumbers, grouped, when } from "../parts/format";
import { mono } from "../theme";
import { UploadForm } from "./UploadForm";

interface Props {
  case: Case;
  role: Role;
  drive?: Drive;
}

/** One disk: what is in evidence, what it says, and the form that adds more. */
export function DiskPanel({ case: c, role, drive }: Props) {
  const [replacing, setReplacing] = useState(false);
  const [detail, setDetail] = useState<DetailContent | null>(null);
  const disk = drive?.disk;
  const add = !disk || replacing;
  return (
    <Paper component="section" aria-label={`Evidence of the ${role}`} sx={{ p: 1.5 }}>
      <Box sx={{ display: "flex", justifyContent: "space-between", alignItems: "baseline" }}>
        <Typography variant="h3" component="h2">
          {role === "original" ? "Original (source)" : "Clone (target)"}
        </Typography>
        {disk && (
          <Button onClick={() => setReplacing(!replacing)} aria-expanded={replacing}>
            {replacing ? "Keep what is there" : "Replace the evidence"}
          </Button>
        )}
      </Box>
      {add && <UploadForm case={c} role={role} onDone={() => setReplacing(false)} />}
      {disk && <DiskFacts disk={disk} onDetail={setDetail} />}
      <Detail caseId={c.id} content={detail} onClose={() => setDetail(null)} />
    </Paper>
  );
}

function DiskFacts({ disk, onDetail }: { disk: Disk; onDetail: (d: DetailContent) => void }) {
  const facts: [string, string][] = [
    [
      "Capacity",
      `${disk.size.label} · ${disk.size.binary} · ${grouped(disk.sectors)} sectors of ${disk.sectorSize} bytes`,
    ],
    ["Partition style", disk.style],
    ["Disk identifier", disk.id ?? "none found"],
    ["In evidence", `${disk.filename}, ${disk.held.binary} of it, ${when(disk.receivedAt)}`],
  ];
  return (
    <>
      <Box
        component="dl"
        sx={{
          display: "grid",
          gridTemplateColumns: "auto 1fr",
          columnGap: 1.5,
          rowGap: 0.25,
          my: 1,
          fontSize: "0.8125rem",
        }}
      >
        {facts.map(([name, value]) => (
          <Box key={name} sx={{ display: "contents" }}>
            <Box component="dt" sx={{ color: "text.secondary" }}>
              {name}
            </Box>
            <Box
              component="dd"
              sx={{
                m: 0,
                overflowWrap: "anywhere",
                fontFamily: name === "Disk identifier" ? mono : undefined,
              }}
            >
              {value}
            </Box>
          </Box>
        ))}
      </Box>
      <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Partitions">
        <Table size="small">
          <TableHead>
            <TableRow>
              {["", "Type", "Holds", "Size", "First sector"].map((h) => (
                <TableCell
                  key={h}
                  sx={{
                    color: "text.secondary",
                    fontSize: "0.75rem",
                    px: 0.75,
                    textAlign: h === "First sector" ? "right" : undefined,
                  }}
                >
                  {h || <span className="visually-hidden">Number</span>}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {disk.partitions.map((p) => (
              <TableRow key={`${p.number} ${p.start}`} sx={{ "& > *": { px: "6px !important" } }}>
                <TableCell>{p.number}</TableCell>
                <TableCell>
                  {p.type}
                  {p.active && " · active"}
                  {p.lost && (
                    <Box component="span" sx={{ color: "error.main", fontWeight: 650 }}>
                      {" · cut off"}
                    </Box>
                  )}
                </TableCell>
                <TableCell>{p.kind}</TableCell>
                <TableCell sx={{ whiteSpace: "nowrap" }}>{p.size.binary}</TableCell>
                <TableCell sx={{ whiteSpace: "nowrap", textAlign: "right" }}>
                  <Button
                    aria-label={`Show the table entry of partition ${p.number}, first sector ${p.start}`}
                    sx={{
                      p: 0,
                      minWidth: 0,
                      fontFamily: mono,
                      fontSize: "0.75rem",
                      fontWeight: 400,
                      color: "text.primary",
                    }}
                    onClick={() =>
                      onDetail({
                        title: `Partition ${p.number}`,
                        text: `${p.type}, ${p.size.label} · ${p.size.binary}, ${p.kind}.`,
                        facts: [
                          {
                            label: "Entry in the partition table",
                            value: p.guid ?? p.type,
                            source: p.source,
                          },
                        ],
                        risks: [],
                      })
                    }
                  >
                    {grouped(p.start)}
                  </Button>
                </TableCell>
              </TableRow>
            ))}
            {disk.partitions.length === 0 && (
              <TableRow>
                <TableCell colSpan={5}>No partition can be found.</TableCell>
              </TableRow>
            )}
          </TableBody>
        </Table>
      </Box>
      {disk.problems.length > 0 && (
        <>
          <Typography variant="h3" sx={{ mt: 1.5 }}>
            Found on the way
          </Typography>
          <Box component="ul" sx={{ m: 0, pl: 2.25, fontSize: "0.8125rem" }}>
            {disk.problems.map((p) => (
              <li key={p.text}>
                {groupNumbers(p.text)}{" "}
                <Button
                  sx={{ p: 0, minWidth: 0 }}
                  aria-label={`Show the bytes: ${p.text}`}
                  onClick={() =>
                    onDetail({
                      title: "Found on the way",
                      text: p.text,
                      facts: [
                        {
                          label: `${p.source.structure ?? ""} ${p.source.field ?? ""}`.trim(),
                          value: p.want ? `${p.got} (expected ${p.want})` : "see the bytes",
                          source: p.source,
                        },
                      ],
                      risks: [],
                    })
                  }
                >
                  bytes
                </Button>
              </li>
            ))}
          </Box>
        </>
      )}
    </>
  );
}
