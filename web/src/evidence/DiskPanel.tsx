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
import { Detail, type DetailContent } from "../parts/Detail";
import { useMay, usePieces } from "../api/queries";
import { Changes } from "../parts/Changes";
import { groupNumbers, grouped, when } from "../parts/format";
import { mono } from "../theme";
import { ToldForm } from "./ToldForm";
import { UploadForm } from "./UploadForm";

interface Props {
  case: Case;
  role: Role;
  drive?: Drive;
}

/** One disk: what is in evidence, what it says, and the form that adds more. */
export function DiskPanel({ case: c, role, drive }: Props) {
  const [adding, setAdding] = useState<"bytes" | "told" | null>(null);
  const [detail, setDetail] = useState<DetailContent | null>(null);
  const pieces = usePieces(c.id, c.version);
  const may = useMay("technician");
  const disk = drive?.disk;
  const told = pieces.data?.told.find((t) => t.role === role)?.disk;
  const beside = pieces.data?.told.find((t) => t.role !== role && t.disk.partitions?.length);
  const way = adding ?? (disk || pieces.isPending ? null : "bytes");
  const toggle = (next: "bytes" | "told") => setAdding(way === next ? null : next);
  return (
    <Paper component="section" aria-label={`Evidence of the ${role}`} sx={{ p: 1.5 }}>
      <Box
        sx={{ display: "flex", justifyContent: "space-between", alignItems: "baseline", flexWrap: "wrap" }}
      >
        <Typography variant="h3" component="h2">
          {role === "original" ? "Original (source)" : "Clone (target)"}
        </Typography>
        <Changes quiet>
          <Box>
            <Button onClick={() => toggle("bytes")} aria-expanded={way === "bytes"}>
              {disk?.filename ? "Replace the bytes" : "Add bytes"}
            </Button>
            <Button onClick={() => toggle("told")} aria-expanded={way === "told"}>
              {told ? "Change what was told" : "Tell from a screen"}
            </Button>
          </Box>
        </Changes>
      </Box>
      {may && way === "bytes" && <UploadForm case={c} role={role} onDone={() => setAdding(null)} />}
      {may && way === "told" && (
        <ToldForm
          key={c.version}
          case={c}
          role={role}
          told={told}
          other={beside && { role: beside.role as Role, told: beside.disk }}
          onDone={() => setAdding(null)}
        />
      )}
      {disk && <DiskFacts caseId={c.id} role={role} disk={disk} onDetail={setDetail} />}
      <Detail caseId={c.id} content={detail} onClose={() => setDetail(null)} />
    </Paper>
  );
}

interface FactsProps {
  caseId: number;
  role: Role;
  disk: Disk;
  onDetail: (d: DetailContent) => void;
}

const origin: Record<string, string> = { bytes: "bytes", text: "listing", typed: "told" };

const stateWords: Record<string, string> = { unclean: "not closed cleanly", asleep: "system asleep" };

