import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControlLabel from "@mui/material/FormControlLabel";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import { Link, useOutletContext } from "react-router";
import type { Case, Plan, Repair, Toolbox } from "../api/client";
import { useAnswer, useMarkStep, useMay, usePlan } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { busName, when } from "../parts/format";
import { Settles } from "../parts/Settles";
import { useHeld } from "../parts/useHeld";
import { VerdictMark } from "../parts/VerdictMark";
import { PlanList } from "./PlanList";
import { StepPanel } from "./StepPanel";
import { toolboxName, toolboxes } from "./words";

/** The guided repair: the least risky plan, step by step, from what was really done. */
export default function RepairPage() {
  const c = useOutletContext<Case>();
  const [allowed, setAllowed] = useState<Toolbox[]>(toolboxes);
  const [picked, setPicked] = useState("");
  const boxes = allowed.length === toolboxes.length ? [] : allowed;
  const plan = usePlan(c.id, c.version, boxes);
  const mark = useMarkStep(c.id, boxes);
  const answer = useAnswer(c.id, boxes);
  const may = useMay("technician");
  const r = useHeld(c.id, plan.data);
  const failed = plan.isError && <ErrorNotice error={plan.error} retry={() => void plan.refetch()} />;
  if (!r) return failed || <LinearProgress aria-label="Planning the repair" />;
  const all = [...r.done, ...r.steps, ...r.alternatives.flatMap((p) => p.steps), ...r.afterwards];
  const step = all.find((s) => s.key === picked) ?? r.steps[0] ?? r.done.at(-1);
  const drive = c.drives.find((d) => d.role === step?.disk);
  const disk = drive
    ? [`the ${drive.role}`, drive.model, drive.capacity, drive.bus && busName[drive.bus]]
        .filter(Boolean)
        .join(" · ")
    : (step?.disk ?? "");
  return (
    <>
      {failed}
      <Summary repair={r} />
      {r.ask && (
        <Settles
          questions={[r.ask]}
          busy={answer.isPending || !may}
          onAnswer={(q, option) => answer.mutate({ version: c.version, question: q.id, option })}
        />
      )}
      {answer.isError && <ErrorNotice error={answer.error} />}
      <Toolboxes allowed={allowed} onChange={setAllowed} caseId={c.id} steps={r} />
      <Printed steps={r.steps} title={c.title} disk={disk} />
      {mark.isError && <ErrorNotice error={mark.error} />}
      <Box
        className="no-print"
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "1fr", md: "340px minmax(0, 1fr)" },
          gap: 1.5,
          alignItems: "start",
        }}
      >
        <Box>
          {r.done.length + r.steps.length > 0 && (
            <Paper sx={{ py: 0.5 }}>
              <PlanList
                before={r.steps.length > 0 ? r.before : undefined}
                followed
                done={r.done}
                steps={r.steps}
                chosen={step?.key ?? ""}
                onChoose={setPicked}
              />
            </Paper>
          )}
          {r.alternatives.map((p, i) => (
            <Alternative key={i} plan={p} chosen={step?.key ?? ""} onChoose={setPicked} />
          ))}
          {r.afterwards.length > 0 && (
            <Paper
              component="section"
              aria-label="Afterwards"
              className="no-print"
              sx={{ mt: 1.25, py: 0.5 }}
            >
              <Typography variant="body2" sx={{ fontWeight: 650, px: 1.25, pt: 0.5 }}>
                Worth doing once it starts
              </Typography>
              <PlanList done={[]} steps={r.afterwards} chosen={step?.key ?? ""} onChoose={setPicked} />
            </Paper>
          )}
          <History repair={r} />
        </Box>
        {step && (
          <StepPanel
            key={step.key}
            step={step}
            done={r.done.some((s) => s.key === step.key)}
            disk={disk}
            busy={mark.isPending}
            may={may}
            onMark={(m) => mark.mutate({ version: r.version, mark: m }, { onSuccess: () => setPicked("") })}
          />
        )}
      </Box>
    </>
  );
}

function Summary({ repair: r }: { repair: Repair }) {
  const ready = r.steps.length === 0 && r.verdict === "starts";
  const headline = ready
    ? r.done.length > 0
      ? "All steps are done: by the computation the clone starts."
      : "Nothing is to be repaired: the clone starts."
    : r.steps.length > 0
      ? `To a machine that starts from the clone: ${r.reason.charAt(0).toLowerCase()}${r.reason.slice(1)}`
      : r.ask
        ? "A question comes first."
        : "There is no plan.";
  return (
    <Box
      component="section"
      aria-label="The plan"
      aria-live="polite"
      className="no-print"
      sx={{ display: "flex", gap: 1.5, alignItems: "flex-start", my: 1.25 }}
    >
      <VerdictMark reaches={r.before.verdict} verdict={r.before.verdict} size={40} />
      <Box sx={{ flex: 1 }}>
        <Typography variant="h2">{headline}</Typography>
        <Typography color="text.secondary">
          {r.steps.length === 0 && !ready && !r.ask ? r.reason : `Now: ${r.before.headline}`}
          {r.done.length > 0 && ready && (
            <>
              {" "}
              Start it once with the clone alone, and take a capture or a listing as evidence:{" "}
              <Link to="../evidence">Evidence</Link>.
            </>
          )}
        </Typography>
        {r.vanished.length > 0 && (
          <Typography sx={{ color: "error.main", mt: 0.5 }}>
            {r.vanished.length === 1 ? "A step that was ticked off does" : "Steps that were ticked off do"}{" "}
            not fit the machine any more: the evidence has changed since. The plan is made from what is known
            now.
          </Typography>
        )}
      </Box>
    </Box>
  );
}

