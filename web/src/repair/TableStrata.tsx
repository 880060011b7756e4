import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import type { PlanStep } from "../api/client";
import { columnOf, spread } from "../check/strataLayout";
import { Fills, fillOf } from "../parts/Fills";
import { usePalette } from "../parts/palette";

type Table = NonNullable<PlanStep["table"]>;
type Stratum = Table["strata"][number];

const bar = 52;
const top = 6;
const line = 34;

/** The strata of the disk as a step is going to write its table, each with what tells that it lies there. */
export function TableStrata({ table }: { table: Table }) {
  const palette = usePalette();
  const height = Math.min(260, Math.max(90, table.strata.length * line));
  const layers = columnOf(
    { ...table, partitions: table.strata.map((s) => ({ ...s, placed: true })) },
    "readable",
    table.sectors * table.sectorSize,
    height,
  );
  const labels = spread(
    layers.map((l) => top + l.y + l.height / 2),
    line - 2,
    top + 12,
    top + height - 12,
  );
  return (
    <Box sx={{ my: 1 }}>
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        The strata that it writes
      </Typography>
      <svg
        width="100%"
        height={height + 2 * top}
        role="group"
        aria-label="The partitions of the table that the step writes"
      >
        <Fills />
        {layers.map((l, i) => {
          const s = l.partition;
          const mid = top + l.y + l.height / 2;
          const y = labels[i] ?? mid;
          return (
            <g key={l.key} role="img" aria-label={s ? said(s) : "free"}>
              <rect
                x="1"
                y={top + l.y}
                width={bar}
                height={Math.max(l.height - 1, 1)}
                fill={s ? fillOf(s.role) : "none"}
                stroke={palette.text.secondary}
                strokeDasharray={s?.sure ? undefined : "4 3"}
              />
              <g aria-hidden="true" fontSize="12">
                <line
                  x1={bar + 2}
                  x2={bar + 10}
                  y1={mid}
                  y2={y}
                  stroke={palette.text.secondary}
                  strokeWidth="0.8"
                />
                <text
                  x={bar + 14}
                  y={s ? y - 2 : y + 4}
                  fill={s ? palette.text.primary : palette.text.secondary}
                >
                  {s ? `${s.number} · ${s.holds} · ${s.size}` : "free"}
                </text>
                {s && (
                  <text x={bar + 14} y={y + 12} fill={palette.text.secondary}>
                    {by(s)}
                  </text>
                )}
              </g>
            </g>
          );
        })}
      </svg>
      <Typography variant="body2" color="text.secondary">
        Drawn whole: its file system and a table or record say the same. Dashed: one alone, or free room.
      </Typography>
    </Box>
  );
}

/** How sure a partition's place is, in words. */
const by = (s: Stratum) => (s.sure ? `sure: ${s.by}` : s.by);

const said = (s: Stratum) => `partition ${s.number}, ${s.holds}, ${s.size}, ${by(s)}`;