function DiskFacts({ caseId, role, disk, onDetail }: FactsProps) {
  const capacity = disk.size
    ? `${disk.rounded ? "about " : ""}${disk.size.label} · ${disk.size.binary}${disk.sectors && !disk.rounded ? ` · ${grouped(disk.sectors)} sectors of ${disk.sectorSize} bytes` : ""}`
    : "not known";
  const facts: [string, string][] = [
    ["Capacity", capacity],
    ["Partition style", disk.style === "unknown" ? "not known" : disk.style],
    ["Disk identifier", disk.id ?? "not known"],
    [
      "In evidence",
      disk.filename && disk.receivedAt
        ? `${disk.filename}, ${disk.held.binary} of it, ${when(disk.receivedAt)}`
        : "no bytes: what a listing or a person tells",
    ],
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
        {facts.map(([name, value]) => {
          const known = disk.facts.find((f) => f.label === name);
          return (
            <Box key={name} sx={{ display: "contents" }}>
              <Box component="dt" sx={{ color: "text.secondary" }}>
                {name}
              </Box>
              <Box
                component="dd"
                sx={{
                  m: 0,
                  overflowWrap: "anywhere",
                  fontFamily: name === "Disk identifier" && known ? mono : undefined,
                }}
              >
                {value}
                {known && (
                  <Button
                    sx={{ py: 0, minWidth: 0, lineHeight: 1.3 }}
                    aria-label={`Where it comes from: ${name} of the ${role}`}
                    onClick={() =>
                      onDetail({
                        title: name,
                        text: `${name} of the ${role}: ${known.value}.`,
                        facts: [known],
                        risks: [],
                      })
                    }
                  >
                    {origin[known.source.origin] ?? "source"}
                  </Button>
                )}
              </Box>
            </Box>
          );
        })}
      </Box>
      <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Partitions">
        <Table size="small">
          <TableHead>
            <TableRow>
              {["", "Type", "Holds", "Size", "In use", "First sector"].map((h) => (
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
                <TableCell>
                  {p.kind}
                  {p.label && ` “${p.label}”`}
                  {p.letter && ` (${p.letter}:)`}
                  {p.within?.map((w) => (
                    <Box key={w} component="div" sx={{ color: "text.secondary", fontSize: "0.75rem" }}>
                      {w}
                    </Box>
                  ))}
                  {p.state?.map((s) => (
                    <Box key={s} component="span" sx={{ color: "warning.main" }}>
                      {" · "}
                      {stateWords[s] ?? s}
                    </Box>
                  ))}
                </TableCell>
                <TableCell sx={{ whiteSpace: "nowrap" }}>
                  {p.size.bytes > 0 ? p.size.binary : "not known"}
                </TableCell>
                <TableCell sx={{ whiteSpace: "nowrap" }}>{p.used?.binary ?? ""}</TableCell>
                <TableCell sx={{ whiteSpace: "nowrap", textAlign: "right" }}>
                  <Button
                    aria-label={`Show the table entry of partition ${p.number}, first sector ${p.start}`}
                    sx={{
                      p: 0,
                      minWidth: 0,
                      lineHeight: 1.4,
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
                    {p.placed ? grouped(p.start) : "not known"}
                  </Button>
                </TableCell>
              </TableRow>
            ))}
            {disk.partitions.length === 0 && (
              <TableRow>
                <TableCell colSpan={6}>No partition can be found.</TableCell>
              </TableRow>
            )}
            {disk.found && (
              <TableRow>
                <TableCell colSpan={6}>
                  File systems that no table tells of: {disk.found.join("; ")}.
                </TableCell>
              </TableRow>
            )}
          </TableBody>
        </Table>
      </Box>
      {disk.partitions.length > 0 && disk.partitions.every((p) => p.placed) && (
        <Box sx={{ mt: 0.5 }}>
          {["sfdisk", "json"].map((form) => (
            <Button
              key={form}
              component="a"
              href={`/api/v1/cases/${caseId}/drives/${role}/layout?form=${form}`}
              download
              sx={{ px: 0.5 }}
            >
              {form === "sfdisk" ? "Save the layout for sfdisk" : "as JSON"}
            </Button>
          ))}
        </Box>
      )}
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
                  aria-label={`Show the ${origin[p.source.origin]}: ${p.text}`}
                  onClick={() =>
                    onDetail({
                      title: "Found on the way",
                      text: p.text,
                      facts: [
                        {
                          label: `${p.source.structure ?? ""} ${p.source.field ?? ""}`.trim(),
                          value: p.want
                            ? `${p.got} (expected ${p.want})`
                            : `see the ${origin[p.source.origin]}`,
                          source: p.source,
                        },
                      ],
                      risks: [],
                    })
                  }
                >
                  {origin[p.source.origin]}
                </Button>
              </li>
            ))}
          </Box>
        </>
      )}
    </>
  );
}
