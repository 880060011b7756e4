import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import IconButton from "@mui/material/IconButton";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Bench, BenchDrive, Case } from "../api/client";
import { useCases } from "../api/queries";
import { busName, roles } from "../parts/format";
import { Close, ExpandLess, ExpandMore } from "../parts/icons";

interface Props {
  bench: Bench;
  onChange: (bench: Bench) => void;
}

/** The drives on the bench, in the order in which the firmware comes to them, and the shelf they are taken from. */
export function Shelf({ bench, onChange }: Props) {
  const cases = useCases({});
  const all = cases.data?.pages.flatMap((p) => p.cases) ?? [];
  const title = (id: number) => all.find((c) => c.id === id)?.title ?? `case ${id}`;
  const put = (drives: BenchDrive[]) => onChange({ ...bench, drives, answers: undefined });
  const change = (i: number, part: Partial<BenchDrive>) =>
    put(bench.drives.map((d, j) => (j === i ? { ...d, ...part } : d)));
  const swap = (i: number, j: number) => {
    const next = [...bench.drives];
    [next[i], next[j]] = [next[j]!, next[i]!];
    put(next);
  };
  return (
    <>
      <Typography variant="h3" sx={{ mt: 2 }}>
        Drives, in the firmware’s order
      </Typography>
      {bench.drives.length === 0 && (
        <Typography variant="body2" color="text.secondary">
          None yet: take one from a case below.
        </Typography>
      )}
      {bench.drives.map((d, i) => (
        <DriveRow
          key={`${d.case}${d.disk}${i}`}
          drive={d}
          title={`${title(d.case)}, ${d.disk}`}
          onChange={(part) => change(i, part)}
          onRemove={() => put(bench.drives.filter((_, j) => j !== i))}
          onUp={i > 0 ? () => swap(i, i - 1) : undefined}
          onDown={i < bench.drives.length - 1 ? () => swap(i, i + 1) : undefined}
        />
      ))}
      <Take cases={all} full={bench.drives.length >= 8} onTake={(d) => put([...bench.drives, d])} />
      <TextField
        select
        fullWidth
        label="Boot entries of the firmware"
        value={bench.entriesOf ?? 0}
        onChange={(e) => onChange({ ...bench, entriesOf: Number(e.target.value) || undefined })}
        sx={{ mt: 1.5 }}
      >
        <MenuItem value={0}>none</MenuItem>
        {all.map((c) => (
          <MenuItem key={c.id} value={c.id}>
            those of {c.title}
          </MenuItem>
        ))}
      </TextField>
    </>
  );
}

function DriveRow({
  drive,
  title,
  onChange,
  onRemove,
  onUp,
  onDown,
}: {
  drive: BenchDrive;
  title: string;
  onChange: (part: Partial<BenchDrive>) => void;
  onRemove: () => void;
  onUp?: () => void;
  onDown?: () => void;
}) {
  const select = { minWidth: 92, "& .MuiSelect-select": { py: 0.5 } };
  return (
    <Box
      role="group"
      aria-label={title}
      sx={{ border: 1, borderColor: "divider", borderRadius: 1, px: 1, py: 0.5, mt: 0.75 }}
    >
      <Box sx={{ display: "flex", alignItems: "center" }}>
        <Typography variant="body2" sx={{ fontWeight: 600, flex: 1, minWidth: 0 }} noWrap title={title}>
          {title}
        </Typography>
        <IconButton size="small" aria-label={`Move ${title} up`} disabled={!onUp} onClick={onUp}>
          <ExpandLess fontSize="small" />
        </IconButton>
        <IconButton size="small" aria-label={`Move ${title} down`} disabled={!onDown} onClick={onDown}>
          <ExpandMore fontSize="small" />
        </IconButton>
        <IconButton size="small" aria-label={`Take ${title} off the bench`} onClick={onRemove}>
          <Close fontSize="small" />
        </IconButton>
      </Box>
      <Box sx={{ display: "flex", gap: 1, alignItems: "center", flexWrap: "wrap" }}>
        <Checkbox
          size="small"
          checked={drive.on}
          onChange={(e) => onChange({ on: e.target.checked })}
          slotProps={{ input: { "aria-label": `${title} is attached` } }}
          sx={{ p: 0.25 }}
        />
        <Typography variant="body2">attached, as</Typography>
        <TextField
          select
          variant="standard"
          value={drive.as}
          onChange={(e) => onChange({ as: e.target.value as BenchDrive["as"] })}
          sx={select}
          slotProps={{ htmlInput: { "aria-label": `What ${title} is` } }}
        >
          {(["clone", "original", "other"] as const).map((r) => (
            <MenuItem key={r} value={r}>
              {r}
            </MenuItem>
          ))}
        </TextField>
        <Typography variant="body2">on</Typography>
        <TextField
          select
          variant="standard"
          value={drive.bus ?? ""}
          onChange={(e) => onChange({ bus: (e.target.value || undefined) as BenchDrive["bus"] })}
          sx={select}
          slotProps={{ select: { displayEmpty: true }, htmlInput: { "aria-label": `Bus of ${title}` } }}
        >
          <MenuItem value="">its own bus</MenuItem>
          {Object.entries(busName).map(([bus, name]) => (
            <MenuItem key={bus} value={bus}>
              {name}
            </MenuItem>
          ))}
        </TextField>
      </Box>
    </Box>
  );
}

function Take({ cases, full, onTake }: { cases: Case[]; full: boolean; onTake: (d: BenchDrive) => void }) {
  const [from, setFrom] = useState<number | "">("");
  return (
    <Box sx={{ mt: 1.25 }}>
      <TextField
        select
        fullWidth
        label="Take a disk from"
        value={from}
        onChange={(e) => setFrom(Number(e.target.value))}
      >
        {cases.map((c) => (
          <MenuItem key={c.id} value={c.id}>
            {c.title}
          </MenuItem>
        ))}
      </TextField>
      <Box sx={{ display: "flex", gap: 1, mt: 0.5 }}>
        {roles.map((disk) => (
          <Button
            key={disk}
            variant="outlined"
            disabled={from === "" || full}
            onClick={() => from !== "" && onTake({ case: from, disk, as: disk, on: true })}
          >
            Put its {disk} on the bench
          </Button>
        ))}
      </Box>
    </Box>
  );
}
