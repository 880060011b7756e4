import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import type { Preparing } from "../api/client";
import { groupNumbers } from "../parts/format";
import { usePalette } from "../parts/palette";

/** The four answers that come before everything else. */
export function Answers({ preparing: p }: { preparing: Preparing }) {
  const { meaning } = usePalette();
  const starts = p.ways.filter((w) => w.verdict === "starts" && w.whole === "starts").length;
  const may = p.ways.filter((w) => w.verdict === "depends" || w.whole === "depends").length;
  const later = p.ways.filter((w) => w.verdict !== "starts" && w.after.length > 0).length;
  const first = p.ready.find((l) => !l.evidence && !l.who);
  const fits = {
    "as-it-is": ["Yes, as it is", meaning.sea],
    smaller: ["Yes, made smaller", meaning.sea],
    no: ["No", meaning.rust],
    unknown: ["Not known yet", meaning.brass],
  }[p.answer.fits] as [string, string];
  const spare =
    p.answer.fits === "no" && p.answer.spare.length > 0
      ? ` ${p.answer.spare.length > 1 ? "Partitions" : "Partition"} ${p.answer.spare.join(", ")} could stay behind without harm to the start.`
      : "";
  const answers: [string, string, string, string?][] = [
    ["Does it fit?", fits[0], [p.answer.trap, p.answer.says + spare].filter(Boolean).join(" "), fits[1]],
    [
      "Will the copy start?",
      p.ways.length === 0
        ? "Not known yet"
        : p.answer.fits === "no"
          ? "Not yet"
          : starts > 0 || may === 0
            ? `By ${starts} of ${p.ways.length} ways`
            : "It depends",
      p.ways.length === 0
        ? "It takes the new drive's capacity, and evidence of the original."
        : p.recommends +
          (later > 0 && p.answer.fits !== "no"
            ? later === 1
              ? " Another one after some steps."
              : ` ${later} others after some steps.`
            : ""),
      starts > 0 ? meaning.sea : may > 0 || p.ways.length === 0 ? meaning.brass : meaning.rust,
    ],
    [
      "How long?",
      p.time.words === "not known" ? "Not known yet" : p.time.words,
      p.time.bytes
        ? `${p.time.bytes.binary} are read; ${p.time.slow} is the slow part.`
        : "It takes how much is in use, or every sector.",
    ],
    [
      "First of all",
      first ? first.text : "All is seen to",
      first ? groupNumbers(first.why) : "Nothing of the list is open.",
      first?.first ? meaning.rust : undefined,
    ],
  ];
  return (
    <Paper
      component="section"
      aria-label="The four answers"
      aria-live="polite"
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "1fr", sm: "1fr 1fr", md: "repeat(4, minmax(0, 1fr))" },
        my: 1.25,
      }}
    >
      {answers.map(([question, answer, why, colour], i) => (
        <Box
          key={question}
          sx={{
            p: 1.25,
            borderLeft: { xs: 0, md: i > 0 ? 1 : 0 },
            borderColor: { md: "divider" },
          }}
        >
          <Typography variant="body2" component="h2" color="text.secondary">
            {question}
          </Typography>
          <Typography
            variant="h3"
            component="p"
            sx={{ color: colour ?? "text.primary", fontSize: answer.length > 40 ? "0.95rem" : "1.0625rem" }}
          >
            {answer}
          </Typography>
          <Typography variant="body2" color="text.secondary">
            {why}
          </Typography>
        </Box>
      ))}
    </Paper>
  );
}
