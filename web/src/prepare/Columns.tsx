import Box from "@mui/material/Box";
import { type KeyboardEvent, type PointerEvent, useRef, useState } from "react";
import type { Preparing } from "../api/client";
import { spread } from "../check/strataLayout";
import { Fills, fillOf } from "../parts/Fills";
import { usePalette } from "../parts/palette";
import { useWidth } from "../parts/useWidth";
import { GiB, type Lying, gripped, lieByHand, snapped } from "./byHand";

interface Props {
  preparing: Preparing;
  layout?: Preparing["layouts"][number];
  /** Sizes by hand, in bytes by partition number; empty where another strategy is chosen. */
  sizes: Record<string, number>;
  onSize: (number: number, bytes: number) => void;
}

const top = 24;
const height = 340;
const bar = 48;

/** Original and new drive as columns on one axis of bytes: a drive of half the size is drawn half as high. */
export function Columns({ preparing: p, layout, sizes, onSize }: Props) {
  const palette = usePalette();
  const [box, width] = useWidth<HTMLDivElement>(440);
  const [dragged, setDragged] = useState<number | null>(null);
  const from = useRef({ y: 0, size: 0 });
  const grip = gripped(p.parts);
  const room = p.target?.bytes ?? 0;
  const whole = Math.max(p.original?.bytes ?? 0, room, ...p.parts.map((x) => x.start + x.size.bytes));
  const y = (bytes: number) => top + (whole > 0 ? (bytes / whole) * height : 0);
  const now: Lying[] = p.parts.map((x) => ({ number: x.number, start: x.start, size: x.size.bytes }));
  const then: Lying[] =
    dragged !== null && grip
      ? lieByHand(p.parts, { ...sizes, [grip.number]: dragged })
      : (layout?.placed ?? []).map((x) => ({ number: x.number, start: x.start, size: x.size.bytes }));
  const labels = Math.max(118, Math.min(160, width * 0.34));
  const xs = { now: labels, then: width - labels - bar };
  const held = grip && then.find((l) => l.number === grip.number);
  const bytesOf = (pixels: number) => (pixels / height) * whole;
  const rest = held ? room - (then.reduce((n, l) => n + l.size, 0) - held.size) : 0;

  const start = (e: PointerEvent<SVGRectElement>) => {
    if (!held) return;
    e.currentTarget.setPointerCapture(e.pointerId);
    from.current = { y: e.clientY, size: held.size };
    setDragged(held.size);
  };
  const move = (e: PointerEvent<SVGRectElement>) => {
    if (dragged === null || !grip) return;
    setDragged(snapped(from.current.size + bytesOf(e.clientY - from.current.y), grip, rest));
  };
  const end = () => {
    if (dragged !== null && grip && dragged !== from.current.size) onSize(grip.number, dragged);
    setDragged(null);
  };
  const keys = (e: KeyboardEvent) => {
    const step = { ArrowUp: -1, ArrowLeft: -1, ArrowDown: 1, ArrowRight: 1, PageUp: -10, PageDown: 10 }[
      e.key
    ];
    if (!step || !grip || !held) return;
    e.preventDefault();
    onSize(grip.number, snapped(held.size + step * GiB, grip, rest));
  };

  return (
    <Box ref={box}>
      <svg
        width={width}
        height={height + top + 26}
        role="group"
        aria-label="The partitions now and then, true to scale"
      >
        <Fills />
        {now.map((a) => {
          const b = then.find((l) => l.number === a.number);
          return b && <Band key={a.number} a={a} b={b} y={y} x0={xs.now + bar} x1={xs.then} />;
        })}
        <Column
          title="original now"
          x={xs.now}
          side="left"
          lying={now}
          end={p.original?.bytes}
          y={y}
          preparing={p}
          width={labels}
        />
        <Column
          title="new drive then"
          x={xs.then}
          side="right"
          lying={then}
          end={room || undefined}
          y={y}
          preparing={p}
          width={labels}
        />
        {grip && held && room > 0 && (
          <rect
            role="slider"
            tabIndex={0}
            aria-label={`Size of partition ${grip.number} on the new drive, in GiB`}
            aria-valuenow={Math.round(held.size / GiB)}
            aria-valuemin={Math.round((grip.least?.bytes ?? 0) / GiB)}
            aria-valuemax={Math.round(rest / GiB)}
            aria-valuetext={`${(held.size / GiB).toFixed(1)} GiB`}
            x={xs.then - 5}
            y={y(held.start + held.size) - 4}
            width={bar + 10}
            height="8"
            rx="4"
            fill={palette.meaning.brass}
            style={{ cursor: "ns-resize", touchAction: "none" }}
            onPointerDown={start}
            onPointerMove={move}
            onPointerUp={end}
            onPointerCancel={end}
            onKeyDown={keys}
          >
            <title>Drag, or use the arrow keys</title>
          </rect>
        )}
        <text
          x={width / 2}
          y={top + height + 18}
          textAnchor="middle"
          fontSize="12"
          fill={palette.text.secondary}
        >
          true to scale, both on one axis; what is dark is in use
        </text>
      </svg>
    </Box>
  );
}

