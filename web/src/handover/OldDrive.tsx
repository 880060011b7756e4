import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import TextField from "@mui/material/TextField";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type Fate, type HandOver, type Work } from "../api/client";
import { decideOldDrive, oldDriveCommands, releaseOldDrive } from "../api/handover";
import { useChangeCase } from "../api/queries";
import { Changes } from "../parts/Changes";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";
import { Section } from "../parts/Section";
import { WorkView } from "./WorkView";

type Old = HandOver["old"];

/** The old drive: the way back, and what becomes of it. */
export function OldDrive({ case: c, handOver: h }: { case: Case; handOver: HandOver }) {
  const [open, setOpen] = useState<"details" | "image" | "data" | "wiped" | null>(null);
  const old = h.old;
  const original = c.drives.find((d) => d.role === "original");
  const release = useChangeCase((fate: Fate | "none") => releaseOldDrive(c.id, c.version, fate));
  const free = h.phase === "ready" || h.phase === "released";
  const toggle = (what: "details" | "image" | "data" | "wiped") => setOpen(open === what ? null : what);
  return (
    <Section
      title="The old drive"
      from={[original?.model, original?.capacity, old.serial && `serial ${old.serial}`]
        .filter(Boolean)
        .join(" · ")}
    >
      <Box sx={{ p: 1.5, display: "grid", gap: 1 }}>
        <Typography variant="body2">{old.says}</Typography>
        {old.released && (
          <Typography variant="body2">
            Released by {old.by}, {when(old.released)}.
          </Typography>
        )}
        <Box sx={{ display: "flex", gap: 1, flexWrap: "wrap", alignItems: "center" }}>
          <Changes quiet>
            <Button aria-expanded={open === "details"} variant="outlined" onClick={() => toggle("details")}>
              Keep it …
            </Button>
            {old.fate !== "wiped" && (
              <>
                <Button aria-expanded={open === "image"} variant="outlined" onClick={() => toggle("image")}>
                  An image …
                </Button>
                <Button
                  aria-expanded={open === "data"}
                  variant="outlined"
                  disabled={!free}
                  onClick={() => toggle("data")}
                >
                  A data drive …
                </Button>
                <Button
                  aria-expanded={open === "wiped"}
                  variant="outlined"
                  disabled={!free}
                  onClick={() => toggle("wiped")}
                >
                  Wipe it …
                </Button>
              </>
            )}
            {h.phase === "released" && (
              <Button disabled={release.isPending} onClick={() => release.mutate("none")}>
                Not released after all
              </Button>
            )}
          </Changes>
          {!free && (
            <Typography variant="caption" color="text.secondary">
              {old.keepUntil
                ? `kept until ${when(old.keepUntil)}`
                : "once the starts that are wanted were seen"}
            </Typography>
          )}
        </Box>
        {open === "details" && (
          <Details key={c.version} case={c} old={old} free={free} onRelease={() => release.mutate("kept")} />
        )}
        {open === "image" && <Image case={c} />}
        {(open === "data" || open === "wiped") && free && (
          <Commands case={c} old={old} fate={open} onDone={() => release.mutate(open)} />
        )}
        {release.isError && <ErrorNotice error={release.error} />}
      </Box>
    </Section>
  );
}

/** A day as a field for dates takes it, at its end in the viewer's zone. */
const endOf = (day: string) => (day ? new Date(`${day}T23:59:59`).toISOString() : undefined);
const dayOf = (iso?: string) => {
  if (!iso) return "";
  const d = new Date(iso);
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 10);
};