/** What a plan's steps for a toolbox are downloaded as. */
const scripts: [Toolbox, string][] = [
  ["linux", "Shell script"],
  ["windows-recovery", "Batch file"],
  ["old-drive", "Script for the old drive"],
];

function Toolboxes({
  allowed,
  onChange,
  caseId,
  steps: r,
}: {
  allowed: Toolbox[];
  onChange: (boxes: Toolbox[]) => void;
  caseId: number;
  steps: Repair;
}) {
  const capture = r.steps
    .flatMap((s) => s.commands)
    .map((x) => /latchkey-capture-windows-\w+/.exec(x.text)?.[0])
    .find(Boolean);
  const sum = (box: Toolbox) => r.scripts.find((s) => s.toolbox === box)?.sha256;
  const boxes = allowed.length === toolboxes.length ? "" : allowed.join(",");
  const script = (box: Toolbox) =>
    `/api/v1/cases/${caseId}/plan/script?toolbox=${box}&toolboxes=${boxes}&plan=${r.fingerprint}`;
  return (
    <Box
      className="no-print"
      role="group"
      aria-label="Toolboxes at hand"
      sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 2, mb: 1.25 }}
    >
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        At hand
      </Typography>
      {toolboxes.map((box) => (
        <FormControlLabel
          key={box}
          label={<Typography variant="body2">{toolboxName[box]}</Typography>}
          control={
            <Checkbox
              size="small"
              sx={{ p: 0.5 }}
              checked={allowed.includes(box)}
              disabled={allowed.length === 1 && allowed.includes(box)}
              onChange={(e) =>
                onChange(toolboxes.filter((b) => (b === box ? e.target.checked : allowed.includes(b))))
              }
            />
          }
        />
      ))}
      <Box sx={{ ml: "auto", display: "flex", gap: 1 }}>
        {scripts.map(
          ([box, name]) =>
            sum(box) && (
              <Button
                key={box}
                component="a"
                href={script(box)}
                download
                title={`SHA-256 of the file: ${sum(box)}`}
              >
                {name}
              </Button>
            ),
        )}
        {r.steps.length > 0 && r.forStick && (
          <Button
            component="a"
            href={`/api/v1/cases/${caseId}/plan/stick`}
            download
            title="For Latchkey's stick: lay the file on it, beside the folder LATCHKEY. It is carried out on this case's disks alone."
          >
            Plan for the stick
          </Button>
        )}
        {capture && (
          <Button
            component="a"
            href={`/downloads/${capture}.exe`}
            download
            title="Saves the sectors: lay it beside the batch file"
          >
            Capture command
          </Button>
        )}
        {r.steps.length > 0 && <Button onClick={() => window.print()}>Print</Button>}
      </Box>
    </Box>
  );
}

/** The whole plan for paper, with boxes to tick; not on the screen. */
function Printed({ steps, title, disk }: { steps: Repair["steps"]; title: string; disk: string }) {
  return (
    <Box className="print-only" sx={{ display: "none", columnCount: 2, columnGap: "24px" }}>
      <Typography variant="h3">
        {title}: {disk}
      </Typography>
      {steps.map((s, i) => (
        <Box key={s.key} sx={{ mt: 1.5 }}>
          <Typography variant="h3">
            ☐ {i + 1}. {s.title} ({toolboxName[s.toolbox]})
          </Typography>
          {s.commands.map((x, j) => (
            <Box key={j} sx={{ mt: 0.75, breakInside: "avoid" }}>
              <Box component="pre" className="mono" sx={{ m: 0, whiteSpace: "pre-wrap", lineHeight: 1.2 }}>
                ☐ {x.typed ?? x.text}
              </Box>
              <Typography variant="body2">
                Good: {x.good} Otherwise: {x.bad}
              </Typography>
            </Box>
          ))}
          <Typography variant="body2">
            Save first: {s.save} Undo: {s.undo}
            {s.passphrase && ` The passphrase of ${s.passphrase} is asked for.`}
          </Typography>
        </Box>
      ))}
    </Box>
  );
}

function Alternative({
  plan,
  chosen,
  onChoose,
}: {
  plan: Plan;
  chosen: string;
  onChoose: (key: string) => void;
}) {
  return (
    <Paper component="section" aria-label="Another way" className="no-print" sx={{ mt: 1.25, py: 0.5 }}>
      <Typography variant="body2" sx={{ fontWeight: 650, px: 1.25, pt: 0.5 }}>
        Or otherwise
      </Typography>
      <Typography variant="caption" sx={{ px: 1.25 }}>
        {plan.reason}
      </Typography>
      <PlanList
        name="Steps of the other way"
        done={[]}
        steps={plan.steps}
        chosen={chosen}
        onChoose={onChoose}
      />
    </Paper>
  );
}

function History({ repair: r }: { repair: Repair }) {
  if (r.marks.length === 0) return null;
  return (
    <Paper component="section" aria-label="What was done" className="no-print" sx={{ mt: 1.25, p: 1.25 }}>
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        What was done
      </Typography>
      {[...r.marks].reverse().map((m) => (
        <Box key={m.at} sx={{ mt: 0.5 }}>
          <Typography variant="body2">
            {m.state}: {m.title}
          </Typography>
          <Typography variant="caption" color="text.secondary">
            {m.who}, {when(m.at)}
          </Typography>
          {m.remark && (
            <Typography variant="body2" sx={{ fontWeight: 650 }}>
              {m.remark}
            </Typography>
          )}
          {m.note && (
            <Box component="pre" className="mono" tabIndex={0} sx={{ m: 0, maxHeight: 80, overflow: "auto" }}>
              {m.note}
            </Box>
          )}
        </Box>
      ))}
    </Paper>
  );
}
