import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { type ReactNode, useRef, useState } from "react";
import { type Case, type Role, addEvidence } from "../api/client";
import { Problem } from "../api/call";
import { useTakeCase } from "../api/queries";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { FilePicker } from "../parts/FilePicker";

interface Props {
  case: Case;
  role: Role;
  onDone: () => void;
}

/** Takes the first bytes of a disk, or all of them, with its real capacity and its end. */
export function UploadForm({ case: c, role, onDone }: Props) {
  const [file, setFile] = useState<File>();
  const [tail, setTail] = useState<File>();
  const [capacity, setCapacity] = useState("");
  const [sectorSize, setSectorSize] = useState(0);
  const [progress, setProgress] = useState<number | null>(null);
  const [error, setError] = useState<unknown>(null);
  const abort = useRef<AbortController>(null);
  const take = useTakeCase();

  const send = async (confirm: boolean) => {
    if (!file) return;
    abort.current = new AbortController();
    setError(null);
    setProgress(0);
    try {
      take(
        await addEvidence(
          c.id,
          c.version,
          role,
          { file, tail, capacity: capacity.trim(), sectorSize, confirm },
          setProgress,
          abort.current.signal,
        ),
      );
      onDone();
    } catch (e) {
      setError(e);
    } finally {
      setProgress(null);
    }
  };

  return (
    <Box
      component="form"
      onSubmit={(e) => {
        e.preventDefault();
        void send(false);
      }}
      sx={{ display: "grid", gap: 1.25, my: 1 }}
    >
      <Typography variant="body2" color="text.secondary">
        A capture, or a raw image of the disk or its first part, up to 64 MiB. Both commands are for Linux, as
        root; neither writes to the disk.
      </Typography>
      <CommandBlock
        title={`Capture of the ${role}: just the sectors that the check needs`}
        commands={`# the ${role}: is it this size and model?\nlsblk -d -o NAME,SIZE,MODEL,TRAN\nlatchkey capture /dev/sdX -o ${role}.lkcap`}
      />
      <CommandBlock
        title={`Without it: the ${role}'s beginning, end and size in bytes`}
        commands={`head -c 16M /dev/sdX > ${role}-head.img\ntail -c 1M /dev/sdX > ${role}-tail.img\nblockdev --getsize64 /dev/sdX`}
      />
      <FilePicker
        label={`Capture, first part or whole image of the ${role}`}
        file={file}
        onFile={setFile}
        required
      />
      <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1.25 }}>
        <TextField
          label="Real capacity"
          value={capacity}
          onChange={(e) => setCapacity(e.target.value)}
          placeholder="500107862016"
          helperText="in bytes, when the file is only the beginning"
        />
        <TextField
          select
          label="Logical sector size"
          value={sectorSize}
          onChange={(e) => setSectorSize(Number(e.target.value))}
          helperText="as attached now"
        >
          <MenuItem value={0}>as the file tells, or 512</MenuItem>
          <MenuItem value={512}>512 bytes</MenuItem>
          <MenuItem value={4096}>4096 bytes</MenuItem>
        </TextField>
      </Box>
      <FilePicker label="End of the disk, if you have it" file={tail} onFile={setTail} />
      {error !== null && <Refusal error={error} onInsist={() => void send(true)} />}
      {progress === null ? (
        <Box>
          <Button type="submit" variant="contained" disabled={!file}>
            Add to the {role}
          </Button>
        </Box>
      ) : (
        <Box sx={{ display: "flex", alignItems: "center", gap: 1.5 }}>
          <LinearProgress
            aria-label="Upload"
            variant={progress < 1 ? "determinate" : "indeterminate"}
            value={progress * 100}
            sx={{ flex: 1 }}
          />
          <Typography variant="caption">
            {progress < 1 ? `${Math.round(progress * 100)} %` : "reading the disk"}
          </Typography>
          <Button onClick={() => abort.current?.abort()}>Cancel</Button>
        </Box>
      )}
    </Box>
  );
}

function Refusal({ error, onInsist }: { error: unknown; onInsist: () => void }): ReactNode {
  if (!(error instanceof Problem && error.confirmable)) return <ErrorNotice error={error} />;
  return (
    <Alert
      severity="warning"
      variant="outlined"
      action={
        <Button color="inherit" onClick={onInsist}>
          Take it all the same
        </Button>
      }
    >
      {error.message}
    </Alert>
  );
}
