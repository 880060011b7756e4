import Box from "@mui/material/Box";
import { type KeyboardEvent, useRef } from "react";
import type { Drive, Pin, Role } from "../api/client";
import { usePalette } from "../parts/palette";
import { type Stage, stages, stateWord } from "../parts/stages";
import { useWidth } from "../parts/useWidth";

export interface PinChoice {
  role: Role;
  stage: Stage;
}

interface Props {
  drives: Drive[];
  chosen: PinChoice | null;
  onChoose: (choice: PinChoice) => void;
}

const left = 84;
const rowLine = { original: 34, clone: 112 };
const namesAt = 78;
const height = 156;
/** How deep the key is cut under each pin, in pixels below the shear line. */
const cuts = [12, 20, 10, 16, 22, 11, 18, 14];
const hang = 27;

/** The start as a pin-tumbler lock: original above, clone with its key below. */
export function PinRows({ drives, chosen, onChoose }: Props) {
  const palette = usePalette();
  const [box, width] = useWidth<HTMLDivElement>(1140);
  const buttons = useRef(new Map<string, SVGGElement>());
  // Where the names would run into each other they stand on two lines.
  const staggered = width < 820;
  const x = (i: number) => left + ((width - left - 12) * (i + 0.5)) / stages.length;
  const rows = drives.filter((d) => d.role === "original" || d.role === "clone") as (Drive & {
    role: Role;
  })[];
  const blocked = rows
    .find((d) => d.role === "clone")
    ?.pins.find((p) => p.state === "blocks" || p.state === "wrong-disk");

  const move = (e: KeyboardEvent, role: Role, i: number) => {
    const step = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] }[e.key];
    if (e.key === "Enter" || e.key === " ") {
      e.preventDefault();
      onChoose({ role, stage: stages[i]![0] });
    } else if (step) {
      e.preventDefault();
      const row = rows.findIndex((d) => d.role === role) + step[0]!;
      const next = rows[Math.min(Math.max(row, 0), rows.length - 1)];
      const column = Math.min(Math.max(i + step[1]!, 0), stages.length - 1);
      if (next) buttons.current.get(next.role + column)?.focus();
    }
  };

  return (
    <Box ref={box} sx={{ width: "100%" }}>
      <svg
        width={width}
        height={height}
        role="group"
        aria-label="The eight stages of the start, original and clone"
      >
        {rows.map((d) => (
          <g key={d.role} role="group" aria-label={d.role}>
            <text x="2" y={rowLine[d.role] + 5} fontSize="13" fontWeight="650" fill={palette.text.primary}>
              {d.role}
            </text>
            {d.role === "clone" && <Blade x={x} pins={d.pins} line={rowLine.clone} right={width - 4} />}
            <line
              x1={left - 4}
              x2={width - 4}
              y1={rowLine[d.role]}
              y2={rowLine[d.role]}
              stroke={palette.text.primary}
              strokeWidth="1.25"
            />
            {d.pins.map((pin, i) => (
              <PinButton
                key={pin.stage}
                ref={(el) => {
                  if (el) buttons.current.set(d.role + i, el);
                }}
                x={x(i)}
                line={rowLine[d.role]}
                cut={cuts[i] ?? 12}
                pin={pin}
                name={`${d.role}, ${stages[i]?.[1]}: ${stateWord[pin.state]}. ${pin.text}`}
                pressed={chosen?.role === d.role && chosen.stage === pin.stage}
                first={i === 0}
                onClick={() => onChoose({ role: d.role, stage: stages[i]![0] })}
                onKeyDown={(e) => move(e, d.role, i)}
              />
            ))}
          </g>
        ))}
        {stages.map(([stage, title], i) => (
          <text
            key={stage}
            x={x(i)}
            y={namesAt + (staggered ? (i % 2 ? 7 : -7) : 0)}
            textAnchor="middle"
            fontSize="13"
            aria-hidden="true"
            fontWeight={blocked?.stage === stage ? 650 : 400}
            fill={
              blocked?.stage !== stage
                ? palette.text.secondary
                : blocked.state === "blocks"
                  ? palette.meaning.rust
                  : palette.meaning.plum
            }
          >
            {title}
          </text>
        ))}
      </svg>
    </Box>
  );
}

