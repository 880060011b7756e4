import Box from "@mui/material/Box";
import ButtonBase from "@mui/material/ButtonBase";
import Typography from "@mui/material/Typography";
import type { PlanStep, State } from "../api/client";
import { usePalette } from "../parts/palette";
import { riskWord } from "../api/generated/words";
import { toolboxName } from "./words";

interface Props {
  /** What the list is called by those who do not see it. */
  name?: string;
  /** How the machine stands before the first of the steps that are left. */
  before?: State;
  /** The plan that is followed: its first step is the next one. */
  followed?: boolean;
  done: PlanStep[];
  steps: PlanStep[];
  chosen: string;
  onChoose: (key: string) => void;
}

/** The plan as steps: what is done, what comes next, and how the clone's pins stand after each. */
export function PlanList({
  name = "Steps of the plan",
  before,
  followed,
  done,
  steps,
  chosen,
  onChoose,
}: Props) {
  return (
    <Box component="ol" aria-label={name} sx={{ m: 0, p: 0, listStyle: "none" }}>
      {done.map((s, i) => (
        <Line
          key={s.key}
          number={i + 1}
          step={s}
          done
          chosen={chosen === s.key}
          onClick={() => onChoose(s.key)}
        />
      ))}
      {before && (
        <Box component="li" sx={{ px: 1, py: 0.5, pl: "36px" }}>
          <Typography variant="caption" sx={{ display: "block" }}>
            Now: {before.headline}
          </Typography>
          <PinLine state={before} />
        </Box>
      )}
      {steps.map((s, i) => (
        <Line
          key={s.key}
          number={done.length + i + 1}
          step={s}
          next={followed && i === 0}
          chosen={chosen === s.key}
          onClick={() => onChoose(s.key)}
        />
      ))}
    </Box>
  );
}

function Line({
  number,
  step,
  done,
  next,
  chosen,
  onClick,
}: {
  number: number;
  step: PlanStep;
  done?: boolean;
  next?: boolean;
  chosen: boolean;
  onClick: () => void;
}) {
  const word = done ? "done" : next ? "next" : "";
  return (
    <Box component="li">
      <ButtonBase
        onClick={onClick}
        aria-current={chosen ? "step" : undefined}
        sx={{
          width: "100%",
          justifyContent: "flex-start",
          alignItems: "flex-start",
          textAlign: "left",
          gap: 1,
          px: 1,
          py: 0.75,
          borderLeft: 3,
          borderColor: chosen ? "primary.main" : "transparent",
          bgcolor: (t) => (chosen ? (t.vars ?? t).palette.meaning.tint : "transparent"),
        }}
      >
        <Typography variant="body2" component="span" color="text.secondary" sx={{ width: 16, flex: "none" }}>
          {done ? "✓" : number}
        </Typography>
        <Box component="span" sx={{ minWidth: 0 }}>
          <Typography variant="body2" component="span" sx={{ fontWeight: 600, display: "block" }}>
            {step.title}
          </Typography>
          <Typography variant="caption" component="span" color="text.secondary" sx={{ display: "block" }}>
            {[word, toolboxName[step.toolbox], `${step.minutes} min`, riskWord[step.risk]]
              .filter(Boolean)
              .join(" · ")}
          </Typography>
          {step.after.pins.length > 0 && <PinLine state={step.after} />}
        </Box>
      </ButtonBase>
    </Box>
  );
}

/** The clone's eight pins at a step, small: at the line, hanging, or hollow. */
function PinLine({ state: { pins, headline } }: { state: State }) {
  const palette = usePalette();
  return (
    <svg width="112" height="18" role="img" aria-label={`The pins: ${headline}`}>
      <line x1="0" x2="112" y1="6" y2="6" stroke={palette.text.secondary} />
      {pins.map((p, i) => {
        const x = 4 + i * 14;
        if (p.state === "passes")
          return <rect key={p.stage} x={x} y="6" width="7" height="7" fill={palette.meaning.sea} />;
        if (p.state === "blocks")
          return <rect key={p.stage} x={x} y="10" width="7" height="7" rx="1" fill={palette.meaning.rust} />;
        return (
          <rect
            key={p.stage}
            x={x}
            y="2"
            width="7"
            height="9"
            fill="none"
            stroke={p.state === "wrong-disk" ? palette.meaning.plum : palette.meaning.brass}
            opacity={p.state === "behind" ? 0.5 : 1}
          />
        );
      })}
    </svg>
  );
}
