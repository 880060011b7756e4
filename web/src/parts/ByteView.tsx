import Box from "@mui/material/Box";
import CircularProgress from "@mui/material/CircularProgress";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useBytes, useCase } from "../api/queries";
import type { Role, View } from "../api/client";
import { mono } from "../theme";
import { ErrorNotice } from "./ErrorNotice";
import { grouped } from "./format";
import { usePalette } from "./palette";

interface Props {
  caseId: number;
  role: Role;
  /** Byte offset and length of the field that a fact came from. */
  offset: number;
  length: number;
}

const perRow = 16;
const context = 64;
/** How far from the fact a field may lie and still be listed, in bytes. */
const reach = 96;

/** The very bytes a fact came from: hex with its fields outlined and named. */
export function ByteView(props: Props) {
  const c = useCase(props.caseId);
  const evidence = c.data?.drives.find((d) => d.role === props.role)?.evidence;
  if (c.isPending) return <CircularProgress size={18} aria-label="Looking for the evidence" />;
  if (evidence === undefined) return <NotHeld />;
  return <EvidenceBytes {...props} evidence={evidence} />;
}

function NotHeld() {
  return (
    <Typography variant="body2" color="text.secondary">
      These bytes are not in the evidence.
    </Typography>
  );
}

function EvidenceBytes({ caseId, role, evidence, offset, length }: Props & { evidence: number }) {
  const from = Math.max(0, Math.floor((offset - context) / perRow) * perRow);
  const span = Math.min(Math.ceil((offset + Math.max(length, 1) + context - from) / perRow) * perRow, 1024);
  const bytes = useBytes(caseId, role, evidence, from, span);
  if (bytes.isPending) return <CircularProgress size={18} aria-label="Reading the bytes" />;
  if (bytes.isLoadingError) return <ErrorNotice error={bytes.error} />;
  if (!bytes.data.held) return <NotHeld />;
  return <Dump view={bytes.data} offset={offset} length={length} />;
}

function Dump({ view, offset, length }: { view: View; offset: number; length: number }) {
  const palette = usePalette();
  const [hovered, setHovered] = useState<number | null>(null);
  const pairs = view.hex.match(/../g) ?? [];
  const fieldAt = (at: number) => view.fields.findIndex((f) => at >= f.offset && at < f.offset + f.length);
  // The fields of the structure that the fact came from, and no others.
  const structure = view.fields[fieldAt(offset)]?.structure;
  const named = view.fields.filter((f) => f.structure === structure && Math.abs(f.offset - offset) <= reach);
  return (
    <Box>
      <Box
        component="pre"
        role="img"
        aria-label={`${pairs.length} bytes from byte ${view.offset}`}
        sx={{ m: 0, fontFamily: mono, fontSize: 12, lineHeight: "20px", overflowX: "auto" }}
      >
        {Array.from({ length: Math.ceil(pairs.length / perRow) }, (_, r) => (
          <div key={r}>
            <span style={{ color: palette.text.secondary, display: "inline-block", minWidth: 106 }}>
              {grouped(view.offset + r * perRow)}
            </span>
            {pairs.slice(r * perRow, (r + 1) * perRow).map((b, i) => {
              const at = view.offset + r * perRow + i;
              const field = fieldAt(at);
              const f = view.fields[field];
              const cited = at >= offset && at < offset + length;
              const edge = `1px solid ${field === hovered ? palette.primary.main : palette.text.secondary}`;
              return (
                <span
                  key={i}
                  onMouseEnter={() => setHovered(field)}
                  title={f ? `${f.structure}, ${f.name}: ${f.value}` : undefined}
                  style={{
                    padding: "0 3px",
                    background: cited
                      ? palette.meaning.tint
                      : field >= 0 && field === hovered
                        ? palette.meaning.tint
                        : undefined,
                    fontWeight: cited ? 700 : 400,
                    color: cited ? palette.primary.main : palette.text.primary,
                    borderTop: f ? edge : "1px solid transparent",
                    borderBottom: f ? edge : "1px solid transparent",
                    borderLeft: f && f.offset === at ? edge : "1px solid transparent",
                    borderRight: f && f.offset + f.length - 1 === at ? edge : "1px solid transparent",
                  }}
                >
                  {b.toUpperCase()}
                </span>
              );
            })}
          </div>
        ))}
      </Box>
      <Box
        component="dl"
        sx={{
          display: "grid",
          gridTemplateColumns: "auto auto 1fr",
          columnGap: 1.5,
          m: 0,
          mt: 1,
          fontSize: 12,
        }}
      >
        {named.map((f) => {
          const index = view.fields.indexOf(f);
          const cited = f.offset >= offset && f.offset + f.length <= offset + length;
          return (
            <Box
              key={`${f.structure} ${f.name} ${f.offset}`}
              onMouseEnter={() => setHovered(index)}
              sx={{
                display: "contents",
                "& > *": {
                  bgcolor: index === hovered ? palette.meaning.tint : undefined,
                  fontWeight: cited ? 650 : 400,
                },
              }}
            >
              <Box component="dt" sx={{ color: "text.secondary", fontFamily: mono }}>
                {grouped(f.offset)}
              </Box>
              <Box component="dd" sx={{ m: 0 }}>
                {f.name}
              </Box>
              <Box component="dd" sx={{ m: 0, fontFamily: mono, overflowWrap: "anywhere" }}>
                {f.value}
              </Box>
            </Box>
          );
        })}
      </Box>
    </Box>
  );
}
