import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import TextField from "@mui/material/TextField";
import { useForm } from "react-hook-form";
import { useNavigate } from "react-router";
import { useCreateCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";

interface Fields {
  title: string;
  machine: string;
}

/** Asks for what a case needs to begin with; everything else follows on its screens. */
export function NewCaseDialog({ open, onClose }: { open: boolean; onClose: () => void }) {
  const { register, handleSubmit, formState, reset } = useForm<Fields>({
    defaultValues: { title: "", machine: "" },
  });
  const create = useCreateCase();
  const navigate = useNavigate();
  const submit = handleSubmit((input) =>
    create.mutate(input, {
      onSuccess: (c) => {
        reset();
        onClose();
        void navigate(`/cases/${c.id}/beginning`);
      },
    }),
  );
  return (
    <Dialog open={open} onClose={onClose} fullWidth maxWidth="xs" aria-labelledby="new-case-title">
      <form onSubmit={(e) => void submit(e)} noValidate>
        <DialogTitle id="new-case-title">New case</DialogTitle>
        <DialogContent sx={{ display: "grid", gap: 2, pt: "8px !important" }}>
          <TextField
            label="Case"
            autoFocus
            required
            placeholder="Ticket kiosk, West Pier"
            error={!!formState.errors.title}
            helperText={formState.errors.title?.message}
            {...register("title", {
              required: "A case needs a name.",
              maxLength: { value: 200, message: "At most 200 characters." },
              validate: (v) => v.trim() !== "" || "A case needs a name.",
            })}
          />
          <TextField
            label="Machine: model and place"
            placeholder="Quayside K2, West Pier"
            {...register("machine", { maxLength: 200 })}
          />
          {create.isError && <ErrorNotice error={create.error} />}
        </DialogContent>
        <DialogActions>
          <Button onClick={onClose}>Cancel</Button>
          <Button type="submit" variant="contained" disabled={create.isPending}>
            Make the case
          </Button>
        </DialogActions>
      </form>
    </Dialog>
  );
}
