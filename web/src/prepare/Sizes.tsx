import Box from "@mui/material/Box";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import type { Preparing } from "../api/client";

const shown = [
  ["keep", "kept"],
  ["proportion", "in proportion"],
  ["main", "main"],
] as const;

/** What each partition needs, and what each strategy does to it, side by side. */
export function Sizes({ preparing: p }: { preparing: Preparing }) {
  const of = (strategy: string) => p.layouts.find((l) => l.strategy === strategy);
  return (
    <Box component="details" sx={{ px: 1.5, pb: 1 }}>
      <Typography component="summary" variant="body2" sx={{ cursor: "pointer", fontWeight: 650, py: 0.25 }}>
        Every partition: in use, at least, and by each strategy
      </Typography>
      <Box sx={{ overflowX: "auto" }} tabIndex={0} role="region" aria-label="Sizes by strategy">
        <Table size="small" sx={{ "& td, & th": { px: 0.75, whiteSpace: "nowrap" } }}>
          <TableHead>
            <TableRow>
              <TableCell>partition</TableCell>
              <TableCell>now</TableCell>
              <TableCell>in use</TableCell>
              <TableCell>at least</TableCell>
              {shown.map(([key, name]) => (
                <TableCell key={key} sx={{ color: of(key)?.fits === "no" ? "error.main" : undefined }}>
                  {name}
                  {of(key)?.fits === "no" && " (does not fit)"}
                </TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {p.parts.map((part) => (
              <TableRow key={part.number}>
                <TableCell component="th" scope="row" title={part.why}>
                  {part.number} · {part.kind}
                </TableCell>
                <TableCell>{part.size.binary}</TableCell>
                <TableCell>{part.used?.binary ?? "not known"}</TableCell>
                <TableCell title={part.why}>
                  {part.fixed ? "as it is" : (part.least?.binary ?? "not known")}
                </TableCell>
                {shown.map(([key]) => (
                  <TableCell key={key}>
                    {of(key)?.placed.find((x) => x.number === part.number)?.size.binary ?? "–"}
                  </TableCell>
                ))}
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Box>
    </Box>
  );
}
