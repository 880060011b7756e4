import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import type { Attempt, Run } from "../api/client";
import { groupNumbers } from "../parts/format";
import { VerdictMark } from "../parts/VerdictMark";
import { Attempts } from "./Attempts";

interface Props {
  runs: Run[];
  onOpen: (a: Attempt, number: number) => void;
}

/** The start with the clone alone, the original alone, and both: side by side, which tells the disks' troubles from the machine's. */
export function Runs({ runs, onOpen }: Props) {
  return (
    <Box
      sx={{
        overflow: "auto",
        flex: 1,
        display: "grid",
        gridTemplateColumns: "repeat(3, minmax(190px, 1fr))",
      }}
      tabIndex={0}
      role="region"
      aria-label="The start with one drive or both"
    >
      {runs.map((r) => (
        <Box
          key={r.name}
          component="section"
          aria-label={r.name}
          sx={{ px: 1, py: 0.75, borderRight: 1, borderColor: "divider", "&:last-child": { borderRight: 0 } }}
        >
          <Box sx={{ display: "flex", gap: 0.75, alignItems: "center" }}>
            <VerdictMark reaches={r.reaches} verdict={r.verdict} size={24} />
            <Typography variant="body2" component="h3" sx={{ fontWeight: 650 }}>
              {r.name}
              {r.stands && (
                <Box component="span" sx={{ fontWeight: 400, color: "text.secondary" }}>
                  {" "}
                  · as it stands
                </Box>
              )}
            </Typography>
          </Box>
          <Typography variant="body2" sx={{ my: 0.5 }}>
            {groupNumbers(r.headline)}
          </Typography>
          <Attempts attempts={r.attempts} onOpen={onOpen} />
        </Box>
      ))}
    </Box>
  );
}
