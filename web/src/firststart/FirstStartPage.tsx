import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useNavigate, useOutletContext } from "react-router";
import type { Case, Drive } from "../api/client";
import { useCheck, useFirstStart } from "../api/queries";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";
import { setWho, whoami } from "../parts/who";

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
          gridTemplateColumns: { xs: "1fr", md: "1fr 1fr" },
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
          <Typography variant="body2" sx={{ mt: 1.5 }}>
            Then the rest: as many partitions as below, the letters as before, the programs and files there,
            the system activated.
          </Typography>
          <Expected clone={clone} original={original} />
        </Paper>
        <Record key={c.version} case={c} />
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
  const [failed, setFailed] = useState("");
  const [who, setName] = useState(whoami);
  const record = useFirstStart(c.id);
  const navigate = useNavigate();
  const send = (seen: { id?: string; capacity?: string; failed?: string }) => {
    setWho(who.trim());
    record.mutate(
      { version: c.version, seen: { ...seen, who: who.trim() } },
      { onSuccess: () => seen.failed && void navigate("../check") },
    );
  };
  const nameless = who.trim() === "";
  return (
    <Paper component="section" aria-label="What was seen" sx={{ p: 1.5, display: "grid", gap: 1.25 }}>
      <Typography variant="h3">It came up</Typography>
      <TextField label="Your name" value={who} onChange={(e) => setName(e.target.value)} />
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
      <Button
        variant="contained"
        disabled={record.isPending || nameless || (id.trim() === "" && capacity.trim() === "")}
        onClick={() => send({ id: id.trim() || undefined, capacity: capacity.trim() || undefined })}
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
        disabled={record.isPending || nameless || failed.trim() === ""}
        onClick={() => send({ failed: failed.trim() })}
      >
        Back to the start check with it
      </Button>
    </Paper>
  );
}
