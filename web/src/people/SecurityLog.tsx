import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import { useSecurityLog } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";

/** Who signed in, and who was refused; for a lead. */
export function SecurityLog() {
  const log = useSecurityLog();
  const events = log.data?.pages.flat() ?? [];
  return (
    <Paper component="section" aria-label="Security log" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2" sx={{ mb: 0.5 }}>
        Sign-ins and refusals
      </Typography>
      {log.isError && <ErrorNotice error={log.error} retry={() => void log.refetch()} />}
      <Box tabIndex={0} role="group" aria-label="Events" sx={{ maxHeight: 320, overflow: "auto" }}>
        <Table size="small" stickyHeader aria-label="Security log">
          <TableHead>
            <TableRow>
              {["When", "Who", "What", "From"].map((h) => (
                <TableCell key={h}>{h}</TableCell>
              ))}
            </TableRow>
          </TableHead>
          <TableBody>
            {events.map((e) => (
              <TableRow key={e.id}>
                <TableCell sx={{ whiteSpace: "nowrap" }}>{when(e.at)}</TableCell>
                <TableCell>{e.who}</TableCell>
                <TableCell>{[e.what, e.detail].filter(Boolean).join(": ")}</TableCell>
                <TableCell>{e.address}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </Box>
      {log.hasNextPage && <Button onClick={() => void log.fetchNextPage()}>Show older ones</Button>}
    </Paper>
  );
}
