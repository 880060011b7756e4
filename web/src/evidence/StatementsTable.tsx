import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import type { Case } from "../api/client";
import { useMay, useWithdrawStatement } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";

/** What people told of the machine, each with who told it and when, to be withdrawn. */
export function StatementsTable({ case: c }: { case: Case }) {
  const withdraw = useWithdrawStatement(c.id);
  const may = useMay("technician");
  return (
    <Paper
      component="section"
      aria-label="What was told of the machine"
      sx={{ p: 1.5, gridColumn: "1 / -1" }}
    >
      <Typography variant="h3" component="h2">
        What was told of the machine
      </Typography>
      {withdraw.isError && <ErrorNotice error={withdraw.error} />}
      {c.statements.length === 0 ? (
        <Typography sx={{ mt: 1 }}>Nothing was told yet.</Typography>
      ) : (
        <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Statements">
          <Table size="small">
            <TableHead>
              <TableRow>
                {["What", "Told", "By", "When", ""].map((h) => (
                  <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", px: 0.75 }}>
                    {h || <span className="visually-hidden">Actions</span>}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {c.statements.map((s) => (
                <TableRow key={s.fact} sx={{ "& > *": { px: "6px !important" } }}>
                  <TableCell sx={{ overflowWrap: "anywhere" }}>{s.label}</TableCell>
                  <TableCell sx={{ fontWeight: 650 }}>{s.says}</TableCell>
                  <TableCell sx={{ whiteSpace: "nowrap" }}>{s.who ?? "not kept"}</TableCell>
                  <TableCell sx={{ whiteSpace: "nowrap" }}>{s.at ? when(s.at) : ""}</TableCell>
                  <TableCell sx={{ whiteSpace: "nowrap", textAlign: "right" }}>
                    <Button
                      sx={{ py: 0 }}
                      disabled={withdraw.isPending || !may}
                      onClick={() => withdraw.mutate({ version: c.version, fact: s.fact })}
                      aria-label={`Withdraw: ${s.label}`}
                    >
                      Withdraw
                    </Button>
                  </TableCell>
                </TableRow>
              ))}
            </TableBody>
          </Table>
        </Box>
      )}
    </Paper>
  );
}
