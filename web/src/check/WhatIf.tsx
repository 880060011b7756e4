import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import MenuItem from "@mui/material/MenuItem";
import Select from "@mui/material/Select";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { BootEntry, Case, WhatIf as Change } from "../api/client";
import { roles } from "../parts/format";
import { MachineDialog } from "./MachineDialog";

interface Props {
  case: Case;
  entries: BootEntry[];
  change: Change | null;
  onChange: (change: Change | null) => void;
  onKeep: () => void;
  keeping: boolean;
}

/** Tries the start on a changed machine; nothing is saved until asked. */
export function WhatIf({ case: c, entries, change, onChange, onKeep, keeping }: Props) {
  const [more, setMore] = useState(false);
  const attached = (role: string) =>
    change?.attached?.[role] ?? c.drives.find((d) => d.role === role)?.attached;
  const order = change?.deviceOrder ?? c.deviceOrder;
  const mode = change?.mode ?? c.firmware.mode ?? "";
  const set = (part: Change) => onChange({ ...change, ...part });
  return (
    <Box
      role="group"
      aria-label="What if"
      sx={{
        display: "flex",
        flexWrap: "wrap",
        alignItems: "center",
        columnGap: 2,
        px: 1.5,
        py: 0.25,
        borderTop: 1,
        borderColor: "divider",
        minHeight: 38,
      }}
    >
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        What if
      </Typography>
      {roles.map((role) => (
        <FormControlLabel
          key={role}
          label={<Typography variant="body2">{role} attached</Typography>}
          sx={{ mr: 0 }}
          control={
            <Checkbox
              size="small"
              sx={{ p: 0.5 }}
              checked={attached(role) === true}
              indeterminate={attached(role) === undefined}
              onChange={(e) => set({ attached: { ...change?.attached, [role]: e.target.checked } })}
            />
          }
        />
      ))}
      <Select
        variant="standard"
        value={mode}
        displayEmpty
        inputProps={{ "aria-label": "Firmware mode" }}
        sx={{ fontSize: "0.8125rem", "& .MuiSelect-select": { py: 0.5 } }}
        onChange={(e) => set({ mode: (e.target.value || undefined) as Change["mode"] })}
      >
        {mode === "" && <MenuItem value="">mode not known</MenuItem>}
        <MenuItem value="uefi">UEFI</MenuItem>
        <MenuItem value="legacy">legacy mode</MenuItem>
        <MenuItem value="uefi-csm">UEFI with compatibility</MenuItem>
      </Select>
      <Select
        variant="standard"
        value={order[0] ?? ""}
        displayEmpty
        inputProps={{ "aria-label": "First in the boot order" }}
        sx={{ fontSize: "0.8125rem", "& .MuiSelect-select": { py: 0.5 } }}
        onChange={(e) =>
          set({ deviceOrder: e.target.value === "clone" ? ["clone", "original"] : ["original", "clone"] })
        }
      >
        {!order[0] && <MenuItem value="">order not known</MenuItem>}
        <MenuItem value="clone">clone first</MenuItem>
        <MenuItem value="original">original first</MenuItem>
      </Select>
      <Button onClick={() => setMore(true)} sx={{ minWidth: 0 }}>
        More…
      </Button>
      <MachineDialog
        caseId={c.id}
        open={more}
        onClose={() => setMore(false)}
        change={change ?? {}}
        attached={attached}
        entries={entries}
        secureBoot={c.firmware.secureBoot}
        storageMode={c.firmware.storageMode}
        set={set}
      />
      <Box sx={{ ml: "auto" }}>
        {change ? (
          <>
            <Button onClick={() => onChange(null)}>Back to what is known</Button>
            <Button variant="outlined" onClick={onKeep} disabled={keeping} sx={{ ml: 1 }}>
              Keep as the machine’s facts
            </Button>
          </>
        ) : (
          <Typography variant="caption" color="text.secondary">
            nothing is saved
          </Typography>
        )}
      </Box>
    </Box>
  );
}
