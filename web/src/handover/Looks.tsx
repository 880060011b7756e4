import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Case, type HandOver, type LookAt } from "../api/client";
import { addAnswer, hideRecovery, lookAt, withdrawAnswer } from "../api/handover";
import { useChangeCase } from "../api/queries";
import { Changes } from "../parts/Changes";
import { CommandBlock } from "../parts/CommandBlock";
import { ErrorNotice } from "../parts/ErrorNotice";
import { ago } from "../parts/format";
import { LookMark } from "./LookMark";
import { Section } from "../parts/Section";
import { WorkView } from "./WorkView";

/** What to look at in the running system, each with its command; pasted answers are judged. */
export function Looks({ case: c, handOver: h }: { case: Case; handOver: HandOver }) {
  const [open, setOpen] = useState<string | null>(null);
  const done = h.looks.filter((l) => l.state === "right" || l.state === "aside").length;
  return (
    <Section
      title="What to look at in the running system"
      from={`${done} of ${h.looks.length} · from what this case has`}
    >
      <Box component="ul" sx={{ listStyle: "none", m: 0, p: 0 }}>
        {h.looks.map((l) => (
          <Line
            key={l.key}
            case={c}
            look={l}
            open={open === l.key}
            onOpen={(o) => setOpen(o ? l.key : null)}
          />
        ))}
      </Box>
      <Answers case={c} handOver={h} />
    </Section>
  );
}

function Line({
  case: c,
  look: l,
  open,
  onOpen,
}: {
  case: Case;
  look: LookAt;
  open: boolean;
  onOpen: (open: boolean) => void;
}) {
  const tick = useChangeCase((seen: boolean) => lookAt(c.id, c.version, l.key, seen));
  const ticked = l.who !== undefined;
  return (
    <Box component="li" sx={{ px: 1.5, py: 0.5, borderBottom: 1, borderColor: "divider" }}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
        <LookMark state={l.state} />
        <Typography variant="body2" sx={{ mr: "auto", fontWeight: l.state === "wrong" ? 650 : 400 }}>
          {l.text}
        </Typography>
        {ticked && (
          <Typography variant="caption" color="text.secondary" sx={{ whiteSpace: "nowrap" }}>
            {l.state === "aside" ? "left so, " : "seen, "}
            {l.who}
            {l.at && `, ${ago(l.at)}`}
          </Typography>
        )}
        <Button
          aria-expanded={open}
          aria-label={`How to look: ${l.text}`}
          onClick={() => onOpen(!open)}
          sx={{ whiteSpace: "nowrap" }}
        >
          {l.state === "wrong" ? "put it right" : "how to look"}
        </Button>
      </Box>
      {open && (
        <Box sx={{ display: "grid", gap: 1, py: 1, pl: 3.5 }}>
          <Typography variant="body2" color="text.secondary">
            It is asked because {l.why}.
          </Typography>
          {l.remedy && <Typography variant="body2">To put it right: {l.remedy}</Typography>}
          {l.hide !== undefined && <TakeLetterOff case={c} partition={l.hide} />}
          {l.ask && <CommandBlock title={`In ${l.shell}. Paste the answer below.`} commands={l.ask} />}
          <Changes quiet>
            {l.byHand && (
              <Button
                variant="outlined"
                sx={{ justifySelf: "start" }}
                disabled={tick.isPending}
                onClick={() => tick.mutate(!ticked)}
              >
                {ticked ? "Look again" : l.state === "wrong" ? "Leave it so" : "I looked: it is right"}
              </Button>
            )}
          </Changes>
          {tick.isError && <ErrorNotice error={tick.error} />}
        </Box>
      )}
    </Box>
  );
}

function TakeLetterOff({ case: c, partition }: { case: Case; partition: number }) {
  const work = useQuery({
    queryKey: ["recovery-letter", c.id, c.version, partition],
    queryFn: () => hideRecovery(c.id, partition),
    retry: false,
  });
  if (work.isLoadingError) return <ErrorNotice error={work.error} />;
  return work.data ? (
    <WorkView work={work.data} name="take-the-letter-off" touches="the clone's recovery partition" />
  ) : null;
}

/** One field for the answers of any of the commands, and what was understood of them. */
function Answers({ case: c, handOver: h }: { case: Case; handOver: HandOver }) {
  const [text, setText] = useState("");
  const add = useChangeCase((t: string) => addAnswer(c.id, c.version, t));
  const back = useChangeCase((answer: number) => withdrawAnswer(c.id, c.version, answer));
  return (
    <Box sx={{ p: 1.5, display: "grid", gap: 1 }}>
      <Changes quiet>
        <TextField
          multiline
          minRows={1}
          maxRows={6}
          label="Paste what the commands answered, one or several"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        {text.trim() !== "" && (
          <Button
            variant="contained"
            sx={{ justifySelf: "start" }}
            disabled={add.isPending}
            onClick={() => add.mutate(text, { onSuccess: () => setText("") })}
          >
            Judge it
          </Button>
        )}
      </Changes>
      {add.isError && <ErrorNotice error={add.error} />}
      {h.answers.map((a) => (
        <Box key={a.id} sx={{ display: "flex", alignItems: "baseline", gap: 1 }}>
          <Typography variant="caption" color="text.secondary" sx={{ mr: "auto" }}>
            {ago(a.at)}, {a.who}: {[...new Set(a.means)].join(", ")}
          </Typography>
          <Changes quiet>
            <Button
              disabled={back.isPending}
              aria-label={`Take back the answer of ${a.who}, ${ago(a.at)}`}
              onClick={() => back.mutate(a.id)}
            >
              Take back
            </Button>
          </Changes>
        </Box>
      ))}
      {back.isError && <ErrorNotice error={back.error} />}
    </Box>
  );
}
