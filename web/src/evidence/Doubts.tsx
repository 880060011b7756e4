import Alert from "@mui/material/Alert";
import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import { useState } from "react";
import type { Check, Contradiction } from "../api/client";
import { Detail, type DetailContent } from "../parts/Detail";
import { groupNumbers } from "../parts/format";

/** Reasons to look again: disks that may be exchanged, and facts that two pieces of evidence tell differently. */
export function Doubts({ caseId, check }: { caseId: number; check?: Check }) {
  const [detail, setDetail] = useState<DetailContent | null>(null);
  if (!check || (check.doubts.length === 0 && check.contradictions.length === 0)) return null;
  return (
    <Box sx={{ display: "grid", gap: 0.75, mt: 1 }}>
      {check.doubts.map((d) => (
        <Alert key={d.text} severity="warning" variant="outlined" sx={{ py: 0 }}>
          {d.text}
        </Alert>
      ))}
      {check.contradictions.length > 0 && (
        <Alert severity="warning" variant="outlined" sx={{ py: 0 }}>
          Two pieces of evidence tell different things. What is read from bytes is used before a listing, and
          a listing before what a person tells.
          <Box component="ul" sx={{ m: 0, pl: 2.25 }}>
            {check.contradictions.map((x) => (
              <li key={`${x.drive ?? ""} ${x.what} ${x.weaker.value}`}>
                {x.drive ? `${x.drive}, ` : ""}
                {x.what}: <b>{groupNumbers(x.stronger.value)}</b> is used, {groupNumbers(x.weaker.value)} is
                told{" "}
                <Button
                  sx={{ p: 0, minWidth: 0 }}
                  aria-label={`Both sources: ${x.drive ?? "machine"}, ${x.what}`}
                  onClick={() => setDetail(bothSides(x))}
                >
                  both sources
                </Button>
              </li>
            ))}
          </Box>
        </Alert>
      )}
      <Detail caseId={caseId} content={detail} onClose={() => setDetail(null)} />
    </Box>
  );
}

function bothSides(x: Contradiction): DetailContent {
  return {
    title: `Contradiction: ${x.what}`,
    text: "The first is used, as its kind of evidence is the stronger one. Withdraw the piece that is wrong.",
    facts: [
      { ...x.stronger, label: "Used" },
      { ...x.weaker, label: "Told differently" },
    ],
    risks: [],
  };
}
