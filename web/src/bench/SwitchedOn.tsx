import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useEffect, useState } from "react";
import type { Attempt, Bench, Benched } from "../api/client";
import { useBench } from "../api/queries";
import { whyOf, pathOf } from "../parts/attempt";
import { Settles } from "../parts/Settles";
import { ErrorNotice } from "../parts/ErrorNotice";
import { groupNumbers } from "../parts/format";
import { stageTitle, stateWord } from "../parts/stages";
import { VerdictMark } from "../parts/VerdictMark";

interface Props {
  bench: Bench;
  onAnswer: (answers: Record<string, string>) => void;
}

/** Milliseconds between two attempts while the machine runs by itself. */
const pace = 900;

/** The machine under power: its attempts one by one, and how it ended. */
export function SwitchedOn({ bench, onAnswer }: Props) {
  const [on, setOn] = useState(false);
  const [shown, setShown] = useState(1);
  const result = useBench(bench);
  const total = result.data?.trace.attempts.length ?? 0;
  const done = shown >= total;
  useEffect(() => {
    if (!on || done) return;
    const timer = setTimeout(() => setShown((n) => n + 1), pace);
    return () => clearTimeout(timer);
  }, [on, done, shown]);

  if (bench.drives.length === 0)
    return (
      <Paper sx={{ p: 2 }}>
        <Typography variant="h2">An empty bench</Typography>
        <Typography sx={{ mt: 1 }}>
          Take disks from any case, say what they hang on and in which order the firmware comes to them, then
          switch the machine on and watch what it tries. Nothing here changes a case.
        </Typography>
      </Paper>
    );
  return (
    <Paper component="section" aria-label="Switched on" sx={{ p: 1.5 }}>
      {result.isError && <ErrorNotice error={result.error} retry={() => void result.refetch()} />}
      <Box sx={{ display: "flex", gap: 1, mb: 1 }}>
        <Button
          variant="contained"
          disabled={!result.data}
          onClick={() => {
            setOn(true);
            setShown(1);
          }}
        >
          {on ? "Switch off and on again" : "Switch on"}
        </Button>
        {on && !done && (
          <>
            <Button variant="outlined" onClick={() => setShown((n) => n + 1)}>
              Next attempt
            </Button>
            <Button onClick={() => setShown(total)}>To the end</Button>
          </>
        )}
      </Box>
      {on && result.data && (
        <>
          <Screen attempts={result.data.trace.attempts.slice(0, shown)} />
          {done && <Ended result={result.data} bench={bench} onAnswer={onAnswer} />}
        </>
      )}
    </Paper>
  );
}

/** The attempts so far, each with its stages. */
function Screen({ attempts }: { attempts: Attempt[] }) {
  return (
    <Box component="ol" aria-live="polite" aria-label="Attempts" sx={{ m: 0, p: 0, listStyle: "none" }}>
      {attempts.map((a, i) => {
        const why = whyOf(a);
        return (
          <Box component="li" key={i} sx={{ borderTop: 1, borderColor: "divider", py: 0.75 }}>
            <Typography variant="body2" sx={{ fontWeight: 650 }}>
              {i + 1}. {pathOf(a)}
            </Typography>
            <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1.5 }}>
              {a.steps.map((s, j) => (
                <Typography
                  key={j}
                  variant="body2"
                  component="span"
                  title={s.text}
                  sx={{
                    color: s.state === "blocks" ? "error.main" : "text.secondary",
                    fontWeight: s.state === "blocks" ? 650 : 400,
                  }}
                >
                  {stageTitle(s.stage)} {stateWord[s.state] ?? s.state}
                </Typography>
              ))}
            </Box>
            <Typography variant="body2">
              <Box component="span" sx={{ color: why.colour, fontWeight: 650 }}>
                {why.word}
              </Box>
              : {groupNumbers(why.text)}
            </Typography>
            {a.symptom && !a.handsOver && (
              <Typography variant="body2" color="text.secondary">
                On the screen: {a.symptom}
              </Typography>
            )}
          </Box>
        );
      })}
    </Box>
  );
}

function Ended({ result, bench, onAnswer }: { result: Benched; bench: Bench; onAnswer: Props["onAnswer"] }) {
  const { trace } = result;
  return (
    <Box sx={{ borderTop: 1, borderColor: "divider", pt: 1 }}>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "center", mb: 1 }}>
        <VerdictMark reaches={trace.reaches} verdict={trace.verdict} />
        <Box>
          <Typography variant="h2">{trace.headline}</Typography>
          {trace.reaches !== "depends" && (
            <Typography color="text.secondary">{groupNumbers(trace.reason)}</Typography>
          )}
        </Box>
      </Box>
      {trace.reaches === "depends" && (
        <Settles
          questions={trace.missing}
          busy={false}
          onAnswer={(q, option) => onAnswer({ ...bench.answers, [q.id]: option })}
        />
      )}
    </Box>
  );
}
