import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useNavigate } from "react-router";
import type { Case } from "../api/client";
import type { Seen, StartKind } from "../api/handover";
import { useRecordStart } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { FilePicker } from "../parts/FilePicker";

/** The moment in the viewer's zone, as a field for dates and times takes it. */
const fieldTime = (d: Date) =>
  new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);

/** Records a start: which disk the system runs from, or that it did not come up. */
export function StartForm({ case: c, first }: { case: Case; first?: boolean }) {
  const [kind, setKind] = useState<StartKind>("cold");
  const [at, setAt] = useState("");
  const [answer, setAnswer] = useState("");
  const [id, setId] = useState("");
  const [capacity, setCapacity] = useState("");
  const [file, setFile] = useState<File>();
  const [failed, setFailed] = useState("");
  const [note, setNote] = useState("");
  const record = useRecordStart(c.id);
  const navigate = useNavigate();
  const send = (seen: Partial<Seen>) =>
    record.mutate(
      {
        version: c.version,
        seen: {
          kind,
          at: at ? new Date(at).toISOString() : undefined,
          note: note.trim() || undefined,
          ...seen,
        },
        file: seen.failed ? undefined : file,
      },
      {
        onSuccess: () => {
          for (const clear of [setAt, setAnswer, setId, setCapacity, setFailed, setNote]) clear("");
          setFile(undefined);
          if (seen.failed) void navigate("../check");
        },
      },
    );
  const trimmed = (s: string) => s.trim() || undefined;
  return (
    <>
      <Box sx={{ display: "flex", gap: 1 }}>
        <TextField
          select
          label="Started"
          value={kind}
          onChange={(e) => setKind(e.target.value as StartKind)}
          sx={{ flex: 1 }}
        >
          <MenuItem value="cold">Cold, from power-off</MenuItem>
          <MenuItem value="warm">Warm, a restart</MenuItem>
          <MenuItem value="unknown">Not known</MenuItem>
        </TextField>
        <TextField
          type="datetime-local"
          label="When, if not now"
          value={at}
          onChange={(e) => setAt(e.target.value)}
          sx={{ flex: 1 }}
          slotProps={{ inputLabel: { shrink: true }, htmlInput: { max: fieldTime(new Date()) } }}
        />
      </Box>
      <Typography variant="h3">It came up</Typography>
      <TextField
        multiline
        minRows={2}
        maxRows={6}
        label="What the command answered"
        value={answer}
        onChange={(e) => setAnswer(e.target.value)}
        helperText="As it was printed: the identifier and the size are found in it"
      />
      <Box sx={{ display: "flex", gap: 1 }}>
        <TextField
          label="Or the disk's identifier"
          value={id}
          onChange={(e) => setId(e.target.value)}
          helperText="Guid or Signature, PTUUID"
          sx={{ flex: 3 }}
        />
        <TextField
          label="Its capacity"
          value={capacity}
          onChange={(e) => setCapacity(e.target.value)}
          helperText="As shown, or in bytes"
          sx={{ flex: 2 }}
        />
      </Box>
      <FilePicker
        label="Or a capture that the running system took of its disk"
        file={file}
        onFile={setFile}
      />
      <TextField label="What else was seen" value={note} onChange={(e) => setNote(e.target.value)} />
      <Button
        variant="contained"
        sx={{ justifySelf: "start" }}
        disabled={record.isPending || (!file && ![answer, id, capacity].some(trimmed))}
        onClick={() => send({ id: trimmed(id), capacity: trimmed(capacity), answer: trimmed(answer) })}
      >
        {first ? "Which disk was it?" : "Record the start"}
      </Button>
      {record.isError && <ErrorNotice error={record.error} />}
      {record.data && (
        <Typography aria-live="polite" sx={{ fontWeight: 650 }}>
          {record.data.why}
        </Typography>
      )}
      <Typography variant="h3" sx={{ mt: 1 }}>
        It did not come up
      </Typography>
      <TextField label="What the screen said" value={failed} onChange={(e) => setFailed(e.target.value)} />
      <Button
        variant="outlined"
        sx={{ justifySelf: "start" }}
        disabled={record.isPending || failed.trim() === ""}
        onClick={() => send({ failed: failed.trim() })}
      >
        Back to the start check with it
      </Button>
    </>
  );
}