function Details({
  case: c,
  old,
  free,
  onRelease,
}: {
  case: Case;
  old: Old;
  free: boolean;
  onRelease: () => void;
}) {
  const [until, setUntil] = useState(dayOf(old.keepUntil));
  const [place, setPlace] = useState(old.place ?? "");
  const [serial, setSerial] = useState(old.serial ?? "");
  const [beside, setBeside] = useState(old.beside);
  const [saved, setSaved] = useState(old.savedBy !== undefined);
  const save = useChangeCase<void>(() =>
    decideOldDrive(c.id, c.version, { keepUntil: endOf(until), place, serial, beside, saved }),
  );
  return (
    <Box
      component="form"
      sx={{ display: "grid", gap: 1.25 }}
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate();
      }}
    >
      <Box sx={{ display: "grid", gap: 1, gridTemplateColumns: "repeat(3, minmax(0, 1fr))" }}>
        <TextField
          type="date"
          label="The way back until"
          value={until}
          onChange={(e) => setUntil(e.target.value)}
          slotProps={{ inputLabel: { shrink: true } }}
        />
        <TextField label="Where it lies" value={place} onChange={(e) => setPlace(e.target.value)} />
        <TextField
          label="Serial number"
          value={serial}
          onChange={(e) => setSerial(e.target.value)}
          helperText="Off its label"
        />
      </Box>
      <Tick label="It will hang in the machine beside the clone" checked={beside} onChange={setBeside} />
      <Tick
        label={`There is an image or another copy of what is on it${old.savedBy ? ` (${old.savedBy})` : ""}`}
        checked={saved}
        onChange={setSaved}
      />
      <Box sx={{ display: "flex", gap: 1 }}>
        <Button type="submit" variant="contained" disabled={save.isPending}>
          Keep this
        </Button>
        {free && old.fate === undefined && (
          <Button variant="outlined" onClick={onRelease}>
            Release it, and keep it as it is
          </Button>
        )}
      </Box>
      {save.isError && <ErrorNotice error={save.error} />}
    </Box>
  );
}

function Tick({
  label,
  checked,
  onChange,
}: {
  label: string;
  checked: boolean;
  onChange: (on: boolean) => void;
}) {
  return (
    <FormControlLabel
      sx={{ ml: "-4px", my: -0.5 }}
      label={<Typography variant="body2">{label}</Typography>}
      control={
        <Checkbox
          size="small"
          sx={{ p: 0.5 }}
          checked={checked}
          onChange={(e) => onChange(e.target.checked)}
        />
      }
    />
  );
}

/** The commands that copy it into a file; they only read it. */
function Image({ case: c }: { case: Case }) {
  const work = useQuery({
    queryKey: ["old-drive", c.id, c.version, "image", "linux"],
    queryFn: () => oldDriveCommands(c.id, "image", "linux"),
    retry: false,
  });
  if (work.isLoadingError) return <ErrorNotice error={work.error} />;
  if (!work.data) return null;
  return (
    <>
      <Typography variant="body2">
        In a Linux, running or live, everything on it is copied into a file on a drive that is large enough:
        run it in a folder there. It is only read.
      </Typography>
      <WorkView work={work.data} name="image-of-the-old-drive" touches="the original, the old drive" />
    </>
  );
}

/** The commands, and what is lost by them. */
function Commands({
  case: c,
  old,
  fate,
  onDone,
}: {
  case: Case;
  old: Old;
  fate: "data" | "wiped";
  onDone: () => void;
}) {
  const [system, setSystem] = useState<Work["system"]>("linux");
  const work = useQuery({
    queryKey: ["old-drive", c.id, c.version, fate, system],
    queryFn: () => oldDriveCommands(c.id, fate, system),
    retry: false,
  });
  return (
    <Box sx={{ display: "grid", gap: 1 }}>
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        What is on it is lost, and nothing brings it back:
      </Typography>
      <Box component="ul" sx={{ m: 0, pl: 2.5 }}>
        {old.lost.map((l) => (
          <Typography key={l} component="li" variant="body2">
            {l}
          </Typography>
        ))}
      </Box>
      {old.systems.length > 1 && (
        <ToggleButtonGroup
          exclusive
          size="small"
          value={system}
          aria-label="In which system the commands are run"
          onChange={(_, v: Work["system"] | null) => v && setSystem(v)}
        >
          <ToggleButton value="linux" sx={{ py: 0.25, textTransform: "none" }}>
            In Linux, running or live
          </ToggleButton>
          <ToggleButton value="windows" sx={{ py: 0.25, textTransform: "none" }}>
            In the Windows on the clone
          </ToggleButton>
        </ToggleButtonGroup>
      )}
      {work.isError && <ErrorNotice error={work.error} />}
      {work.data && (
        <>
          <Typography variant="body2">
            They find the drive by its capacity, its identifier
            {old.serial && ` and its serial number ${old.serial}`}, and stop where the running system uses it.
            {fate === "wiped" &&
              " Overwriting reaches what the drive shows. A flash drive that leaves the house is erased by its own function, too, where it has one."}
          </Typography>
          <WorkView
            work={work.data}
            name={fate === "wiped" ? "wipe-the-old-drive" : "make-it-a-data-drive"}
            touches="the original, the old drive"
          />
          <Button variant="contained" sx={{ justifySelf: "start" }} onClick={onDone}>
            {fate === "wiped" ? "It is wiped" : "It is a data drive now"}
          </Button>
        </>
      )}
    </Box>
  );
}
