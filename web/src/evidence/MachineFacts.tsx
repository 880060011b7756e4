import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Collapse from "@mui/material/Collapse";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { type Case, type CaseInput, type Fact, type Firmware, inputOf } from "../api/client";
import { choices } from "../api/generated/words";
import { useMay, useUpdateCase } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { busName, roles } from "../parts/format";
import { ExpandLess, ExpandMore } from "../parts/icons";
import { Pick } from "../parts/Pick";

/** The choice that decides most often stands with the main facts; the others are asked for when they decide. */
const [fallback, ...others] = choices;

const modeName: Record<string, string> = {
  uefi: "UEFI",
  legacy: "Legacy",
  "uefi-csm": "UEFI with compatibility support",
};

const storageModes = { ahci: "AHCI", raid: "RAID or VMD" };

/** The typed facts: what the technician reads off the firmware's screens. Every field may stay unknown. */
export function MachineFacts({ case: c, mode }: { case: Case; mode?: Fact }) {
  const [more, setMore] = useState(false);
  const [input, setInput] = useState(() => inputOf(c));
  const update = useUpdateCase(c.id);
  const may = useMay("technician");
  const changed = JSON.stringify(input) !== JSON.stringify(inputOf(c));
  const firmware = (part: Firmware) => setInput({ ...input, firmware: { ...input.firmware, ...part } });
  return (
    <Paper
      component="form"
      aria-label="Facts of the machine"
      sx={{ p: 1.5, gridColumn: { md: "1 / -1", lg: "auto" } }}
      onSubmit={(e) => {
        e.preventDefault();
        update.mutate({ version: c.version, input });
      }}
    >
      <fieldset disabled={!may} className="plain">
        <Typography variant="h3" component="h2" sx={{ mb: 1.75 }}>
          The machine
        </Typography>
        <Box
          sx={{
            display: "grid",
            gridTemplateColumns: { xs: "1fr", md: "repeat(3, 1fr)", lg: "1fr" },
            gap: 1.25,
          }}
        >
          <TextField
            label="Case"
            value={input.title}
            required
            onChange={(e) => setInput({ ...input, title: e.target.value })}
          />
          <TextField
            label="Machine: model and place"
            value={input.machine ?? ""}
            onChange={(e) => setInput({ ...input, machine: e.target.value })}
          />
          <Pick
            label="Firmware mode"
            value={input.firmware?.mode}
            options={modeName}
            onPick={(picked) => firmware({ mode: picked })}
            hint={
              mode?.source.origin === "text"
                ? `A listing proves ${modeName[mode.value] ?? mode.value}.`
                : undefined
            }
          />
          <Pick
            label="Architecture"
            value={input.firmware?.arch}
            options={{ x64: "x64", ia32: "ia32", arm64: "arm64" }}
            onPick={(arch) => firmware({ arch })}
          />
          <YesNo
            label="Secure boot"
            value={input.firmware?.secureBoot}
            onPick={(secureBoot) => firmware({ secureBoot })}
          />
          <Pick
            label="Storage controller mode now"
            value={input.firmware?.storageMode}
            options={storageModes}
            onPick={(storageMode) => firmware({ storageMode })}
          />
          <Pick
            label="… and when the system last ran"
            value={input.firmware?.storageModeBefore}
            options={storageModes}
            onPick={(storageModeBefore) => firmware({ storageModeBefore })}
          />
          <YesNo
            label={fallback.label}
            value={input.firmware?.choices?.[fallback.key]}
            onPick={(v) => firmware({ choices: withKey(input.firmware?.choices, fallback.key, v) })}
          />
          <Pick
            label="First in the boot order"
            value={input.deviceOrder?.[0] as "clone" | "original" | undefined}
            options={{ clone: "The clone", original: "The original" }}
            onPick={(first) =>
              setInput({
                ...input,
                deviceOrder:
                  first === undefined
                    ? []
                    : first === "clone"
                      ? ["clone", "original"]
                      : ["original", "clone"],
              })
            }
          />
          {input.drives?.map((d) => (
            <DriveFields
              key={d.role}
              drive={d}
              onChange={(part) =>
                setInput({
                  ...input,
                  drives: input.drives?.map((x) => (x.role === d.role ? { ...x, ...part } : x)),
                })
              }
            />
          ))}
        </Box>
        <Button
          onClick={() => setMore(!more)}
          aria-expanded={more}
          startIcon={more ? <ExpandLess /> : <ExpandMore />}
          sx={{ mt: 1, px: 0.5 }}
        >
          More of the firmware
        </Button>
        <Collapse in={more} unmountOnExit>
          <Box sx={{ display: "grid", gap: 1.25, pt: 1.25 }}>
            {others.map(({ key, label }) => (
              <YesNo
                key={key}
                label={label}
                value={input.firmware?.choices?.[key]}
                onPick={(v) => firmware({ choices: withKey(input.firmware?.choices, key, v) })}
              />
            ))}
            {roles.map((role) => (
              <YesNo
                key={role}
                label={`Has a boot entry for the ${role}`}
                value={input.firmware?.entries?.[role]}
                onPick={(v) => firmware({ entries: withKey(input.firmware?.entries, role, v) })}
              />
            ))}
            {roles.map((role) => (
              <YesNo
                key={`shown ${role}`}
                label={`Its boot list shows the ${role}`}
                value={input.firmware?.shown?.[role]}
                onPick={(v) => firmware({ shown: withKey(input.firmware?.shown, role, v) })}
              />
            ))}
          </Box>
        </Collapse>
        {update.isError && <ErrorNotice error={update.error} />}
        <Box sx={{ mt: 1.25, display: "flex", gap: 1, alignItems: "center" }}>
          <Button type="submit" variant="contained" disabled={!changed || update.isPending}>
            Save the facts
          </Button>
          {changed && <Button onClick={() => setInput(inputOf(c))}>Undo</Button>}
        </Box>
      </fieldset>
    </Paper>
  );
}

