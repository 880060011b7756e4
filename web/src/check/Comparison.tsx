import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Link from "@mui/material/Link";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import { Fragment, useState } from "react";
import type { Row } from "../api/client";
import { groupNumbers } from "../parts/format";
import { mono } from "../theme";
import { ExpandLess, ExpandMore } from "../parts/icons";

interface Props {
  rows: Row[];
  /** Opens the facts behind a row. */
  onOpen: (row: Row) => void;
}

const groups = ["partition style", "firmware mode", "boot partitions", "boot order", "identity", "geometry"];
const weight = { decides: 0, matters: 1, "not known": 2, fine: 3, agrees: 4 };

/** What differs between the two disks and what it means for the start; what agrees folds away. */
export function Comparison({ rows, onOpen }: Props) {
  const [all, setAll] = useState(false);
  const differing = rows.filter((r) => r.matter !== "agrees");
  const agreeing = rows.length - differing.length;
  const shown = all ? rows : differing;
  // Groups with the weightiest rows first; within a group likewise.
  const ordered = groups
    .map((name) => ({
      name,
      rows: shown.filter((r) => r.group === name).sort((a, b) => weight[a.matter] - weight[b.matter]),
    }))
    .filter((g) => g.rows.length > 0)
    .sort((a, b) => weight[a.rows[0]!.matter] - weight[b.rows[0]!.matter]);
  return (
    <Box sx={{ display: "flex", flexDirection: "column", minHeight: 0, flex: 1 }}>
      <Box
        sx={{ overflow: "auto", flex: 1 }}
        tabIndex={0}
        role="region"
        aria-label="Comparison of the two disks"
      >
        <Table size="small" sx={{ tableLayout: "fixed" }}>
          <TableHead>
            <TableRow>
              <TableCell sx={{ width: "24%" }}>
                <span className="visually-hidden">What is compared</span>
              </TableCell>
              {["original", "clone", "for the start"].map((h) => (
                <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", fontWeight: 600 }}>
                  {h}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {ordered.map((g) => (
              <Fragment key={g.name}>
                <TableRow>
                  <TableCell
                    component="th"
                    scope="rowgroup"
                    colSpan={4}
                    sx={{
                      bgcolor: (t) => (t.vars ?? t).palette.meaning.tint,
                      fontWeight: 650,
                      fontSize: "0.75rem !important",
                      py: "3px !important",
                    }}
                  >
                    {g.name[0]!.toUpperCase() + g.name.slice(1)}
                  </TableCell>
                </TableRow>
                {g.rows.map((r) => (
                  <ComparisonRow key={r.label} row={r} onOpen={onOpen} />
                ))}
              </Fragment>
            ))}
          </TableBody>
        </Table>
        {agreeing > 0 && (
          <Button
            onClick={() => setAll(!all)}
            aria-expanded={all}
            startIcon={all ? <ExpandLess /> : <ExpandMore />}
            sx={{ m: 0.5, color: "text.secondary" }}
          >
            {all ? "Fold away what agrees" : `${agreeing} ${agreeing === 1 ? "row agrees" : "rows agree"}`}
          </Button>
        )}
      </Box>
    </Box>
  );
}

function ComparisonRow({ row, onOpen }: { row: Row; onOpen: Props["onOpen"] }) {
  const bad = row.matter === "decides";
  const value = { fontFamily: mono, fontSize: "0.75rem !important", overflowWrap: "anywhere" } as const;
  return (
    <TableRow hover>
      <TableCell component="th" scope="row" sx={{ overflowWrap: "anywhere" }}>
        {row.facts.length > 0 ? (
          <Link
            component="button"
            variant="body2"
            color="text.primary"
            underline="hover"
            onClick={() => onOpen(row)}
            sx={{ textAlign: "left", overflowWrap: "anywhere" }}
          >
            <Breakable text={row.label} />
          </Link>
        ) : (
          <Breakable text={row.label} />
        )}
      </TableCell>
      <TableCell sx={value}>{groupNumbers(row.original)}</TableCell>
      <TableCell sx={{ ...value, color: bad ? "error.main" : undefined, fontWeight: bad ? 650 : 400 }}>
        {groupNumbers(row.clone)}
      </TableCell>
      <TableCell
        sx={{
          color: bad ? "error.main" : row.matter === "fine" ? "text.secondary" : undefined,
          fontWeight: bad ? 650 : 400,
        }}
      >
        {groupNumbers(row.meaning)}
      </TableCell>
    </TableRow>
  );
}

/** A path may break after its separators. */
function Breakable({ text }: { text: string }) {
  return text.split(/(?<=\\)/).map((part, i) => (
    <Fragment key={i}>
      {i > 0 && <wbr />}
      {part}
    </Fragment>
  ));
}
