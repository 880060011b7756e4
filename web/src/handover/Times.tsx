import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import MenuItem from "@mui/material/MenuItem";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { type Case, type HandOver, type Role } from "../api/client";
import { forgetTimes, timeStart } from "../api/handover";
import { useChangeCase } from "../api/queries";
import { Changes } from "../parts/Changes";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { roles } from "../parts/format";
import { usePalette } from "../parts/palette";
import { Section } from "../parts/Section";

const records = [
  [
    "Windows keeps a record of its starts, in PowerShell",
    "Get-WinEvent -FilterHashtable @{LogName='Microsoft-Windows-Diagnostics-Performance/Operational'; Id=100} -MaxEvents 5 | ForEach-Object { $_.ToXml() }",
  ],
  ["Linux, in a terminal", "systemd-analyze"],
] as const;

export const seconds = (s: number) =>
  s >= 100
    ? `${Math.floor(s / 60)} min ${Math.round(s % 60)} s`
    : `${s.toFixed(s < 20 ? 1 : 0).replace(/\.0$/, "")} s`;

/** How long a start takes, before and after. */
export function Times({ case: c, handOver: h }: { case: Case; handOver: HandOver }) {
  const [open, setOpen] = useState(false);
  const [side, setSide] = useState<Role>("clone");
  const [text, setText] = useState("");
  const add = useChangeCase((t: string) => timeStart(c.id, c.version, side, t));
  const forget = useChangeCase<void>(() => forgetTimes(c.id, c.version));
  const palette = usePalette();
  const most = Math.max(1, ...h.sides.map((s) => s.seconds));
  return (
    <Section title="From power-on to the desktop" from={h.sides[0]?.how}>
      <Box sx={{ p: 1.5, display: "grid", gap: 0.75 }}>
        {h.sides.map((s) => (
          <Box
            key={s.side}
            sx={{ display: "grid", gridTemplateColumns: "58px 1fr 92px", alignItems: "center", gap: 1 }}
          >
            <Typography variant="body2">{s.side}</Typography>
            <Box
              aria-hidden="true"
              sx={{
                height: 16,
                width: `${(100 * s.seconds) / most}%`,
                bgcolor: s.side === "clone" ? palette.meaning.solid : "transparent",
                border: 1,
                borderColor: palette.meaning.solid,
              }}
            />
            <Typography variant="body2" sx={{ fontWeight: s.side === "clone" ? 650 : 400 }}>
              {seconds(s.seconds)}
              {s.of > 1 && ` · ${s.of} times`}
            </Typography>
          </Box>
        ))}
        {h.sides.length === 0 && (
          <Typography variant="body2" color="text.secondary">
            {h.times.length > 0
              ? `Told: ${h.times.map((t) => `${t.side} ${seconds(t.seconds)} (${t.how})`).join(", ")}. What is measured in the same way on both drives is drawn.`
              : "Not told yet. A stopwatch will do, or the system's own record."}
          </Typography>
        )}
        <Changes quiet>
          <Box
            component="form"
            sx={{ display: "flex", gap: 1, alignItems: "center" }}
            onSubmit={(e) => {
              e.preventDefault();
              add.mutate(text, { onSuccess: () => setText("") });
            }}
          >
            <TextField
              select
              label="With"
              value={side}
              onChange={(e) => setSide(e.target.value as Role)}
              sx={{ width: 104 }}
            >
              {roles.map((r) => (
                <MenuItem key={r} value={r}>
                  {r}
                </MenuItem>
              ))}
            </TextField>
            <TextField
              label="31 s, 1:05, or the record pasted"
              value={text}
              onChange={(e) => setText(e.target.value)}
              sx={{ flex: 1 }}
            />
            <Button type="submit" variant="outlined" disabled={add.isPending || text.trim() === ""}>
              Keep
            </Button>
            <Button aria-expanded={open} onClick={() => setOpen(!open)}>
              Records
            </Button>
          </Box>
        </Changes>
        {add.isError && <ErrorNotice error={add.error} />}
        {open && (
          <Box sx={{ display: "grid", gap: 1 }}>
            {records.map(([title, command]) => (
              <CommandBlock key={title} title={title} commands={command} />
            ))}
            {h.times.length > 0 && (
              <Button
                sx={{ justifySelf: "start" }}
                disabled={forget.isPending}
                onClick={() => forget.mutate()}
              >
                Forget what was told of times
              </Button>
            )}
          </Box>
        )}
      </Box>
    </Section>
  );
}
