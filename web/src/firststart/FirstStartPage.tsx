import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { Link, useNavigate, useOutletContext } from "react-router";
import type { Case, Drive, Look } from "../api/client";
import { useCheck, useFirstStart } from "../api/queries";
import { Changes } from "../parts/Changes";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { FilePicker } from "../parts/FilePicker";
import { when } from "../parts/format";

const looks = [
  [
    "Windows, in a PowerShell window",
    "Get-Partition -DriveLetter $env:SystemDrive[0] | Get-Disk | Format-List Number,Model,Size,Guid,Signature",
  ],
  [
    "Linux, in a terminal",
    'lsblk -bdno NAME,MODEL,SIZE,PTUUID "/dev/$(lsblk -no PKNAME "$(findmnt -no SOURCE /)")"',
  ],
  ["Mac, in a terminal", "diskutil info $(diskutil info -plist / | plutil -extract ParentWholeDisk raw -)"],
] as const;

const rest: readonly (readonly [Look, string])[] = [
  ["partitions", "As many partitions as the clone has"],
  ["letters", "The drive letters as before"],
  ["files", "Programs and files there"],
  ["activation", "The system activated"],
];

/** The first start after the copy or the repair: which disk did the system come up from? */
export default function FirstStartPage() {
  const c = useOutletContext<Case>();
  const check = useCheck(c.id, c.version, null);
  const clone = check.data?.drives.find((d) => d.role === "clone");
  const original = check.data?.drives.find((d) => d.role === "original");
  return (
    <>
      <Standing case={c} />
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 3fr) minmax(0, 2fr)" },
          gap: 1.5,
          alignItems: "start",
        }}
      >
        <Paper component="section" aria-label="What to look at" sx={{ p: 1.5 }}>
          <Typography variant="h3">What to look at</Typography>
          <Typography variant="body2" sx={{ my: 0.5 }}>
            Start the machine with the clone alone. In the system that comes up, ask which disk it runs from:
          </Typography>
          {looks.map(([title, command]) => (
            <Box key={title} sx={{ mt: 1 }}>
              <CommandBlock title={title} commands={command} />
            </Box>
          ))}
          <Expected clone={clone} original={original} />
          <Typography variant="body2" sx={{ mt: 1.5 }}>
            Or let the running system prove it: take a capture, in it, of the disk that it runs from, and add
            it here. The command is on the <Link to="../evidence">Evidence</Link> screen.
          </Typography>
        </Paper>
        <Changes>
          <Record key={c.version} case={c} />
        </Changes>
      </Box>
    </>
  );
}

function Standing({ case: c }: { case: Case }) {
  return (
    <Box component="section" aria-label="Proof" aria-live="polite" sx={{ my: 1.25 }}>
      <Typography variant="h2">
        {c.provedAt
          ? "Started, proved: the machine came up from the clone."
          : "Not proved yet: no first start is recorded."}
      </Typography>
      <Typography color="text.secondary">
        {c.provedAt
          ? `${c.proof} ${when(c.provedAt)}`
          : c.proof || "A start that was seen is worth more than one that was computed."}
      </Typography>
    </Box>
  );
}

function Expected({ clone, original }: { clone?: Drive; original?: Drive }) {
  const line = (d?: Drive) =>
    d?.disk
      ? `${d.disk.size ? `${d.disk.size.label} · ${d.disk.size.binary}` : "capacity not known"}, identifier ${d.disk.id ?? "not known"}, ${d.disk.partitions.length} partitions`
      : "nothing is in evidence";
  return (
    <Box component="dl" sx={{ m: 0, mt: 0.5 }}>
      {[
        ["The clone must show", line(clone)],
        ["The original would show", line(original)],
      ].map(([term, text]) => (
        <Box key={term} sx={{ py: 0.25 }}>
          <Typography component="dt" variant="body2" sx={{ fontWeight: 650 }}>
            {term}
          </Typography>
          <Typography component="dd" variant="body2" sx={{ m: 0, overflowWrap: "anywhere" }}>
            {text}
          </Typography>
        </Box>
      ))}
    </Box>
  );
}

function Record({ case: c }: { case: Case }) {
  const [id, setId] = useState("");
  const [capacity, setCapacity] = useState("");
  const [file, setFile] = useState<File>();
  const [looked, setLooked] = useState<Look[]>([]);
  const [failed, setFailed] = useState("");
  const record = useFirstStart(c.id);
  const navigate = useNavigate();
  const send = (seen: { id?: string; capacity?: string; failed?: string; looked?: Look[] }) => {
    record.mutate(
      { version: c.version, seen, file: seen.failed ? undefined : file },
      { onSuccess: () => seen.failed && void navigate("../check") },
    );
  };
  return (
    <Paper component="section" aria-label="What was seen" sx={{ p: 1.5, display: "grid", gap: 1.25 }}>
      <Typography variant="h3">It came up</Typography>
      <TextField
        label="Identifier of the disk it runs from"
        value={id}
        onChange={(e) => setId(e.target.value)}
        helperText="Guid or Signature, PTUUID"
      />
      <TextField
        label="Its capacity"
        value={capacity}
        onChange={(e) => setCapacity(e.target.value)}
        helperText="As the screen shows it, or in bytes"
      />
      <FilePicker
        label="Or a capture that the running system took of its disk"
        file={file}
        onFile={setFile}
      />
      <Box component="fieldset" sx={{ border: 0, m: 0, p: 0 }}>
        <Typography component="legend" variant="body2" sx={{ fontWeight: 600 }}>
          Looked at too, and right
        </Typography>
        {rest.map(([key, words]) => (
          <FormControlLabel
            key={key}
            sx={{ display: "flex", ml: "-4px" }}
            label={<Typography variant="body2">{words}</Typography>}
            control={
              <Checkbox
                size="small"
                sx={{ p: 0.5 }}
                checked={looked.includes(key)}
                onChange={(e) =>
                  setLooked(e.target.checked ? [...looked, key] : looked.filter((k) => k !== key))
                }
              />
            }
          />
        ))}
      </Box>
      <Button
        variant="contained"
        disabled={record.isPending || (id.trim() === "" && capacity.trim() === "" && !file)}
        onClick={() => send({ id: id.trim() || undefined, capacity: capacity.trim() || undefined, looked })}
      >
        Which disk was it?
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
        disabled={record.isPending || failed.trim() === ""}
        onClick={() => send({ failed: failed.trim() })}
      >
        Back to the start check with it
      </Button>
    </Paper>
  );
}
