import Box from "@mui/material/Box";
import { useOutletContext } from "react-router";
import type { Case } from "../api/client";
import { useCheck } from "../api/queries";
import { roles } from "../parts/format";
import { DiskPanel } from "./DiskPanel";
import { MachineFacts } from "./MachineFacts";

/** What is known of both disks and of the firmware, and where to add more. */
export default function EvidencePage() {
  const c = useOutletContext<Case>();
  const check = useCheck(c.id, c.version, null);
  return (
    <Box
      sx={{
        display: "grid",
        gridTemplateColumns: { xs: "1fr", md: "1fr 1fr", lg: "1fr 1fr 330px" },
        gap: 1.5,
        mt: 1.5,
        alignItems: "start",
      }}
    >
      {roles.map((role) => (
        <DiskPanel key={role} case={c} role={role} drive={check.data?.drives.find((d) => d.role === role)} />
      ))}
      <MachineFacts key={c.version} case={c} />
    </Box>
  );
}
