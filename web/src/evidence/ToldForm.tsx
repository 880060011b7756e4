import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type Role, type ToldDisk, type ToldPartition, tellDisk } from "../api/client";
import { useTakeCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { Pick } from "../parts/Pick";

interface Props {
  case: Case;
  role: Role;
  /** What was told before. */
  told?: ToldDisk;
  /** The other disk and what was told of it, for a clone that looks like its original. */
  other?: { role: Role; told: ToldDisk };
  onDone: () => void;
}

const purposes = {
  boot: "Boot (EFI system, system reserved)",
  system: "Operating system",
  reserved: "Reserved",
  recovery: "Recovery",
  data: "Data",
};

/** A disk as a person reads it off a screen, in the order in which screens show it. Every field may stay empty. */
export function ToldForm({ case: c, role, told, other, onDone }: Props) {
  const [disk, setDisk] = useState<ToldDisk>(() => told ?? { partitions: [{}] });
  const take = useTakeCase();
  const tell = useMutation({
    mutationFn: (d: ToldDisk) => tellDisk(c.id, c.version, role, d),
    onSuccess: (updated) => {
      take(updated);
      onDone();
    },
  });
  const partitions = disk.partitions ?? [];
  const part = (i: number, change: Partial<ToldPartition>) =>
    setDisk({ ...disk, partitions: partitions.map((p, j) => (i === j ? { ...p, ...change } : p)) });
  return (
    <Box
      component="form"
      aria-label={`What a screen shows of the ${role}`}
      onSubmit={(e) => {
        e.preventDefault();
        tell.mutate(clean(disk));
      }}
      sx={{ display: "grid", gap: 1.25, my: 1 }}
    >
      {other && (
        <Button
          sx={{ justifySelf: "start" }}
          onClick={() => setDisk({ ...other.told, capacity: disk.capacity ?? other.told.capacity })}
        >
          The same as the {other.role}: then only what differs
        </Button>
      )}
      <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1.25 }}>
        <TextField
          label="Capacity"
          placeholder="232 GB, 465.8 GiB or bytes"
          value={disk.capacity ?? ""}
          onChange={(e) => setDisk({ ...disk, capacity: e.target.value })}
        />
        <Pick
          label="Partition style"
          value={disk.style}
          options={{ GPT: "GPT", MBR: "MBR", none: "not initialised" }}
          onPick={(style) => setDisk({ ...disk, style })}
        />
      </Box>
      <Typography variant="body2" color="text.secondary">
        The partitions from the left, or from the top, as the screen shows them
      </Typography>
      {partitions.map((p, i) => (
        <Box
          key={i}
          role="group"
          aria-label={`Partition ${i + 1}`}
          sx={{
            display: "grid",
            gridTemplateColumns: "1.3fr 0.8fr 0.8fr 0.8fr auto",
            gap: 0.75,
            alignItems: "center",
          }}
        >
          <Pick
            label={`${i + 1} is for`}
            value={p.purpose}
            options={purposes}
            onPick={(purpose) => part(i, { purpose })}
          />
          <TextField
            label="Size"
            placeholder="100 MB"
            value={p.size ?? ""}
            onChange={(e) => part(i, { size: e.target.value })}
          />
          <TextField
            label="File system"
            placeholder="NTFS"
            value={p.fileSystem ?? ""}
            onChange={(e) => part(i, { fileSystem: e.target.value })}
          />
          <Pick
            label="Active"
            value={p.active === undefined ? undefined : p.active ? "yes" : "no"}
            options={{ yes: "yes", no: "no" }}
            onPick={(active) => part(i, { active: active && active === "yes" })}
          />
          <Button
            aria-label={`Leave out partition ${i + 1}`}
            onClick={() => setDisk({ ...disk, partitions: partitions.filter((_, j) => j !== i) })}
            sx={{ minWidth: 0 }}
          >
            ✕
          </Button>
        </Box>
      ))}
      <FormControlLabel
        control={
          <Checkbox
            size="small"
            checked={disk.whole ?? false}
            onChange={(e) => setDisk({ ...disk, whole: e.target.checked || undefined })}
          />
        }
        label="These are all its partitions: the screen shows no other"
        slotProps={{ typography: { variant: "body2" } }}
      />
      {tell.isError && <ErrorNotice error={tell.error} />}
      <Box sx={{ display: "flex", gap: 1, flexWrap: "wrap" }}>
        <Button type="submit" variant="contained" disabled={tell.isPending}>
          Save what the screen shows
        </Button>
        <Button onClick={() => setDisk({ ...disk, partitions: [...partitions, {}] })}>
          Another partition
        </Button>
        {told && (
          <Button disabled={tell.isPending} onClick={() => tell.mutate({})}>
            Forget it all
          </Button>
        )}
      </Box>
    </Box>
  );
}

/** Leaves out what was not told. */
function clean(d: ToldDisk): ToldDisk {
  return {
    style: d.style,
    capacity: d.capacity || undefined,
    whole: d.whole || undefined,
    partitions: d.partitions
      ?.map((p) => ({
        purpose: p.purpose,
        size: p.size || undefined,
        fileSystem: p.fileSystem || undefined,
        label: p.label || undefined,
        active: p.active,
      }))
      .filter((p) => Object.values(p).some((v) => v !== undefined)),
  };
}
