import Dialog from "@mui/material/Dialog";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableRow from "@mui/material/TableRow";

const keys = [
  ["/", "find a case"],
  ["?", "this list"],
  ["n", "new case (on Cases)"],
  ["g c", "go to Cases"],
  ["g b", "go to the Bench"],
  ["g l", "go to Look-up"],
  ["g f", "go to the Figures"],
  ["g s", "go to Settings"],
  ["b", "Beginning of the open case"],
  ["p", "Prepare of the open case"],
  ["e", "Evidence of the open case"],
  ["k", "Start check of the open case"],
  ["r", "Repair of the open case"],
  ["f", "First start of the open case"],
  ["h", "Hand-over of the open case"],
  ["← → ↑ ↓", "move along the pins"],
  ["Enter", "open what stands behind a pin, a partition or a row"],
  ["Esc", "close it again"],
];

export function KeysDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} aria-labelledby="keys-title">
      <DialogTitle id="keys-title">Keys</DialogTitle>
      <DialogContent>
        <Table size="small">
          <TableBody>
            {keys.map(([key, what]) => (
              <TableRow key={key}>
                <TableCell component="th" scope="row">
                  <kbd>{key}</kbd>
                </TableCell>
                <TableCell>{what}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      </DialogContent>
    </Dialog>
  );
}
