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
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type Pieces, withdrawBytes, withdrawListing } from "../api/client";
import { useMay, usePieces, useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { grouped, when } from "../parts/format";
import { ListingDialog } from "../parts/ListingDialog";

interface Row {
  key: string;
  what: string;
  about: string;
  of: string;
  received?: string;
  state: string;
  withdrawn: boolean;
  listing?: number;
  bytes?: number;
}

/** Every piece of evidence, with those that were replaced or withdrawn. */
export function PiecesTable({ case: c }: { case: Case }) {
  const pieces = usePieces(c.id, c.version);
  const [open, setOpen] = useState<number | null>(null);
  const take = useTakeCase();
  const may = useMay("technician");
  const withdraw = useMutation({
    mutationFn: (r: Row) =>
      r.listing !== undefined
        ? withdrawListing(c.id, c.version, r.listing, !r.withdrawn)
        : withdrawBytes(c.id, c.version, r.bytes ?? 0, !r.withdrawn),
    onSuccess: take,
  });
  if (pieces.isLoadingError) return <ErrorNotice error={pieces.error} retry={() => void pieces.refetch()} />;
  if (pieces.isPending) return <LinearProgress aria-label="Listing the evidence" />;
  const rows = rowsOf(pieces.data);
  return (
    <Paper component="section" aria-label="Every piece of evidence" sx={{ p: 1.5, gridColumn: "1 / -1" }}>
      <Typography variant="h3" component="h2">
        Every piece of evidence
      </Typography>
      {withdraw.isError && <ErrorNotice error={withdraw.error} />}
      {rows.length === 0 ? (
        <Typography sx={{ mt: 1 }}>Nothing is in evidence yet.</Typography>
      ) : (
        <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Pieces">
          <Table size="small">
            <TableHead>
              <TableRow>
                {["Kind", "What", "Of", "Received", "State", ""].map((h) => (
                  <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", px: 0.75 }}>
                    {h || <span className="visually-hidden">Actions</span>}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {rows.map((r) => (
                <TableRow key={r.key} sx={{ "& > *": { px: "6px !important" } }}>
                  <TableCell>{r.what}</TableCell>
                  <TableCell sx={{ overflowWrap: "anywhere" }}>{r.about}</TableCell>
                  <TableCell>{r.of}</TableCell>
                  <TableCell sx={{ whiteSpace: "nowrap" }}>{r.received ? when(r.received) : ""}</TableCell>
                  <TableCell>{r.state}</TableCell>
                  <TableCell sx={{ whiteSpace: "nowrap", textAlign: "right" }}>
                    {r.listing !== undefined && (
                      <Button
                        sx={{ py: 0 }}
                        onClick={() => setOpen(r.listing ?? null)}
                        aria-label={`Look at ${r.about}`}
                      >
                        Look at it
                      </Button>
                    )}
                    {(r.listing !== undefined || r.bytes !== undefined) && (
                      <Button
                        sx={{ py: 0 }}
                        disabled={withdraw.isPending || !may}
                        onClick={() => withdraw.mutate(r)}
                        aria-label={`${r.withdrawn ? "Put back" : "Withdraw"}: ${r.about}`}
                      >
                        {r.withdrawn ? "Put back" : "Withdraw"}
                      </Button>
                    )}
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      )}
      {open !== null && <ListingDialog caseId={c.id} listing={open} onClose={() => setOpen(null)} />}
    </Paper>
  );
}

function rowsOf(p: Pieces): Row[] {
  return [
    ...p.bytes.map((b) => ({
      key: `bytes ${b.id}`,
      what: "Bytes",
      about: `${b.filename}, ${b.held} of ${b.capacity}`,
      of: b.role,
      received: b.receivedAt,
      state: b.withdrawnAt ? "withdrawn" : b.inForce ? "in force" : "replaced",
      withdrawn: Boolean(b.withdrawnAt),
      bytes: b.id,
    })),
    ...p.listings.map((l) => ({
      key: `listing ${l.id}`,
      what: "Listing",
      about: `${l.format}${l.filename ? `, ${l.filename}` : ""}, ${grouped(l.length)} bytes`,
      of: Object.values(l.disks).join(", ") || "the firmware",
      received: l.receivedAt,
      state: l.withdrawnAt ? "withdrawn" : "in force",
      withdrawn: Boolean(l.withdrawnAt),
      listing: l.id,
    })),
    ...p.told.map((t) => ({
      key: `told ${t.role}`,
      what: "Told",
      about: "What a person read off a screen",
      of: t.role,
      state: "in force",
      withdrawn: false,
    })),
  ];
}
