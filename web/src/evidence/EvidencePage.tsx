import Box from "@mui/material/Box";
import Tab from "@mui/material/Tab";
import Tabs from "@mui/material/Tabs";
import { useOutletContext, useSearchParams } from "react-router";
import type { Case } from "../api/client";
import { useCheck } from "../api/queries";
import { Changes } from "../parts/Changes";
import { roles } from "../parts/format";
import { AddListing } from "./AddListing";
import { CaptureHelp } from "./CaptureHelp";
import { DiskPanel } from "./DiskPanel";
import { Doubts } from "./Doubts";
import { MachineFacts } from "./MachineFacts";
import { PiecesTable } from "./PiecesTable";
import { ReferencesTable } from "./ReferencesTable";
import { StatementsTable } from "./StatementsTable";
import { TablesView } from "./TablesView";

const views = [
  ["known", "What is known"],
  ["references", "Who refers to what"],
  ["tables", "Partition tables"],
  ["pieces", "Pieces of evidence"],
] as const;

/** What is known of both disks and of the firmware, from where, and where to add more. */
export default function EvidencePage() {
  const c = useOutletContext<Case>();
  const check = useCheck(c.id, c.version, null);
  const [params, setParams] = useSearchParams();
  const view = views.find(([name]) => name === params.get("view"))?.[0] ?? "known";
  return (
    <>
      <Doubts caseId={c.id} check={check.data} />
      <Tabs
        value={view}
        onChange={(_, next: string) => setParams(next === "known" ? {} : { view: next })}
        aria-label="Views of the evidence"
        sx={{ minHeight: 0, mt: 0.5 }}
      >
        {views.map(([name, label]) => (
          <Tab
            key={name}
            value={name}
            label={label}
            id={`evidence-tab-${name}`}
            aria-controls={`evidence-view-${name}`}
            sx={{ minHeight: 30, py: 0.25, px: 1, minWidth: 0, fontSize: "0.8125rem" }}
          />
        ))}
      </Tabs>
      <Box role="tabpanel" id={`evidence-view-${view}`} aria-labelledby={`evidence-tab-${view}`}>
        {view === "known" && (
          <Box
            sx={{
              display: "grid",
              gridTemplateColumns: { xs: "1fr", md: "1fr 1fr", lg: "1fr 1fr 330px" },
              gap: 1.5,
              mt: 1,
              alignItems: "start",
            }}
          >
            {roles.map((role) => (
              <DiskPanel
                key={role}
                case={c}
                role={role}
                drive={check.data?.drives.find((d) => d.role === role)}
              />
            ))}
            <MachineFacts key={c.version} case={c} mode={check.data?.mode} />
          </Box>
        )}
        {view === "references" && <ReferencesTable case={c} />}
        {view === "tables" && <TablesView case={c} />}
        {view === "pieces" && (
          <Box
            sx={{
              display: "grid",
              gridTemplateColumns: { xs: "1fr", md: "minmax(0, 1.35fr) minmax(0, 1fr)" },
              gap: 1.5,
              mt: 1,
              alignItems: "start",
            }}
          >
            <Changes>
              <AddListing case={c} />
            </Changes>
            <CaptureHelp />
            <PiecesTable case={c} />
            <StatementsTable case={c} />
          </Box>
        )}
      </Box>
    </>
  );
}
