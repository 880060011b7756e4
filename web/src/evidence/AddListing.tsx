import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type ListingText, type Reading, addListing, pasted, readListing } from "../api/client";
import { useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { ListingLines } from "../parts/ListingLines";

/** Takes the output of a command, shows what was understood, and asks which disk is which. */
export function AddListing({ case: c }: { case: Case }) {
  const [text, setText] = useState("");
  const [listing, setListing] = useState<ListingText | null>(null);
  const [roles, setRoles] = useState<Record<string, string>>({});
  const take = useTakeCase();
  const reading = useMutation({
    mutationFn: (l: ListingText) => readListing(c.id, l),
    onSuccess: (r) => setRoles(suggested(r)),
  });
  const adding = useMutation({
    mutationFn: (l: ListingText) => addListing(c.id, c.version, l, roles),
    onSuccess: (updated) => {
      take(updated);
      setText("");
      setListing(null);
      reading.reset();
    },
  });
  const read = (l: ListingText) => {
    adding.reset();
    setListing(l);
    reading.mutate(l);
  };
  const drop = (file: File | undefined) => {
    if (file) read({ file, format: "" });
  };
  const shown = reading.data;
  return (
    <Paper
      component="section"
      aria-label="Add a listing"
      sx={{ p: 1.5 }}
      onDragOver={(e) => e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        drop(e.dataTransfer.files[0]);
      }}
    >
      <Typography variant="h3" component="h2">
        Add a listing
      </Typography>
      <Typography variant="body2" color="text.secondary" sx={{ my: 0.75 }}>
        Paste or drop what commands printed, one or several at once, with their prompts. Best in Linux: lsblk
        --json -b -O and efibootmgr -v; in Windows: Get-Disk, Get-Partition and Get-Volume | ConvertTo-Json,
        or diskpart; on a Mac: diskutil list -plist. A raw boot variable, or the disk-management screen typed
        as it reads, is taken, too.
      </Typography>
      <TextField
        label="Output of a command"
        multiline
        minRows={4}
        maxRows={10}
        fullWidth
        value={text}
        onChange={(e) => setText(e.target.value)}
        slotProps={{ htmlInput: { className: "mono", spellCheck: false } }}
      />
      <Box sx={{ display: "flex", gap: 1, mt: 1, alignItems: "center", flexWrap: "wrap" }}>
        <Button
          variant="contained"
          disabled={text.trim() === "" || reading.isPending}
          onClick={() => read(pasted(text))}
        >
          Read it
        </Button>
        <Button component="label" variant="outlined">
          Choose a file
          <input
            type="file"
            hidden
            aria-label="File with the output of a command"
            onChange={(e) => {
              drop(e.target.files?.[0]);
              e.target.value = "";
            }}
          />
        </Button>
      </Box>
      {reading.isError && <ErrorNotice error={reading.error} />}
      {shown && listing && (
        <>
          <Understood
            reading={shown}
            roles={roles}
            onRole={(name, role) => setRoles({ ...roles, [name]: role })}
            onFormat={(format) => read({ ...listing, format })}
          />
          {adding.isError && <ErrorNotice error={adding.error} />}
          <Box sx={{ display: "flex", gap: 1, mt: 1 }}>
            <Button variant="contained" disabled={adding.isPending} onClick={() => adding.mutate(listing)}>
              Add to the evidence
            </Button>
            <Button
              onClick={() => {
                setListing(null);
                reading.reset();
              }}
            >
              Leave it
            </Button>
          </Box>
        </>
      )}
    </Paper>
  );
}

function suggested(r: Reading): Record<string, string> {
  const roles: Record<string, string> = {};
  for (const d of r.disks) if (d.role) roles[d.name] = d.role;
  return roles;
}

interface UnderstoodProps {
  reading: Reading;
  roles: Record<string, string>;
  onRole: (name: string, role: string) => void;
  onFormat: (format: string) => void;
}

function Understood({ reading: r, roles, onRole, onFormat }: UnderstoodProps) {
  return (
    <Box sx={{ mt: 1.5, display: "grid", gap: 1 }}>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "center", flexWrap: "wrap" }}>
        <TextField
          select
          label="Recognised as"
          value={r.format}
          onChange={(e) => onFormat(e.target.value)}
          sx={{ minWidth: 240 }}
        >
          {r.formats.map((f) => (
            <MenuItem key={f} value={f}>
              {f}
            </MenuItem>
          ))}
        </TextField>
        <Typography variant="body2">
          {r.understood} of {r.lineCount} lines told something
          {r.unread > 0 ? `, ${r.unread} were not understood` : ""}
          {r.entries > 0 ? `; ${r.entries} boot entries` : ""}
          {r.mode ? `; the firmware starts in ${r.mode === "uefi" ? "UEFI" : "legacy"} mode` : ""}.
        </Typography>
      </Box>
      {r.problem && <ErrorNotice error={new Error(r.problem)} />}
      {r.disks.map((d) => (
        <RolePick
          key={d.name}
          label={d.holds ? "Lies on" : `${d.name} is`}
          about={
            d.holds || [d.model, d.size, d.style, `${d.partitions} partitions`].filter(Boolean).join(" · ")
          }
          why={d.why}
          role={roles[d.name] ?? ""}
          onRole={(role) => onRole(d.name, role)}
        />
      ))}
      <ListingLines reading={r} />
    </Box>
  );
}

function RolePick({
  label,
  about,
  why,
  role,
  onRole,
}: {
  label: string;
  about: string;
  why?: string;
  role: string;
  onRole: (role: string) => void;
}) {
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "170px 1fr", gap: 1.5, alignItems: "center" }}>
      <TextField select label={label} value={role} onChange={(e) => onRole(e.target.value)}>
        <MenuItem value="">neither of them</MenuItem>
        <MenuItem value="original">the original</MenuItem>
        <MenuItem value="clone">the clone</MenuItem>
      </TextField>
      <Box>
        <Typography variant="body2">{about}</Typography>
        {why && (
          <Typography variant="caption" color="text.secondary">
            {why}
          </Typography>
        )}
      </Box>
    </Box>
  );
}
