import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import type { Case } from "../api/client";
import { Section } from "../parts/Section";

/** The report for the customer or the file, and the whole case for another bench. */
export function ReportLinks({ case: c }: { case: Case }) {
  const at = `/api/v1/cases/${c.id}`;
  return (
    <Section title="Report for the customer">
      <Box sx={{ p: 1.25, display: "flex", gap: 1, flexWrap: "wrap" }}>
        <Button variant="contained" component="a" href={`${at}/report.pdf`} download>
          PDF
        </Button>
        <Button variant="outlined" component="a" href={`${at}/report.md`} download>
          Markdown
        </Button>
        <Button variant="outlined" component="a" href={`${at}/report.json`} download>
          JSON
        </Button>
        <Button variant="outlined" component="a" href={`${at}/export`} download>
          The whole case
        </Button>
      </Box>
    </Section>
  );
}
