import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { Link } from "react-router";
import { type Case, type Question } from "../api/client";
import { takeModelMemory } from "../api/memory";
import { useChangeCase, useModelMemory } from "../api/queries";
import { Changes } from "../parts/Changes";
import { ErrorNotice } from "../parts/ErrorNotice";

/** What other cases of the machine's model answer to what is asked, taken over only when a person agrees. */
export function ModelNotice({ case: c, questions }: { case: Case; questions: Question[] }) {
  const memory = useModelMemory(c.id, c.version).data;
  const take = useChangeCase((keys: string[]) => takeModelMemory(c.id, c.version, keys));
  const asked = (key: string) => questions.some((q) => q.fact === `choice:${key}`);
  const offered = memory?.facts.filter((f) => f.known && !f.told && asked(f.key)) ?? [];
  const open = memory?.facts.filter((f) => (!f.known && !f.told && asked(f.key)) || f.differs) ?? [];
  if (!memory || (offered.length === 0 && open.length === 0)) return null;
  return (
    <Paper component="section" aria-label="What is known of the model" sx={{ px: 1.5, py: 0.75, mb: 1.25 }}>
      {offered.map((f) => (
        <Box key={f.key} sx={{ display: "flex", alignItems: "center", gap: 1, flexWrap: "wrap" }}>
          <Typography variant="body2" sx={{ mr: "auto" }}>
            Other cases of the {memory.model} say: <b>{f.label}</b>: {f.value ? "yes" : "no"}. From{" "}
            <From from={f.from} />
          </Typography>
          <Changes quiet>
            <Button variant="outlined" disabled={take.isPending} onClick={() => take.mutate([f.key])}>
              Take it over
            </Button>
          </Changes>
        </Box>
      ))}
      {open.map((f) => (
        <Typography key={f.key} variant="body2" color="text.secondary">
          {f.known
            ? `This case was told otherwise than others of the ${memory.model}: `
            : `Cases of the ${memory.model} contradict each other, so it counts as not known: `}
          {f.label}. <From from={f.from} />
        </Typography>
      ))}
      {take.isError && <ErrorNotice error={take.error} />}
    </Paper>
  );
}

type Told = NonNullable<ReturnType<typeof useModelMemory>["data"]>["facts"][number]["from"];

function From({ from }: { from: Told }) {
  return (
    <>
      {from.slice(0, 4).map((t, i) => (
        <span key={`${t.case} ${t.start}`}>
          {i > 0 && ", "}
          <Link
            to={`/cases/${t.case}/check`}
            title={t.start ? "by a start that was seen" : "told by a person"}
          >
            {t.title}
          </Link>
          {` (${t.value ? "yes" : "no"}, ${t.start ? "seen" : "told"})`}
        </span>
      ))}
      {from.length > 4 && ` and ${from.length - 4} more`}.
    </>
  );
}