/** Facts told by key with one of them changed; one that is not known is left out. */
function withKey(
  facts: Record<string, boolean> | undefined,
  key: string,
  told: boolean | undefined,
): Record<string, boolean> {
  const kept = Object.fromEntries(Object.entries(facts ?? {}).filter(([k]) => k !== key));
  return told === undefined ? kept : { ...kept, [key]: told };
}

type DriveInput = NonNullable<CaseInput["drives"]>[number];

function DriveFields({
  drive,
  onChange,
}: {
  drive: DriveInput;
  onChange: (part: Partial<DriveInput>) => void;
}) {
  return (
    <Box
      component="fieldset"
      sx={{
        border: 1,
        borderColor: "divider",
        borderRadius: 1,
        m: 0,
        p: 1,
        display: "grid",
        gap: 1.25,
        minWidth: 0,
      }}
    >
      <Typography component="legend" variant="body2" sx={{ fontWeight: 650, px: 0.5 }}>
        {drive.role === "original" ? "Original" : "Clone"}
      </Typography>
      <TextField
        label="Model"
        value={drive.model ?? ""}
        onChange={(e) => onChange({ model: e.target.value })}
      />
      <Pick
        label="Bus"
        value={drive.bus}
        options={busName as Record<NonNullable<DriveInput["bus"]>, string>}
        onPick={(bus) => onChange({ bus })}
      />
      <YesNo label="Attached" value={drive.attached} onPick={(attached) => onChange({ attached })} />
    </Box>
  );
}

function YesNo({
  label,
  value,
  onPick,
}: {
  label: string;
  value?: boolean;
  onPick: (v: boolean | undefined) => void;
}) {
  return (
    <Pick
      label={label}
      value={value === undefined ? undefined : value ? "yes" : "no"}
      options={{ yes: "Yes", no: "No" }}
      onPick={(v) => onPick(v === undefined ? undefined : v === "yes")}
    />
  );
}
