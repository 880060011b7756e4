import Box from "@mui/material/Box";
import Drawer from "@mui/material/Drawer";
import IconButton from "@mui/material/IconButton";
import Typography from "@mui/material/Typography";
import type { Attempt, Fact } from "../api/client";
import { groupNumbers } from "./format";
import { FactList } from "./FactList";
import { Close } from "./icons";
import { stageTitle, stateWord } from "./stages";

export interface DetailContent {
  title: string;
  text: string;
  facts: Fact[];
  /** How an attempt fared, stage by stage. */
  steps?: Attempt["steps"];
  /** What does not stop the start and is worth knowing. */
  risks: { text: string; facts?: Fact[] }[];
}

interface Props {
  caseId: number;
  content: DetailContent | null;
  onClose: () => void;
}

/** What stands behind a pin, a row or a partition: the finding, its facts and their bytes. */
export function Detail({ caseId, content, onClose }: Props) {
  return (
    <Drawer
      anchor="right"
      open={content !== null}
      onClose={onClose}
      slotProps={{
        paper: {
          sx: { width: "min(640px, 94vw)", p: 2 },
          role: "dialog",
          "aria-label": content?.title ?? "Detail",
        },
      }}
    >
      {content && (
        <>
          <Box sx={{ display: "flex", justifyContent: "space-between", alignItems: "flex-start" }}>
            <Typography variant="h2">{content.title}</Typography>
            <IconButton onClick={onClose} aria-label="Close" size="small">
              <Close />
            </IconButton>
          </Box>
          <Typography sx={{ my: 1 }}>{groupNumbers(content.text)}</Typography>
          {content.steps?.map((s, i) => (
            <Box key={i} component="section" aria-label={stageTitle(s.stage)} sx={{ mt: 1 }}>
              <Typography variant="body2">
                <Box component="span" sx={{ fontWeight: 650 }}>
                  {stageTitle(s.stage)}, {stateWord[s.state] ?? s.state}:
                </Box>{" "}
                {groupNumbers(s.text)}
              </Typography>
              {s.facts && s.facts.length > 0 && <FactList caseId={caseId} facts={s.facts} />}
            </Box>
          ))}
          <FactList caseId={caseId} facts={content.facts} />
          {content.risks.length > 0 && (
            <>
              <Typography variant="h3" sx={{ mt: 2 }}>
                Does not stop the start, and is worth knowing
              </Typography>
              {content.risks.map((r) => (
                <Box key={r.text} sx={{ mt: 1 }}>
                  <Typography variant="body2">{groupNumbers(r.text)}</Typography>
                  {r.facts && r.facts.length > 0 && <FactList caseId={caseId} facts={r.facts} />}
                </Box>
              ))}
            </>
          )}
        </>
      )}
    </Drawer>
  );
}
