import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import Dialog from "@mui/material/Dialog";
import DialogActions from "@mui/material/DialogActions";
import DialogContent from "@mui/material/DialogContent";
import DialogTitle from "@mui/material/DialogTitle";
import IconButton from "@mui/material/IconButton";
import Typography from "@mui/material/Typography";
import { Link } from "react-router";
import type { BootEntry, WhatIf as Change } from "../api/client";
import { roles } from "../parts/format";
import { ExpandLess, ExpandMore } from "../parts/icons";
import { Pick } from "../parts/Pick";

interface Props {
  caseId: number;
  open: boolean;
  onClose: () => void;
  change: Change;
  /** Whether a drive is attached, with the change; undefined is not known. */
  attached: (role: string) => boolean | undefined;
  entries: BootEntry[];
  secureBoot?: boolean;
  storageMode?: string;
  set: (part: Change) => void;
}

const yesNo = { yes: "Yes", no: "No" };
const ports = { on: "switched on", off: "switched off" };
const port = (on?: boolean) => (on === undefined ? undefined : on ? "on" : "off");

/** What-if on the rest of the machine: ports, secure boot, controller mode, and the boot entries' order. */
export function MachineDialog({
  caseId,
  open,
  onClose,
  change,
  attached,
  entries,
  secureBoot,
  storageMode,
  set,
}: Props) {
  const secure = change.secureBoot ?? secureBoot;
  return (
    <Dialog open={open} onClose={onClose} aria-labelledby="machine-title" maxWidth="sm" fullWidth>
      <DialogTitle id="machine-title">What if the machine were set otherwise</DialogTitle>
      <DialogContent>
        <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1.5, pt: 1 }}>
          {roles.map((role) => (
            <Pick
              key={role}
              label={`Port of the ${role}`}
              value={port(attached(role))}
              options={ports}
              onPick={(v) => v && set({ attached: { ...change.attached, [role]: v === "on" } })}
            />
          ))}
          <Pick
            label="Secure boot"
            value={secure === undefined ? undefined : secure ? "yes" : "no"}
            options={yesNo}
            onPick={(v) => set({ secureBoot: v === undefined ? undefined : v === "yes" })}
          />
          <Pick
            label="Storage controller mode"
            value={(change.storageMode ?? storageMode) as "ahci" | "raid" | undefined}
            options={{ ahci: "AHCI", raid: "RAID or VMD" }}
            onPick={(v) => set({ storageMode: v })}
          />
        </Box>
        <Entries
          entries={entries}
          order={change.bootOrder ?? entries.filter((e) => e.ordered).map((e) => e.number)}
          onOrder={(bootOrder) => set({ bootOrder })}
        />
      </DialogContent>
      <DialogActions>
        <Button component={Link} to={`/bench?case=${caseId}`}>
          Take it to the Bench
        </Button>
        <Button onClick={onClose} variant="contained">
          Look at the pins
        </Button>
      </DialogActions>
    </Dialog>
  );
}

/** told is what tells an entry from the others: its number, where the firmware's is known. */
const told = (e: BootEntry) => (e.named ? e.name : e.number);

function Entries({
  entries,
  order,
  onOrder,
}: {
  entries: BootEntry[];
  order: string[];
  onOrder: (order: string[]) => void;
}) {
  if (entries.length === 0)
    return (
      <Typography variant="body2" color="text.secondary" sx={{ mt: 2 }}>
        No boot entries are in evidence: add a listing of them to move one.
      </Typography>
    );
  const at = (n: string) => order.indexOf(n);
  const sorted = [...entries].sort(
    (a, b) => (at(a.number) < 0 ? 999 : at(a.number)) - (at(b.number) < 0 ? 999 : at(b.number)),
  );
  const move = (n: string, by: number) => {
    const next = order.filter((x) => x !== n);
    next.splice(at(n) + by, 0, n);
    onOrder(next);
  };
  return (
    <Box component="section" aria-label="Boot entries" sx={{ mt: 2 }}>
      <Typography variant="h3">Boot entries, first tried first</Typography>
      {sorted.map((e) => (
        <Box key={e.number} sx={{ display: "flex", alignItems: "center", gap: 0.5, py: 0.25 }}>
          <Checkbox
            size="small"
            checked={at(e.number) >= 0}
            onChange={(c) =>
              onOrder(c.target.checked ? [...order, e.number] : order.filter((x) => x !== e.number))
            }
            slotProps={{ input: { "aria-label": `Entry ${told(e)} is in the order` } }}
          />
          <Typography variant="body2" sx={{ flex: 1, minWidth: 0, overflowWrap: "anywhere" }}>
            {!e.named && <span className="mono">{e.number} </span>}
            {e.name}
            {!e.active && " · inactive"}
            {e.next && " · BootNext"}
            <Box
              component="span"
              className="mono"
              sx={{ color: "text.secondary", display: "block", fontSize: "0.75rem" }}
            >
              {e.path}
            </Box>
          </Typography>
          <IconButton
            size="small"
            aria-label={`Move entry ${told(e)} up`}
            disabled={at(e.number) <= 0}
            onClick={() => move(e.number, -1)}
          >
            <ExpandLess fontSize="small" />
          </IconButton>
          <IconButton
            size="small"
            aria-label={`Move entry ${told(e)} down`}
            disabled={at(e.number) < 0 || at(e.number) === order.length - 1}
            onClick={() => move(e.number, 1)}
          >
            <ExpandMore fontSize="small" />
          </IconButton>
        </Box>
      ))}
    </Box>
  );
}
