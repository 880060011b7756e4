import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import LinearProgress from "@mui/material/LinearProgress";
import Typography from "@mui/material/Typography";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { judgeFleet } from "../api/memory";
import { useFleet, useMay } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { Section } from "../parts/Section";
import { ago } from "../parts/format";

/** All cases judged by the present rules, and whose verdict changed. */
export function Fleet() {
  const fleet = useFleet();
  const lead = useMay("lead");
  const client = useQueryClient();
  const again = useMutation({
    mutationFn: judgeFleet,
    onSuccess: (f) => client.setQueryData(["fleet"], f),
  });
  if (fleet.isLoadingError) return <ErrorNotice error={fleet.error} retry={() => void fleet.refetch()} />;
  const f = fleet.data;
  if (!f) return null;
  return (
    <Section title="All cases by the present rules" from={`rules of ${f.rules}`}>
      <Box sx={{ p: 1.5, display: "grid", gap: 1 }}>
        <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
          <Typography variant="body2" sx={{ mr: "auto" }} aria-live="polite">
            {f.judged < f.all
              ? `${f.judged} of ${f.all} are judged; the others follow by themselves.`
              : `All ${f.all} are judged.`}
          </Typography>
          {lead && (
            <Button variant="outlined" disabled={again.isPending} onClick={() => again.mutate()}>
              Judge all again
            </Button>
          )}
        </Box>
        {f.judged < f.all && (
          <LinearProgress
            variant="determinate"
            value={(100 * f.judged) / f.all}
            aria-label="Judging all cases"
          />
        )}
        {again.isError && <ErrorNotice error={again.error} />}
        {f.changes.length === 0 && (
          <Typography variant="body2" color="text.secondary">
            No verdict is another one by newer rules.
          </Typography>
        )}
        {f.changes.map((c) => (
          <Box key={c.case + c.rules}>
            <Typography
              variant="body2"
              component={Link}
              to={`/cases/${c.case}/check`}
              sx={{ color: "text.primary", fontWeight: 650, lineHeight: "24px" }}
            >
              {c.title}
            </Typography>
            <Typography variant="caption" color="text.secondary" component="span">
              {`  ${ago(c.at)}, rules of ${c.rulesBefore} → ${c.rules}`}
            </Typography>
            <Typography variant="body2">
              {c.before} → <b>{c.after}</b> {c.why}
            </Typography>
          </Box>
        ))}
      </Box>
    </Section>
  );
}
