import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import Menu from "@mui/material/Menu";
import MenuItem from "@mui/material/MenuItem";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableRow from "@mui/material/TableRow";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type Case, closeCase, deleteCase } from "../api/client";
import { useHistory, useMay, useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";

/** What concerns a case as a whole: its history, its end. */
export function CaseMenu({ case: c }: { case: Case }) {
  const [at, setAt] = useState<HTMLElement | null>(null);
  const [open, setOpen] = useState<"history" | "delete" | null>(null);
  const technician = useMay("technician");
  const lead = useMay("lead");
  const take = useTakeCase();
  const close = useMutation({
    mutationFn: (closed: boolean) => closeCase(c.id, c.version, closed),
    onSuccess: take,
  });
  const choose = (what: () => void) => () => {
    setAt(null);
    what();
  };
  return (
    <>
      <Button
        aria-haspopup="menu"
        aria-expanded={at !== null}
        onClick={(e) => setAt(e.currentTarget)}
        sx={{ flex: "none" }}
      >
        Case …
      </Button>
      <Menu anchorEl={at} open={at !== null} onClose={() => setAt(null)}>
        <MenuItem onClick={choose(() => setOpen("history"))}>History</MenuItem>
        {technician && (
          <MenuItem onClick={choose(() => close.mutate(!c.closedAt))}>
            {c.closedAt ? "Open the case again" : "Close the case"}
          </MenuItem>
        )}
        {lead && <MenuItem onClick={choose(() => setOpen("delete"))}>Delete the case …</MenuItem>}
      </Menu>
      {close.isError && <ErrorNotice error={close.error} />}
      {open === "history" && <HistoryDialog case={c} onClose={() => setOpen(null)} />}
      {open === "delete" && <DeleteDialog case={c} onClose={() => setOpen(null)} />}
    </>
  );
}

function HistoryDialog({ case: c, onClose }: { case: Case; onClose: () => void }) {
  const history = useHistory(c.id, c.version);
  return (
    <Dialog open onClose={onClose} maxWidth="md" fullWidth aria-labelledby="history-title">
      <DialogTitle id="history-title">History of {c.title}</DialogTitle>
      <DialogContent>
        {history.isError && <ErrorNotice error={history.error} retry={() => void history.refetch()} />}
        <Table size="small" aria-label="History">
          <TableBody>
            {history.data?.pages.flat().map((e) => (
              <TableRow key={e.id}>
                <TableCell sx={{ whiteSpace: "nowrap" }}>{when(e.at)}</TableCell>
                <TableCell>{e.who}</TableCell>
                <TableCell sx={{ overflowWrap: "anywhere" }}>
                  <b>{e.what}</b> {e.detail}
                </TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
        {history.isSuccess && history.data.pages[0]?.length === 0 && (
          <Typography>
            Nothing is written down of this case: it is from before there were accounts.
          </Typography>
        )}
        {history.hasNextPage && <Button onClick={() => void history.fetchNextPage()}>Show older ones</Button>}
      </DialogContent>
      <DialogActions>
        <Button onClick={onClose}>Close</Button>
      </DialogActions>
    </Dialog>
  );
}

function DeleteDialog({ case: c, onClose }: { case: Case; onClose: () => void }) {
  const [title, setTitle] = useState("");
  const client = useQueryClient();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: () => deleteCase(c.id, c.version, title),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ["cases"] });
      void navigate("/cases");
    },
  });
  return (
    <Dialog open onClose={onClose} aria-labelledby="delete-title">
      <Box
        component="form"
        onSubmit={(e) => {
          e.preventDefault();
          remove.mutate();
        }}
      >
        <DialogTitle id="delete-title">Delete this case</DialogTitle>
        <DialogContent sx={{ display: "grid", gap: 1.5 }}>
          <Typography>
            Its evidence, its verdicts and what was done go with it, and cannot be brought back. Type its name
            to say that it is this one: <b>{c.title}</b>
          </Typography>
          <TextField
            label="Name of the case"
            value={title}
            autoFocus
            onChange={(e) => setTitle(e.target.value)}
            slotProps={{ htmlInput: { maxLength: 200 } }}
          />
          {remove.isError && <ErrorNotice error={remove.error} />}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Keep it</Button>
          <Button
            type="submit"
            variant="contained"
            color="error"
            disabled={remove.isPending || title.trim() !== c.title}
          >
            Delete the case
          </Button>
        </DialogActions>
      </Box>
    </Dialog>
  );
}
