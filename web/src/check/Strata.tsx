import Box from "@mui/material/Box";
import ToggleButton from "@mui/material/ToggleButton";
import ToggleButtonGroup from "@mui/material/ToggleButtonGroup";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Drive, Pair, Partition } from "../api/client";
import { Fills, fillOf } from "../parts/Fills";
import { usePalette } from "../parts/palette";
import { grouped } from "../parts/format";
import { useWidth } from "../parts/useWidth";
import { bytesOf, type Layer as LayerOf, type Scale, columnOf, spread } from "./strataLayout";

type Layer = LayerOf<Partition>;

interface Props {
  original?: Drive;
  clone?: Drive;
  pairs: Pair[];
  /** Draws lower, where the screen needs its room for questions. */
  compact?: boolean;
  /** Shows the bytes that a partition's entry came from. */
  onPick: (role: "original" | "clone", partition: Partition) => void;
}

const top = 22;
const barWidth = 52;

/** The two disks as columns of layers, tied to each other by ribbons. */
export function Strata({ original, clone, pairs, compact, onPick }: Props) {
  const drawHeight = compact ? 220 : 300;
  const [scale, setScale] = useState<Scale>("readable");
  const [box, width] = useWidth<HTMLDivElement>(430);
  const palette = usePalette();
  const largest = Math.max(bytesOf(original?.disk), bytesOf(clone?.disk));
  const layers = {
    original: columnOf(original?.disk, scale, largest, drawHeight),
    clone: columnOf(clone?.disk, scale, largest, drawHeight),
  };
  const labelWidth = Math.max(92, Math.min(132, width * 0.24));
  const xs = { original: labelWidth, clone: width - labelWidth - barWidth };

  return (
    <Box>
      <Box
        sx={{
          display: "flex",
          alignItems: "center",
          justifyContent: "space-between",
          px: 1.5,
          py: 0.5,
          borderBottom: 1,
          borderColor: "divider",
        }}
      >
        <Typography variant="body2" component="h3" sx={{ fontWeight: 650 }}>
          Disk strata
        </Typography>
        <ToggleButtonGroup
          exclusive
          size="small"
          value={scale}
          aria-label="Scale of the strata"
          onChange={(_, v: Scale | null) => v && setScale(v)}
        >
          <ToggleButton value="readable" sx={toggle}>
            Readable scale
          </ToggleButton>
          <ToggleButton value="true" sx={toggle}>
            True scale
          </ToggleButton>
        </ToggleButtonGroup>
      </Box>
      <Box ref={box} sx={{ px: 0 }}>
        <svg
          width={width}
          height={drawHeight + top + 24}
          role="group"
          aria-label={`The partitions of both disks, ${scale} scale`}
        >
          <Fills />
          {pairs.map((p) => (
            <Ribbon key={`${p.original}/${p.clone}`} pair={p} layers={layers} xs={xs} />
          ))}
          {(["original", "clone"] as const).map((role) => (
            <Column
              key={role}
              role={role}
              drive={role === "original" ? original : clone}
              layers={layers[role]}
              x={xs[role]}
              labelWidth={labelWidth}
              drawHeight={drawHeight}
              onPick={onPick}
            />
          ))}
          <text
            x={width / 2}
            y={top + drawHeight + 18}
            textAnchor="middle"
            fontSize="12"
            fill={palette.text.secondary}
          >
            {scale === "true"
              ? "heights in proportion to size, both disks alike"
              : "not to scale: small partitions are drawn larger"}
          </text>
        </svg>
      </Box>
    </Box>
  );
}

const toggle = { py: 0, px: 1, fontSize: "0.75rem", textTransform: "none" } as const;

interface ColumnProps {
  role: "original" | "clone";
  drive?: Drive;
  layers: Layer[];
  x: number;
  labelWidth: number;
  drawHeight: number;
  onPick: Props["onPick"];
}

function Column({ role, drive, layers, x, labelWidth, drawHeight, onPick }: ColumnProps) {
  const palette = usePalette();
  const labels = spread(
    layers.map((l) => top + l.y + l.height / 2),
    26,
    top + 12,
    top + drawHeight - 10,
  );
  const textX = role === "original" ? x - 8 : x + barWidth + 8;
  const anchor = role === "original" ? "end" : "start";
  return (
    <g role="group" aria-label={role}>
      <text
        x={x + barWidth / 2}
        y="14"
        textAnchor="middle"
        fontSize="13"
        fontWeight="650"
        fill={palette.text.primary}
      >
        {role}
      </text>
      {!drive?.disk && (
        <>
          <rect
            x={x}
            y={top}
            width={barWidth}
            height={drawHeight}
            fill="none"
            stroke={palette.text.secondary}
            strokeDasharray="4 4"
          />
          <text
            x={textX}
            y={top + drawHeight / 2}
            textAnchor={anchor}
            fontSize="12"
            fill={palette.text.secondary}
          >
            not in evidence
          </text>
        </>
      )}
      {layers.map((l, i) => {
        const p = l.partition;
        const mid = top + l.y + l.height / 2;
        const labelled = p !== undefined || l.height >= 14;
        return (
          <g key={l.key}>
            <LayerShape layer={l} x={x} role={role} onPick={p ? () => onPick(role, p) : undefined} />
            {labelled && (
              <g aria-hidden="true">
                {p && Math.abs((labels[i] ?? mid) - mid) > 4 && (
                  <line
                    x1={role === "original" ? x - 1 : x + barWidth + 1}
                    x2={role === "original" ? x - 7 : x + barWidth + 7}
                    y1={mid}
                    y2={labels[i]}
                    stroke={palette.text.secondary}
                    strokeWidth="0.8"
                  />
                )}
                <text
                  x={textX}
                  y={(labels[i] ?? mid) - (p ? 1 : -4)}
                  textAnchor={anchor}
                  fontSize="12"
                  fill={p ? (p.lost ? palette.meaning.rust : palette.text.primary) : palette.text.secondary}
                >
                  {clip(p ? layerName(p) : "free", labelWidth)}
                </text>
                {p && (
                  <text
                    x={textX}
                    y={(labels[i] ?? mid) + 11}
                    textAnchor={anchor}
                    fontSize="12"
                    fill={palette.text.secondary}
                  >
                    {p.lost ? "cut off" : p.size.binary}
                  </text>
                )}
              </g>
            )}
          </g>
        );
      })}
    </g>
  );
}

