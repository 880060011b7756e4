import Box from "@mui/material/Box";
import type { HandOver, StartSeen } from "../api/client";
import { shortWhen } from "../parts/format";
import { usePalette } from "../parts/palette";
import { useWidth } from "../parts/useWidth";

const height = 128;
const top = 38;
const bottom = 86;
const bow = 96;
/** How deep a start cuts the key: a cold one to the line, a warm one less. */
const deep = { cold: 26, warm: 13, unknown: 13 } as const;

interface Cut {
  start?: StartSeen;
  depth: number;
}

/** The latest starts, and after them those that are still wanted. */
export function cutsOf(h: HandOver, most: number): Cut[] {
  const wanted = Math.max(h.rule.starts - h.good, 0);
  const made = h.starts.filter((s) => s.from === "clone").slice(-Math.max(most - Math.min(wanted, 5), 1));
  return [
    ...made.map((start) => ({ start, depth: deep[start.kind] })),
    ...Array.from({ length: Math.min(wanted, most - made.length) }, () => ({ depth: deep.cold })),
  ];
}

/** Each good start cuts the key; what is still wanted is dashed. */
export function CutKey({ handOver: h }: { handOver: HandOver }) {
  const palette = usePalette();
  const [box, width] = useWidth<HTMLDivElement>(1120);
  const cuts = cutsOf(h, Math.max(Math.floor((width - bow - 60) / 112), 2));
  const right = width - 14;
  const x = (i: number) => bow + 36 + ((right - bow - 60) * (i + 0.5)) / Math.max(cuts.length, 1);
  const edge = cuts
    .map(({ start, depth }, i) =>
      start ? `L${x(i) - 24} ${top}L${x(i) - 7} ${top + depth}h14L${x(i) + 24} ${top}` : "",
    )
    .join("");
  return (
    <Box ref={box} sx={{ width: "100%" }}>
      <svg width={width} height={height} role="img" aria-label={spoken(h)}>
        <g fill={palette.meaning.brass} fillOpacity="0.22" stroke={palette.meaning.brass} strokeWidth="1.4">
          <path
            d={`M${bow} ${top}${edge}L${right - 22} ${top}L${right} ${(top + bottom) / 2}L${right - 22} ${bottom}H${bow}z`}
          />
          <path d={`M${bow} ${top + 8}H${bow - 38}a26 26 0 1 0 0 32H${bow}z`} />
        </g>
        <circle
          cx={bow - 62}
          cy={(top + bottom) / 2}
          r="8"
          fill={palette.background.paper}
          stroke={palette.meaning.brass}
          strokeWidth="1.4"
        />
        {cuts.map((c, i) => (
          <g key={c.start?.id ?? `wanted ${i}`} textAnchor="middle" fontSize="12">
            {c.start ? (
              <path
                d={`M${x(i) - 8} ${top - 26}h16v${14 + c.depth}l-8 9l-8 -9z`}
                fill={c.start.counts ? palette.meaning.sea : "none"}
                stroke={palette.meaning.sea}
                strokeWidth="1.4"
              />
            ) : (
              <path
                d={`M${x(i) - 24} ${top}L${x(i) - 7} ${top + c.depth}h14L${x(i) + 24} ${top}`}
                fill="none"
                stroke={palette.meaning.brass}
                strokeDasharray="4 3"
              />
            )}
            <text x={x(i)} y={bottom + 18} fontWeight={c.start ? 650 : 400} fill={palette.text.primary}>
              {c.start ? shortWhen(c.start.at) : "cold start"}
            </text>
            <text x={x(i)} y={bottom + 33} fill={palette.text.secondary}>
              {c.start ? `${words[c.start.kind]} · ${c.start.who.split(" ")[0]}` : "still wanted"}
            </text>
          </g>
        ))}
      </svg>
    </Box>
  );
}

const words = { cold: "cold", warm: "warm", unknown: "not told how" } as const;

const spoken = (h: HandOver) =>
  [
    `${h.good} good cold starts of ${h.rule.starts}.`,
    ...h.starts.map(
      (s) =>
        `${shortWhen(s.at)}, ${words[s.kind]}, ${s.from === "clone" ? "from the clone" : s.from}, ${s.who}.`,
    ),
  ].join(" ");
