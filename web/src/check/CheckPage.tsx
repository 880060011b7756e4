import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Tab from "@mui/material/Tab";
import Tabs from "@mui/material/Tabs";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { useNavigate, useOutletContext } from "react-router";
import {
  type Attempt,
  type Case,
  type CaseInput,
  type Check,
  type Partition,
  type Row,
  type WhatIf as Change,
  inputOf,
} from "../api/client";
import { useAnswer, useCheck, useMay, useUpdateCase } from "../api/queries";
import { groupNumbers } from "../parts/format";
import { useHeld } from "../parts/useHeld";
import { ErrorNotice } from "../parts/ErrorNotice";
import { stageTitle, stateWord } from "../parts/stages";
import { VerdictMark } from "../parts/VerdictMark";
import { Attempts } from "./Attempts";
import { Comparison } from "./Comparison";
import { Detail, type DetailContent } from "../parts/Detail";
import { ModelNotice } from "./ModelNotice";
import { type PinChoice, PinRows } from "./PinRows";
import { Runs } from "./Runs";
import { Said } from "./Said";
import { Settles } from "../parts/Settles";
import { Strata } from "./Strata";
import { WhatIf } from "./WhatIf";
import { withChange } from "./change";
import { pathOf } from "../parts/attempt";

/** The start check: verdict, pins, strata, comparison, and what would settle it. */
export default function CheckPage() {
  const c = useOutletContext<Case>();
  const [change, setChange] = useState<Change | null>(null);
  const check = useCheck(c.id, c.version, change);
  const update = useUpdateCase(c.id);
  const answer = useAnswer(c.id);
  const may = useMay("technician");
  const save = (input: CaseInput | undefined) =>
    input && update.mutate({ version: c.version, input }, { onSuccess: () => setChange(null) });

  const held = useHeld(c.id, check.data);
  const failed = check.isError && <ErrorNotice error={check.error} retry={() => void check.refetch()} />;
  if (!held) return failed || <LinearProgress aria-label="Running the start check" />;
  if (held.drives.every((d) => !d.disk)) return <NothingYet />;
  return (
    <>
      {failed}
      {update.isError && <ErrorNotice error={update.error} />}
      {answer.isError && <ErrorNotice error={answer.error} />}
      <Verdict check={held} supposed={change !== null} />
      <ModelNotice case={c} questions={held.trace.missing} />
      {held.trace.reaches === "depends" && (
        <Settles
          questions={held.trace.missing}
          busy={update.isPending || answer.isPending || !may}
          onAnswer={(q, option) => answer.mutate({ version: c.version, question: q.id, option })}
        />
      )}
      <Board
        case={c}
        check={held}
        whatIf={
          <WhatIf
            case={c}
            entries={held.entries}
            change={change}
            onChange={setChange}
            keeping={update.isPending}
            onKeep={() => change && save(withChange(c, change))}
          />
        }
      />
      <Said
        key={c.said}
        said={c.said ?? ""}
        judgement={held.symptom}
        busy={update.isPending || !may}
        onSay={(said) => save({ ...inputOf(c), said: said.trim() })}
      />
    </>
  );
}

function NothingYet() {
  const navigate = useNavigate();
  return (
    <Paper sx={{ p: 3, mt: 2, maxWidth: 620 }}>
      <Typography variant="h2">Nothing to check yet</Typography>
      <Typography sx={{ my: 1 }}>
        Add the first bytes of the original and of the clone. The check reads their partition tables, boot
        partitions and loaders, and says where the start stops and why.
      </Typography>
      <Button variant="contained" onClick={() => void navigate("../evidence")}>
        Add evidence
      </Button>
    </Paper>
  );
}

function Verdict({ check: { trace, rules }, supposed }: { check: Check; supposed: boolean }) {
  const depends = trace.reaches === "depends";
  return (
    <Box
      component="section"
      aria-label="Verdict"
      aria-live="polite"
      sx={{ display: "flex", gap: 1.5, alignItems: "flex-start", my: 1.25 }}
    >
      <VerdictMark reaches={trace.reaches} verdict={trace.verdict} size={40} />
      <Box sx={{ flex: 1, minWidth: 0 }}>
        <Typography variant="h2">{trace.headline}</Typography>
        <Typography color="text.secondary" variant="body1">
          {depends ? "The answers below lead to different ends." : groupNumbers(trace.reason)}
        </Typography>
      </Box>
      <Typography variant="caption" color="text.secondary" sx={{ whiteSpace: "nowrap", textAlign: "right" }}>
        {supposed ? "supposed machine, not saved" : `rules of ${rules}`}
        {trace.worlds > 1 && (
          <>
            <br />
            {trace.worlds} ways tried in which the unknown facts can stand
          </>
        )}
      </Typography>
    </Box>
  );
}

/** What the machine tries, one line an attempt, above the disks. */
function Tried({
  attempts,
  worlds,
  onOpen,
}: {
  attempts: Attempt[];
  worlds: number;
  onOpen: (a: Attempt, n: number) => void;
}) {
  return (
    <Paper component="section" aria-label="What the machine tries" sx={{ px: 0.75, py: 0.25, mb: 1.25 }}>
      <Box sx={{ display: "flex", gap: 1, alignItems: "baseline" }}>
        <Typography
          variant="body2"
          component="h3"
          sx={{ fontWeight: 650, flex: "none", px: 0.75, py: 0.25, width: 62 }}
        >
          {worlds > 1 ? "May try" : "Tries"}
        </Typography>
        <Box sx={{ flex: 1, minWidth: 0, maxHeight: 54, overflow: "auto" }}>
          {attempts.length > 0 ? (
            <Attempts attempts={attempts} onOpen={onOpen} compact />
          ) : (
            <Typography variant="body2" sx={{ py: 0.25 }}>
              Nothing: no drive is attached.
            </Typography>
          )}
        </Box>
      </Box>
    </Paper>
  );
}

