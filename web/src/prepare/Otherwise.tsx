import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import type { Preparing } from "../api/client";

/** What came out otherwise than predicted, once the real copy is in evidence. */
export function Otherwise({ list }: { list: Preparing["otherwise"] }) {
  return (
    <Paper component="section" aria-label="The copy against the prediction" sx={{ p: 1.5, mb: 1.25 }}>
      <Typography variant="body2" component="h2" sx={{ fontWeight: 650 }}>
        {list.length === 0
          ? "The copy is as it was predicted."
          : `The copy came out otherwise in ${list.length === 1 ? "one thing" : `${list.length} things`}:`}
      </Typography>
      {list.length > 0 && (
        <Table size="small">
          <TableHead>
            <TableRow>
              <TableCell>what</TableCell>
              <TableCell>predicted</TableCell>
              <TableCell>found</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {list.map((o) => (
              <TableRow key={o.what}>
                <TableCell component="th" scope="row">
                  {o.what}
                </TableCell>
                <TableCell className="mono">{o.predicted}</TableCell>
                <TableCell className="mono">{o.found}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Paper>
  );
}