const clip = (s: string, width: number) => {
  const most = Math.floor((width - 12) / 6.1);
  return s.length > most ? s.slice(0, most - 1) + "…" : s;
};

const shortType: Record<string, string> = {
  "EFI system partition": "EFI system",
  "Microsoft reserved": "reserved",
  "Windows recovery environment": "recovery",
  "NTFS or exFAT": "NTFS",
  "Linux file system": "Linux",
  "Linux swap": "swap",
};

const layerName = (p: Partition) =>
  `${p.number} · ${shortType[p.type] ?? p.type}${p.active ? " · active" : ""}`;

function LayerShape({
  layer,
  x,
  role,
  onPick,
}: {
  layer: Layer;
  x: number;
  role: string;
  onPick?: () => void;
}) {
  const palette = usePalette();
  const p = layer.partition;
  const shape = (
    <rect
      x={x}
      y={top + layer.y}
      width={barWidth}
      height={Math.max(layer.height, 1)}
      fill={p ? fillOf(p.role) : "none"}
      stroke={
        p?.lost ? palette.meaning.rust : p?.role === "unknown" ? palette.meaning.brass : palette.text.primary
      }
      strokeDasharray={p ? (p.lost || p.role === "unknown" ? "5 3" : undefined) : "2 3"}
      strokeWidth={p?.lost ? 1.6 : 0.9}
    />
  );
  if (!p || !onPick) return <g aria-hidden="true">{shape}</g>;
  const name = `${role}, partition ${p.number}: ${p.type}, ${p.size.label}, ${p.size.binary}, ${p.kind}, from sector ${grouped(p.start)}${p.active ? ", active" : ""}${p.lost ? ", cut off by the end of the disk" : ""}`;
  return (
    <g
      role="button"
      tabIndex={0}
      aria-label={name}
      style={{ cursor: "pointer" }}
      onClick={onPick}
      onKeyDown={(e) => {
        if (e.key === "Enter" || e.key === " ") {
          e.preventDefault();
          onPick();
        }
      }}
    >
      <title>{name}</title>
      {/* At least 24 pixels to point at, however thin the layer. */}
      <rect
        x={x - 2}
        y={top + layer.y + layer.height / 2 - Math.max(layer.height, 10) / 2}
        width={barWidth + 4}
        height={Math.max(layer.height, 10)}
        fill="transparent"
      />
      {shape}
    </g>
  );
}

function Ribbon({
  pair,
  layers,
  xs,
}: {
  pair: Pair;
  layers: Record<"original" | "clone", Layer[]>;
  xs: Record<"original" | "clone", number>;
}) {
  const palette = usePalette();
  const from = layers.original.find((l) => l.index === pair.original);
  const to = layers.clone.find((l) => l.index === pair.clone);
  const x0 = xs.original + barWidth;
  const x1 = xs.clone;
  const c = (x1 - x0) / 2;
  if (from && to) {
    const [a, b, d, e] = [top + from.y, top + from.y + from.height, top + to.y, top + to.y + to.height];
    return (
      <path
        aria-hidden="true"
        d={`M${x0} ${a}C${x0 + c} ${a} ${x1 - c} ${d} ${x1} ${d}V${e}C${x1 - c} ${e} ${x0 + c} ${b} ${x0} ${b}Z`}
        fill={palette.meaning.solid}
        opacity="0.16"
      />
    );
  }
  if (!from || pair.by === "not known") return null;
  const decides = from.partition?.role === "boot";
  const colour = decides ? palette.meaning.rust : palette.text.secondary;
  const mid = top + from.y + from.height / 2;
  const half = Math.min(from.height / 2, 9);
  const end = x0 + Math.min(c * 0.5, 28);
  return (
    <g aria-hidden="true">
      <path
        d={`M${x0} ${mid - half}C${x0 + 16} ${mid - half} ${end - 10} ${mid - 5} ${end} ${mid - 6}l-7 6l7 6C${end - 10} ${mid + 5} ${x0 + 16} ${mid + half} ${x0} ${mid + half}Z`}
        fill={colour}
        opacity="0.35"
      />
      <text x={end + 5} y={mid + 4} fontSize="12" fontWeight={decides ? 650 : 400} fill={colour}>
        left behind
      </text>
    </g>
  );
}
