import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import LinearProgress from "@mui/material/LinearProgress";
import { useListing } from "../api/queries";
import { ErrorNotice } from "./ErrorNotice";
import { ListingLines } from "./ListingLines";

/** A kept listing, with the line that a fact came from. */
export function ListingDialog({
  caseId,
  listing,
  line,
  onClose,
}: {
  caseId: number;
  listing: number;
  line?: number;
  onClose: () => void;
}) {
  const l = useListing(caseId, listing);
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="listing-title">
      <DialogTitle id="listing-title" variant="h3">
        {l.data?.format ?? "Listing"}
      </DialogTitle>
      <DialogContent>
        {l.isPending && <LinearProgress aria-label="Reading the listing" />}
        {l.isError && <ErrorNotice error={l.error} />}
        {l.data && <ListingLines reading={l.data} cited={line} />}
        <Box sx={{ textAlign: "right", mt: 1 }}>
          <Button onClick={onClose}>Close</Button>
        </Box>
      </DialogContent>
    </Dialog>
  );
}
