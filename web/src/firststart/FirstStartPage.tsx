import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { Link, useOutletContext } from "react-router";
import type { Case, Drive } from "../api/client";
import { useCheck } from "../api/queries";
import { Changes } from "../parts/Changes";
import { CommandBlock } from "../parts/CommandBlock";
import { when } from "../parts/format";
import { StartForm } from "./StartForm";

const looks = [
  [
    "Windows, in a PowerShell window",
    "Get-Partition -DriveLetter $env:SystemDrive[0] | Get-Disk | Format-List Number,FriendlyName,Size,PartitionStyle,Guid,Signature",
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
          <Paper component="section" aria-label="What was seen" sx={{ p: 1.5, display: "grid", gap: 1.25 }}>
            <StartForm case={c} first />
          </Paper>
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
          ? `${c.proof} ${when(c.provedAt)}.`
          : c.proof || "A start that was seen is worth more than one that was computed."}
        {c.provedAt && (
          <>
            {" Next: "}
            <Link to="../hand-over">Hand-over</Link>, how many starts the old drive still waits for.
          </>
        )}
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