interface ColumnProps {
  title: string;
  x: number;
  side: "left" | "right";
  lying: Lying[];
  /** Where the drive ends, in bytes. */
  end?: number;
  y: (bytes: number) => number;
  preparing: Preparing;
  width: number;
}

function Column({ title, x, side, lying, end, y, preparing, width }: ColumnProps) {
  const palette = usePalette();
  const ordered = [...lying].sort((a, b) => a.start - b.start);
  const places = spread(
    ordered.map((l) => y(l.start + l.size / 2)),
    17,
    top + 8,
    top + height,
  );
  const at = side === "left" ? x - 8 : x + bar + 8;
  const anchor = side === "left" ? "end" : "start";
  return (
    <g role="group" aria-label={title}>
      <text
        x={x + bar / 2}
        y="15"
        textAnchor="middle"
        fontSize="13"
        fontWeight="650"
        fill={palette.text.primary}
      >
        {title}
      </text>
      {end !== undefined && (
        <rect
          x={x}
          y={y(0)}
          width={bar}
          height={y(end) - y(0)}
          fill="none"
          stroke={palette.text.secondary}
          strokeDasharray="3 3"
        />
      )}
      {ordered.map((l, i) => {
        const part = preparing.parts.find((x) => x.number === l.number);
        if (!part) return null;
        const used = part.used ? Math.min(part.used.bytes, l.size) : 0;
        const beyond = end !== undefined && l.start + l.size > end;
        const middle = y(l.start + l.size / 2);
        const label = `${l.number} · ${short(part)}`;
        return (
          <g key={l.number}>
            <rect
              x={x}
              y={y(l.start)}
              width={bar}
              height={Math.max(y(l.start + l.size) - y(l.start), 1)}
              fill={fillOf(part.role)}
              fillOpacity={used > 0 ? 0.62 : 1}
              stroke={beyond ? palette.meaning.rust : palette.text.primary}
              strokeWidth={beyond ? 1.8 : 0.9}
            >
              <title>{`${title}, partition ${l.number}: ${part.name}, ${sizeText(l.size)}${part.used ? `, ${part.used.binary} in use` : ""}. ${part.why ?? ""}`}</title>
            </rect>
            {used > 0 && y(l.start + used) - y(l.start) > 2 && (
              <rect
                aria-hidden="true"
                pointerEvents="none"
                x={x}
                y={y(l.start)}
                width={bar}
                height={y(l.start + used) - y(l.start)}
                fill={fillOf(part.role)}
              />
            )}
            {Math.abs(places[i]! - middle) > 6 && (
              <line
                aria-hidden="true"
                x1={side === "left" ? x - 1 : x + bar + 1}
                x2={side === "left" ? x - 7 : x + bar + 7}
                y1={middle}
                y2={places[i]}
                stroke={palette.text.secondary}
                strokeWidth="0.8"
              />
            )}
            <text
              x={at}
              y={places[i]! + 4}
              textAnchor={anchor}
              fontSize="12"
              fill={beyond ? palette.meaning.rust : palette.text.primary}
            >
              {clip(label, width - 62)}
              <tspan fill={palette.text.secondary}> {sizeText(l.size)}</tspan>
            </text>
          </g>
        );
      })}
    </g>
  );
}

function Band({ a, b, y, x0, x1 }: { a: Lying; b: Lying; y: (n: number) => number; x0: number; x1: number }) {
  const { meaning } = usePalette();
  const c = (x1 - x0) / 2;
  const [p, q, r, s] = [y(a.start), y(a.start + a.size), y(b.start), y(b.start + b.size)];
  return (
    <path
      aria-hidden="true"
      d={`M${x0} ${p}C${x0 + c} ${p} ${x1 - c} ${r} ${x1} ${r}V${s}C${x1 - c} ${s} ${x0 + c} ${q} ${x0} ${q}Z`}
      fill={meaning.solid}
      opacity="0.13"
    />
  );
}

const names: Record<string, string> = {
  "EFI system partition": "EFI system",
  "Microsoft reserved": "reserved",
  "Windows recovery environment": "recovery",
  "Basic data": "system",
  "NTFS or exFAT": "NTFS",
  "Linux file system": "Linux",
};

const short = (p: Preparing["parts"][number]) =>
  names[p.name] ?? (p.role === "system" && p.name.length > 12 ? "system" : p.name);

const clip = (s: string, width: number) => {
  const most = Math.max(Math.floor(width / 6.1), 8);
  return s.length > most ? s.slice(0, most - 1) + "…" : s;
};

/** A size in binary units, as the server says it. */
export function sizeText(bytes: number): string {
  const units = ["B", "KiB", "MiB", "GiB", "TiB"];
  let unit = 0;
  while (bytes >= 1024 && unit < units.length - 1) {
    bytes /= 1024;
    unit++;
  }
  return `${bytes >= 100 ? Math.round(bytes) : Math.round(bytes * 10) / 10} ${units[unit]}`;
}
