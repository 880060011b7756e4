import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type Preparing, forgetProgress, tellProgress } from "../api/client";
import { useTakeCase } from "../api/queries";
import { Changes } from "../parts/Changes";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";
import { usePalette } from "../parts/palette";

type Counting = Preparing["countdown"];

/** When the copy ends, by what its program showed at several times. */
export function Countdown({ case: c, countdown: k }: { case: Case; countdown: Counting }) {
  const [text, setText] = useState("");
  const take = useTakeCase();
  const tell = useMutation({
    mutationFn: (said: string) => tellProgress(c.id, c.version, parse(said)),
    onSuccess: (updated) => {
      take(updated);
      setText("");
    },
  });
  const forget = useMutation({ mutationFn: () => forgetProgress(c.id, c.version), onSuccess: take });
  return (
    <Paper component="section" aria-label="While it is copied" sx={{ p: 1.5 }} className="no-print">
      <Typography variant="body2" component="h2" sx={{ fontWeight: 650 }}>
        While it is copied
      </Typography>
      <Typography variant="body2" role="status" sx={{ mb: 1 }}>
        {k.says}
        {k.likely && ` Most likely ${when(k.likely)}.`}
        {k.stalled && ` Since ${when(k.stalled)}.`}
      </Typography>
      {k.seen.length > 1 && <Curve countdown={k} />}
      <Changes quiet>
        <Box
          component="form"
          sx={{ display: "flex", gap: 1, alignItems: "flex-start" }}
          onSubmit={(e) => {
            e.preventDefault();
            tell.mutate(text);
          }}
        >
          <TextField
            label="What its program shows now"
            placeholder="37 %, or 84 of 230 GB"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <Button type="submit" variant="outlined" disabled={tell.isPending || text.trim() === ""}>
            Count
          </Button>
          {k.seen.length > 0 && (
            <Button disabled={forget.isPending} onClick={() => forget.mutate()}>
              Begin anew
            </Button>
          )}
        </Box>
      </Changes>
      {(tell.isError || forget.isError) && <ErrorNotice error={tell.error ?? forget.error} />}
    </Paper>
  );
}

/** Per cents, or gigabytes of how many. */
export function parse(said: string): { perCent?: number; gigabytes?: number; of?: number } {
  const figures = (said.match(/\d+(?:[.,]\d+)?/g) ?? []).map((f) => Number(f.replace(",", ".")));
  if (figures.length >= 2) return { gigabytes: figures[0], of: figures[1] };
  return { perCent: figures[0] };
}

const size = { width: 360, height: 70 };

/** What was read off, and the range in which it ends. */
function Curve({ countdown: k }: { countdown: Counting }) {
  const { meaning, text } = usePalette();
  const seen = k.seen.map((s) => ({ at: Date.parse(s.at), done: s.done })).sort((a, b) => a.at - b.at);
  const from = seen[0]!.at;
  const to = Math.max(k.last ? Date.parse(k.last) : 0, seen.at(-1)!.at, from + 60_000);
  const x = (at: number) => 4 + ((at - from) / (to - from)) * (size.width - 8);
  const y = (done: number) => size.height - 6 - done * (size.height - 12);
  const last = seen.at(-1)!;
  return (
    <svg
      width={size.width}
      height={size.height}
      role="img"
      aria-label={`${seen.length} readings, the last ${Math.round(last.done * 100)} per cent`}
    >
      <line x1="4" x2={size.width - 4} y1={y(1)} y2={y(1)} stroke={text.secondary} strokeDasharray="2 3" />
      <line x1="4" x2={size.width - 4} y1={y(0)} y2={y(0)} stroke={text.secondary} />
      {k.first && k.last && (
        <path
          d={`M${x(last.at)} ${y(last.done)}L${x(Date.parse(k.first))} ${y(1)}H${x(Date.parse(k.last))}Z`}
          fill={meaning.brass}
          opacity="0.3"
        />
      )}
      <polyline
        points={seen.map((s) => `${x(s.at)},${y(s.done)}`).join(" ")}
        fill="none"
        stroke={meaning.sea}
        strokeWidth="2"
      />
      {seen.map((s) => (
        <circle key={s.at} cx={x(s.at)} cy={y(s.done)} r="3" fill={meaning.sea} />
      ))}
    </svg>
  );
}
