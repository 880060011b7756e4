import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Radio from "@mui/material/Radio";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Typography from "@mui/material/Typography";
import type { Pin, Preparing } from "../api/client";
import { busName } from "../parts/format";
import { usePalette } from "../parts/palette";
import { stages, stageTitle, stateWord } from "../parts/stages";

type Way = Preparing["ways"][number];

/** The ways of copying, each with its own row of pins and what the machine would do. */
export function Ways({ preparing: p, onPick }: { preparing: Preparing; onPick: (way: string) => void }) {
  const clone = p.cards.find((c) => c.role === "clone");
  return (
    <Paper component="section" aria-label="Ways to copy" className="no-print" sx={{ overflowX: "auto" }}>
      <Box sx={{ display: "flex", flexWrap: "wrap", justifyContent: "space-between", px: 1.5, py: 0.75 }}>
        <Typography variant="body2" component="h2" sx={{ fontWeight: 650 }}>
          Ways to copy, and what the machine would do with the copy
        </Typography>
        <Typography variant="body2" color="text.secondary">
          {clone?.bus
            ? `drive on ${busName[clone.bus] ?? clone.bus}`
            : "where the drive will hang is not told"}
          , {p.plan.beside ? "original beside it" : "original unplugged"}
        </Typography>
      </Box>
      {p.ways.length === 0 ? (
        <Typography sx={{ px: 1.5, pb: 1.5 }} color="text.secondary">
          The start of each copy is computed here once the new drive's capacity is known: from evidence, or
          typed on the left.
        </Typography>
      ) : (
        <Table size="small" aria-label="Ways to copy">
          <TableHead>
            <TableRow>
              <TableCell padding="checkbox" />
              <TableCell>way</TableCell>
              <TableCell sx={{ whiteSpace: "nowrap" }}>Drive → System</TableCell>
              <TableCell>at power-on</TableCell>
              <TableCell>time</TableCell>
            </TableRow>
          </TableHead>
          <TableBody>
            {p.ways.map((w) => (
              <TableRow
                key={w.key}
                selected={w.key === p.plan.way}
                hover
                onClick={() => onPick(w.key)}
                sx={{ cursor: "pointer" }}
              >
                <TableCell padding="checkbox">
                  <Radio
                    size="small"
                    checked={w.key === p.plan.way}
                    onChange={() => onPick(w.key)}
                    slotProps={{ input: { "aria-label": w.name } }}
                    name="way"
                  />
                </TableCell>
                <TableCell title={w.does} sx={{ fontWeight: w.best ? 650 : 400 }}>
                  {w.name}
                  {w.best && " · recommended"}
                </TableCell>
                <TableCell>
                  <MiniPins pins={w.pins} />
                </TableCell>
                <TableCell>
                  <AtPowerOn way={w} />
                </TableCell>
                <TableCell sx={{ whiteSpace: "nowrap" }}>{w.verdict ? w.time.words : "–"}</TableCell>
              </TableRow>
            ))}
          </TableBody>
        </Table>
      )}
    </Paper>
  );
}

function AtPowerOn({ way: w }: { way: Way }) {
  const { meaning } = usePalette();
  if (!w.verdict) return <>{w.says}</>;
  const proven = w.whole === w.verdict;
  const word = {
    starts: proven ? "starts" : "reaches its loader",
    "starts-original": proven ? "starts the original" : "starts a loader on another drive",
    stops: "stops",
    depends: "depends",
  }[w.verdict];
  const colour = {
    starts: proven ? meaning.sea : meaning.brass,
    "starts-original": proven ? meaning.plum : meaning.brass,
    stops: meaning.rust,
    depends: meaning.brass,
  }[w.verdict];
  return (
    <>
      <Box component="span" sx={{ color: colour, fontWeight: 650 }}>
        {word}
      </Box>
      {!(proven && w.verdict === "starts") &&
        (w.says.toLowerCase().startsWith(word) ? w.says.slice(word.length) : `: ${w.says}`)}
      {w.after.length > 0 && (
        <Typography variant="body2" component="div" sx={{ color: meaning.brass }} title={w.after.join("\n")}>
          {`Starts after ${w.after.length === 1 ? "a step" : `${w.after.length} steps`}: ${lowered(w.after[0]!)}${w.after.length > 1 ? " …" : ""}`}
        </Typography>
      )}
    </>
  );
}

const lowered = (s: string) => s.slice(0, 1).toLowerCase() + s.slice(1);

/** The eight pins in small: at the line, hanging, or hollow. */
function MiniPins({ pins }: { pins: Pin[] }) {
  const { meaning, text } = usePalette();
  const name =
    pins.length === 0
      ? "nothing was computed"
      : pins.map((p) => `${stageTitle(p.stage)}: ${stateWord[p.state]}`).join(", ");
  return (
    <svg width={118} height={24} role="img" aria-label={name}>
      <title>{name}</title>
      <line x1="0" x2="118" y1="7" y2="7" stroke={text.primary} />
      {stages.map(([stage], i) => {
        const state = pins.find((p) => p.stage === stage)?.state;
        const x = 4 + i * 14.4;
        if (state === "passes") return <path key={stage} d={`M${x} 7h8v6l-4 4l-4 -4z`} fill={meaning.sea} />;
        if (state === "blocks" || state === "wrong-disk")
          return (
            <path
              key={stage}
              d={`M${x} 12h8v7l-4 4l-4 -4z`}
              fill={state === "blocks" ? meaning.rust : meaning.plum}
            />
          );
        return (
          <path
            key={stage}
            d={`M${x} 7h8v6l-4 4l-4 -4z`}
            fill="none"
            stroke={state === "unproven" ? meaning.brass : text.secondary}
            opacity={state === "unproven" ? 1 : 0.5}
          />
        );
      })}
    </svg>
  );
}