/** The comparison of the disks, or the start with one drive and both. */
function SidePanel({
  check,
  onRow,
  onAttempt,
}: {
  check: Check;
  onRow: (r: Row) => void;
  onAttempt: (a: Attempt, n: number) => void;
}) {
  const [view, setView] = useState<"differs" | "runs">("differs");
  const count = (...of: Row["matter"][]) => check.comparison.rows.filter((r) => of.includes(r.matter)).length;
  const deciding = count("decides");
  const open = count("not known");
  return (
    <Box sx={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}>
      <Tabs
        value={view}
        onChange={(_, v: "differs" | "runs") => setView(v)}
        aria-label="Comparison or starts"
        sx={{ minHeight: 34, px: 0.5, borderBottom: 1, borderColor: "divider", flex: "none" }}
      >
        <Tab value="differs" label="What differs" sx={{ minHeight: 34, py: 0 }} />
        <Tab value="runs" label="One drive, or both" sx={{ minHeight: 34, py: 0 }} />
        {view === "differs" && (
          <Typography
            variant="caption"
            color="text.secondary"
            sx={{ ml: "auto", mr: 1, alignSelf: "center" }}
          >
            {count("decides", "matters", "fine")} differ · {deciding} {deciding === 1 ? "decides" : "decide"}
            {open > 0 && ` · ${open} not known`}
          </Typography>
        )}
      </Tabs>
      {view === "differs" ? (
        <Comparison rows={check.comparison.rows} onOpen={onRow} />
      ) : (
        <Runs runs={check.runs} onOpen={onAttempt} />
      )}
    </Box>
  );
}

function Board({ case: c, check, whatIf }: { case: Case; check: Check; whatIf: React.ReactNode }) {
  const [pin, setPin] = useState<PinChoice | null>(null);
  const [detail, setDetail] = useState<DetailContent | null>(null);
  const drive = (role: string) => check.drives.find((d) => d.role === role);
  const openPin = (choice: PinChoice) => {
    const found = drive(choice.role)?.pins.find((p) => p.stage === choice.stage);
    if (!found) return;
    setPin(choice);
    setDetail({
      title: `${stageTitle(choice.stage)}, ${choice.role}: ${stateWord[found.state]}`,
      text: found.text,
      facts: found.facts,
      risks: found.risks,
    });
  };
  const openAttempt = (a: Attempt, number: number) =>
    setDetail({
      title: `Attempt ${number}: ${pathOf(a)}`,
      text: a.handsOver
        ? "Its loader was started."
        : a.symptom
          ? `On the screen: ${a.symptom}`
          : "Nothing was started.",
      steps: a.steps,
      facts: [],
      risks: [],
    });
  const openPartition = (role: string, p: Partition) =>
    setDetail({
      title: `Partition ${p.number} of the ${role}`,
      text: `${p.type}, ${p.size.label} · ${p.size.binary}, ${p.kind}${p.label ? ` “${p.label}”` : ""}.`,
      facts: [
        {
          label: "Entry in the partition table",
          value: p.guid ?? `type and place of partition ${p.number}`,
          source: p.source,
        },
      ],
      risks: [],
    });
  return (
    <>
      <Paper component="section" aria-label="Pins" sx={{ px: 1.5, pt: 0.25, mb: 1.25 }}>
        <PinRows drives={check.drives} chosen={pin} onChoose={openPin} />
      </Paper>
      <Tried attempts={check.trace.attempts} worlds={check.trace.worlds} onOpen={openAttempt} />
      <Box sx={{ display: "flex", gap: 1.5, flexWrap: { xs: "wrap", md: "nowrap" }, alignItems: "stretch" }}>
        <Paper
          component="section"
          aria-label="Strata"
          sx={{ width: { xs: "100%", md: "37%" }, minWidth: 340, flex: "none", alignSelf: "flex-start" }}
        >
          <Strata
            compact={check.trace.reaches === "depends"}
            original={drive("original")}
            clone={drive("clone")}
            pairs={check.comparison.pairs}
            onPick={openPartition}
          />
        </Paper>
        <Paper
          component="section"
          aria-label="Comparison"
          sx={{
            flex: 1,
            minWidth: 0,
            display: "flex",
            flexDirection: "column",
            maxHeight: { md: check.trace.reaches === "depends" ? 306 : 386 },
          }}
        >
          <SidePanel
            check={check}
            onAttempt={openAttempt}
            onRow={(r) =>
              setDetail({
                title: r.label,
                text: r.meaning || "The same on both disks.",
                facts: r.facts,
                risks: [],
              })
            }
          />
          {whatIf}
        </Paper>
      </Box>
      <Detail
        caseId={c.id}
        content={detail}
        onClose={() => {
          setDetail(null);
          setPin(null);
        }}
      />
    </>
  );
}
