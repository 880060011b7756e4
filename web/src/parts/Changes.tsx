import Typography from "@mui/material/Typography";
import type { ReactNode } from "react";
import { useMay } from "../api/queries";

/** What a reader is told in the place of what changes a case. */
export const readersOnly = "Changing a case takes a technician: your role is reader.";

/** What changes a case: for technicians; a reader is told why it is not there. */
export function Changes({ children, quiet }: { children: ReactNode; quiet?: boolean }) {
  if (useMay("technician")) return children;
  return quiet ? null : (
    <Typography variant="body2" color="text.secondary" sx={{ my: 1 }}>
      {readersOnly}
    </Typography>
  );
}
