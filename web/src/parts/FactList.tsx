import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Collapse from "@mui/material/Collapse";
import Typography from "@mui/material/Typography";
import { useState } from "react";
import type { Fact } from "../api/client";
import { ByteView } from "./ByteView";
import { groupNumbers, grouped, isRole } from "./format";
import { ExpandLess, ExpandMore } from "./icons";
import { ListingDialog } from "./ListingDialog";

interface Props {
  caseId: number;
  facts: Fact[];
}

const originWord: Record<string, string> = {
  bytes: "read from the disk",
  text: "read from a listing",
  typed: "told by a person",
  assumed: "a known firmware behaviour",
  computed: "follows from the above",
};

/** How many facts stand before the rest is folded away. */
const most = 6;

/** Facts with where they came from, what decides first; those from bytes open to show them. */
export function FactList({ caseId, facts }: Props) {
  const [all, setAll] = useState(false);
  if (facts.length === 0)
    return (
      <Typography variant="body2" color="text.secondary">
        No single fact stands behind this.
      </Typography>
    );
  return (
    <>
      <Box component="ul" sx={{ listStyle: "none", m: 0, p: 0 }}>
        {(all ? facts : facts.slice(0, most)).map((f, i) => (
          <FactItem key={`${f.label} ${i}`} caseId={caseId} fact={f} open={i === 0} />
        ))}
      </Box>
      {facts.length > most && (
        <Button aria-expanded={all} onClick={() => setAll(!all)}>
          {all ? "Fewer facts" : `${facts.length - most} more facts`}
        </Button>
      )}
    </>
  );
}

function FactItem({ caseId, fact, open }: { caseId: number; fact: Fact; open: boolean }) {
  const { source } = fact;
  const [shown, setShown] = useState(open);
  const role = source.drive;
  const hasBytes = source.origin === "bytes" && source.length > 0 && isRole(role);
  const [listed, setListed] = useState(false);
  const place = source.structure ? `${source.structure}${source.field ? `, ${source.field}` : ""}` : "";
  return (
    <Box component="li" sx={{ py: 1, borderTop: 1, borderColor: "divider" }}>
      <Typography variant="body2" sx={{ fontWeight: 650 }}>
        {fact.label}
      </Typography>
      <Typography variant="body2" className="mono" sx={{ overflowWrap: "anywhere" }}>
        {groupNumbers(fact.value)}
      </Typography>
      <Typography variant="caption" color="text.secondary" component="p">
        {originWord[source.origin] ?? source.origin}
        {role ? `: ${role}` : ""}
        {place ? ` · ${place}` : ""}
        {hasBytes ? ` · byte ${grouped(source.offset)}` : ""}
      </Typography>
      {source.evidence !== undefined && (
        <>
          <Button onClick={() => setListed(true)} sx={{ px: 0.5 }}>
            Show the line
          </Button>
          {listed && (
            <ListingDialog
              caseId={caseId}
              listing={source.evidence}
              line={source.line}
              onClose={() => setListed(false)}
            />
          )}
        </>
      )}
      {hasBytes && (
        <>
          <Button
            onClick={() => setShown(!shown)}
            aria-expanded={shown}
            startIcon={shown ? <ExpandLess /> : <ExpandMore />}
            sx={{ px: 0.5 }}
          >
            {shown ? "Hide the bytes" : "Show the bytes"}
          </Button>
          <Collapse in={shown} unmountOnExit>
            <ByteView caseId={caseId} role={role} offset={source.offset} length={source.length} />
          </Collapse>
        </>
      )}
    </Box>
  );
}
