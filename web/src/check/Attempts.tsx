import Box from "@mui/material/Box";
import ButtonBase from "@mui/material/ButtonBase";
import Typography from "@mui/material/Typography";
import type { Attempt } from "../api/client";
import { groupNumbers } from "../parts/format";
import { stageTitle } from "../parts/stages";
import { pathOf, whyOf } from "../parts/attempt";

interface Props {
  attempts: Attempt[];
  /** Opens what stands behind an attempt. */
  onOpen: (a: Attempt, number: number) => void;
  /** One line an attempt, for the narrow strip. */
  compact?: boolean;
}

/** What the firmware tries, in order: tried, led to, stopped because. */
export function Attempts({ attempts, onOpen, compact }: Props) {
  return (
    <Box component="ol" sx={{ m: 0, p: 0, listStyle: "none" }}>
      {attempts.map((a, i) => (
        <Box component="li" key={i}>
          <ButtonBase
            onClick={() => onOpen(a, i + 1)}
            sx={{
              width: "100%",
              justifyContent: "flex-start",
              alignItems: "baseline",
              textAlign: "left",
              columnGap: 1,
              px: 0.75,
              py: compact ? 0.25 : 0.6,
              borderRadius: 1,
              flexWrap: compact ? "nowrap" : "wrap",
              "&:hover": { bgcolor: (t) => (t.vars ?? t).palette.meaning.tint },
            }}
          >
            <Typography component="span" variant="body2" color="text.secondary" sx={{ flex: "none" }}>
              {i + 1}
            </Typography>
            <Typography
              component="span"
              variant="body2"
              sx={{ fontWeight: 600, flex: compact ? "none" : 1, minWidth: 0, overflowWrap: "anywhere" }}
            >
              {pathOf(a)}
            </Typography>
            <Outcome attempt={a} compact={compact} />
          </ButtonBase>
        </Box>
      ))}
    </Box>
  );
}

function Outcome({ attempt: a, compact }: { attempt: Attempt; compact?: boolean }) {
  const { word, stage, text, colour } = whyOf(a);
  return (
    <Typography
      component="span"
      variant="body2"
      noWrap={compact}
      title={compact ? text : undefined}
      sx={{ minWidth: 0, flex: compact ? undefined : "1 0 100%" }}
    >
      <Box component="span" sx={{ color: colour, fontWeight: 650 }}>
        {word}
        {stage && ` at ${stageTitle(stage).toLowerCase()}`}
      </Box>
      {": "}
      {groupNumbers(text)}
      {!compact && a.symptom && !a.handsOver && (
        <Box component="span" sx={{ color: "text.secondary" }}>
          {" "}
          On the screen: {a.symptom}
        </Box>
      )}
      {!compact && a.also && a.also.length > 0 && (
        <Box component="span" sx={{ color: "text.secondary" }}>
          {" "}
          The entry could mean {a.also.join(", ")} just as well.
        </Box>
      )}
    </Typography>
  );
}