interface PinButtonProps {
  ref: (el: SVGGElement | null) => void;
  x: number;
  line: number;
  cut: number;
  pin: Pin;
  name: string;
  pressed: boolean;
  first: boolean;
  onClick: () => void;
  onKeyDown: (e: KeyboardEvent) => void;
}

function PinButton({ ref, x, line, cut, pin, name, pressed, first, onClick, onKeyDown }: PinButtonProps) {
  const palette = usePalette();
  return (
    <g
      ref={ref}
      role="button"
      tabIndex={first ? 0 : -1}
      aria-label={name}
      aria-pressed={pressed}
      onClick={onClick}
      onKeyDown={onKeyDown}
      className="pin"
      style={{ cursor: "pointer" }}
      transform={`translate(${x} ${line})`}
    >
      <title>{name}</title>
      <rect
        className="pin-ground"
        x="-24"
        y="-31"
        width="48"
        height="62"
        rx="4"
        fill={pressed ? palette.meaning.tint : "transparent"}
        stroke={pressed ? palette.primary.main : "none"}
      />
      {pressed && <line x1="-24" x2="24" y1="0" y2="0" stroke={palette.text.primary} strokeWidth="1.25" />}
      <PinForm state={pin.state} cut={cut} />
      {pin.risks.length > 0 && (pin.state === "passes" || pin.state === "unproven") && (
        <path d="M13 -24l5 9h-10z" fill={palette.meaning.brass} />
      )}
    </g>
  );
}

/** A driver pin above, a key pin below; they part at the shear line when the pin passes. */
function PinForm({ state, cut }: { state: Pin["state"]; cut: number }) {
  const { meaning } = usePalette();
  const keyPin = (top: number, bottom: number) => `M-9 ${top}h18v${bottom - top - 6}l-9 6l-9 -6z`;
  switch (state) {
    case "passes":
      return (
        <>
          <rect x="-9" y="-22" width="18" height="20" rx="2" fill={meaning.solid} />
          <path d={keyPin(1.5, cut + 1)} fill={meaning.sea} className="pin-settles" />
        </>
      );
    case "blocks":
      return (
        <>
          <line x1="0" x2="0" y1="-26" y2="4" stroke={meaning.rust} strokeWidth="2" strokeDasharray="2 3" />
          <path d={keyPin(5, hang)} fill={meaning.rust} className="pin-settles" />
        </>
      );
    case "wrong-disk":
      return (
        <g fill="none" stroke={meaning.plum} strokeWidth="2.4" strokeLinecap="round">
          <circle cx="-6" cy="7" r="6" fill={meaning.plum} fillOpacity="0.25" />
          <path d="M-2 3L12 -12M8 -8l4 4M4 -4l3 3" />
        </g>
      );
    case "unproven":
      return <path d={keyPin(-14, cut)} fill="none" stroke={meaning.brass} strokeWidth="1.8" />;
    default:
      return <path d={keyPin(-10, 10)} fill="none" stroke={meaning.solid} strokeWidth="1.2" opacity="0.45" />;
  }
}

/** The key's brass blade beneath the clone's pins, its cuts meeting their tips. */
function Blade({
  x,
  pins,
  line,
  right,
}: {
  x: (i: number) => number;
  pins: Pin[];
  line: number;
  right: number;
}) {
  const { meaning } = usePalette();
  const ridge = line + 7;
  const edge = pins.map((pin, i) => {
    const deep = line + (pin.state === "blocks" ? hang : pin.state === "behind" ? 10 : (cuts[i] ?? 12)) + 2;
    return `L${x(i) - 16} ${ridge}L${x(i) - 8} ${deep - 5}L${x(i)} ${deep}L${x(i) + 8} ${deep - 5}L${x(i) + 16} ${ridge}`;
  });
  return (
    <g aria-hidden="true" fill={meaning.brass} fillOpacity="0.22" stroke={meaning.brass} strokeWidth="1">
      <path
        d={`M${left - 22} ${ridge}${edge.join("")}L${right - 14} ${ridge}L${right} ${line + 22}L${right - 10} ${line + 36}H${left - 22}z`}
      />
      <path
        fillRule="evenodd"
        d={`M${left - 22} ${line + 9}h-18a13 13 0 1 0 0 26h18zm-22 8a5 5 0 1 1 0 10a5 5 0 0 1 0 -10z`}
      />
    </g>
  );
}
