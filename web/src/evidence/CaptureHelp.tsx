import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Download } from "../api/client";
import { useDownloads } from "../api/queries";
import { CommandBlock } from "../parts/CommandBlock";

interface Situation {
  name: string;
  system: Download["system"];
  how: string;
  title: string;
  commands: (program: string) => string;
}

const arches: Record<Download["arch"], string> = {
  amd64: "64-bit PC",
  "386": "32-bit PC",
  arm64: "ARM 64-bit",
};

const linux = (name: string) => (program: string) =>
  `chmod +x ${program}\nsudo ./${program}\nsudo ./${program} /dev/sdX -o ${name}.lkcap`;

const onto = {
  linux: (image: string) =>
    `lsblk -do NAME,SIZE,MODEL,TRAN\nsudo dd if=${image} of=/dev/sdX bs=4M conv=fsync status=progress`,
  mac: (image: string) =>
    `diskutil list external\ndiskutil unmountDisk /dev/diskN\nsudo dd if=${image} of=/dev/rdiskN bs=4m`,
  // Windows' own commands write no image; the capture command refuses what is on no USB, and
  // asks for the drive's capacity.
  windows: (image: string) =>
    `diskpart\nlist disk\nselect disk N\ndetail disk\nclean\nexit\n.\\latchkey-capture-windows-amd64.exe make-stick ${image} \\\\.\\PhysicalDriveN`,
};

const situations: Situation[] = [
  {
    name: "The machine still runs Windows",
    system: "windows",
    how: "Start a terminal as administrator. Without a disk the command lists them; compare size and model before you go on.",
    title: "Disk N of the running Windows",
    commands: (program) => `.\\${program}\n.\\${program} \\\\.\\PhysicalDriveN -o original.lkcap`,
  },
  {
    name: "The machine still runs Linux",
    system: "linux",
    how: "As root, the boot entries of the firmware come along.",
    title: "The disk of the running Linux",
    commands: linux("original"),
  },
  {
    name: "The clone hangs on another computer (Windows)",
    system: "windows",
    how: "When Windows offers to initialise or format the disk, say no. The sector size of a USB enclosure may be another one than the drive's own.",
    title: "Disk N: the clone, on another computer",
    commands: (program) => `.\\${program}\n.\\${program} \\\\.\\PhysicalDriveN -o clone.lkcap`,
  },
  {
    name: "The clone hangs on another computer (Linux)",
    system: "linux",
    how: "Do not mount it. The sector size of a USB enclosure may be another one than the drive's own.",
    title: "The clone, on another computer",
    commands: linux("clone"),
  },
  {
    name: "Nothing starts: with Latchkey's stick, in the machine itself",
    system: "stick",
    how: "Everything on the USB drive that it is written to is lost: tell it by size, model and USB from the other drives. Then choose it in the machine's boot menu. It takes the evidence of every drive, shows the check, and repairs when it is told to. Drop its folder LATCHKEY into the case.",
    title: "A USB drive of 128 MB or more, from a Linux",
    commands: onto.linux,
  },
  {
    name: "From another live Linux, in the machine itself",
    system: "linux",
    how: "Start a live Linux in the firmware mode that the machine uses, so that its boot entries can be read. Both disks can be captured one after the other.",
    title: "Both disks, from a live Linux",
    commands: (program) =>
      `chmod +x ${program}\nsudo ./${program}\nsudo ./${program} /dev/sdX -o original.lkcap\nsudo ./${program} /dev/sdY -o clone.lkcap`,
  },
];

/** The capture command for download, with what to do in each situation. */
export function CaptureHelp() {
  const downloads = useDownloads();
  const [at, setAt] = useState(0);
  const s = situations[at]!;
  const builds = (downloads.data ?? [])
    .filter((d) => d.system === s.system)
    .sort((a, b) => Number(b.arch === "amd64") - Number(a.arch === "amd64"));
  const program =
    builds[0]?.name ??
    (s.system === "stick"
      ? "latchkey-stick.img"
      : `latchkey-capture-${s.system}-amd64${s.system === "windows" ? ".exe" : ""}`);
  return (
    <Paper component="section" aria-label="Take a capture" sx={{ p: 1.5 }}>
      <Typography variant="h3" component="h2">
        Take a capture
      </Typography>
      <Typography variant="body2" color="text.secondary" sx={{ my: 0.75 }}>
        One file of a few hundred kilobytes with just the sectors that decide a start. Taking it opens the
        disk for reading only.
      </Typography>
      <TextField
        select
        fullWidth
        label="Situation"
        value={at}
        onChange={(e) => setAt(Number(e.target.value))}
        sx={{ my: 1 }}
      >
        {situations.map((x, i) => (
          <MenuItem key={x.name} value={i}>
            {x.name}
          </MenuItem>
        ))}
      </TextField>
      <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mb: 1 }}>
        {builds.map((d) => (
          <Button key={d.name} component="a" href={`/downloads/${d.name}`} download variant="outlined">
            {arches[d.arch]} · {d.size}
          </Button>
        ))}
        {builds[0] && (
          <Typography variant="body2" color="text.secondary" sx={{ width: "100%" }}>
            {s.system === "stick"
              ? `Starts on ${builds[0].oldest}.`
              : `Runs on ${builds[0].oldest} and newer.`}
            {s.system === "windows" && " On an older one, paste what diskpart lists instead."}
          </Typography>
        )}
        {builds.length > 0 && (
          <Box component="details" sx={{ width: "100%" }}>
            <Typography component="summary" variant="body2" color="text.secondary" sx={{ cursor: "pointer" }}>
              SHA-256 sums, to see that a file came over whole
            </Typography>
            {builds.map((d) => (
              <Typography key={d.name} variant="caption" component="p" sx={{ overflowWrap: "anywhere" }}>
                <code>
                  {d.sha256} {d.name}
                </code>
              </Typography>
            ))}
          </Box>
        )}
        {builds.length === 0 && (
          <Typography variant="body2">
            {downloads.isPending
              ? "Looking for the builds …"
              : s.system === "stick"
                ? "The stick has not been made on the server yet: scripts/stick makes it, in a minute."
                : "No build for this system is ready on the server yet; look again in a minute."}
          </Typography>
        )}
      </Box>
      <Typography variant="body2" sx={{ mb: 1 }}>
        {s.how}
      </Typography>
      <CommandBlock title={s.title} commands={s.commands(program)} />
      {s.system === "stick" && (
        <Box sx={{ mt: 1, display: "grid", gap: 1, gridTemplateColumns: "minmax(0, 1fr)" }}>
          <CommandBlock title="The same from a Mac" commands={onto.mac(program)} />
          <CommandBlock
            title="The same from Windows: diskpart first, then the capture command for Windows, as administrator"
            commands={onto.windows(program)}
          />
        </Box>
      )}
      <Typography variant="body2" color="text.secondary" sx={{ mt: 1 }}>
        {s.system === "stick"
          ? "Then drop its folder under “Beginning”."
          : "Then add the file to its disk under “What is known”. A disk that has lost its partition table is looked through for volumes to its end with --thorough added; the command says how long that takes."}
      </Typography>
    </Paper>
  );
}
