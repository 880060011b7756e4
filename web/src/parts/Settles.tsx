import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import type { Question } from "../api/client";

interface Props {
  questions: Question[];
  onAnswer: (q: Question, option: string) => void;
  busy: boolean;
}

/** The facts that would settle the verdict, best first, each with where to look and a way to answer. */
export function Settles({ questions, onAnswer, busy }: Props) {
  return (
    <Paper
      component="section"
      aria-label="What would settle it"
      sx={{ px: 1.5, py: 1, mb: 1.25, borderColor: "primary.main" }}
    >
      <Typography variant="h3">What would settle it</Typography>
      <Box component="ol" sx={{ m: 0, mt: 0.5, pl: 2.5 }}>
        {questions.map((q) => (
          <Box component="li" key={q.id} sx={{ py: 0.25 }}>
            <Box sx={{ display: "flex", flexWrap: "wrap", alignItems: "center", columnGap: 1 }}>
              <Typography variant="body2" sx={{ fontWeight: 600 }}>
                {q.text}
              </Typography>
              {q.fact &&
                q.options.map((o) => (
                  <Button
                    key={o.id}
                    variant="outlined"
                    disabled={busy}
                    onClick={() => onAnswer(q, o.id)}
                    sx={{ py: 0, minWidth: 44 }}
                    aria-label={`${o.label}: ${q.text}`}
                  >
                    {o.label}
                    {o.leads && (
                      <Box component="span" sx={{ fontWeight: 400, ml: 0.75 }}>
                        {o.leads}
                      </Box>
                    )}
                  </Button>
                ))}
            </Box>
            <Typography variant="body2" color="text.secondary">
              {q.how}
            </Typography>
          </Box>
        ))}
      </Box>
    </Paper>
  );
}
