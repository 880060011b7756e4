import Box from "@mui/material/Box";
import type { ListedCase } from "../api/client";
import { usePalette } from "../parts/palette";

const phases = ["prepare", "copied", "checked", "repairing", "started", "watched", "released"] as const;

/** Where a case stands, as a key with a cut for each phase that is behind it. */
export function PhaseMark({ phase }: { phase: ListedCase["phase"]["name"] }) {
  const { meaning, text } = usePalette();
  const at = phases.indexOf(phase);
  return (
    <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
      <svg width="72" height="18" viewBox="0 0 66 16" aria-hidden="true" style={{ flex: "none" }}>
        <circle cx="6" cy="9" r="4.5" fill="none" stroke={meaning.brass} strokeWidth="1.4" />
        <path d="M10.5 12.5H65M10.5 6H13" stroke={meaning.brass} strokeWidth="1.2" fill="none" />
        {phases.map((p, i) => (
          <path
            key={p}
            d={i <= at ? `M${13 + i * 7.4} 6l2.4 4.6h2.6l2.4 -4.6` : `M${13 + i * 7.4} 6h7.4`}
            fill={i <= at ? meaning.brass : "none"}
            fillOpacity="0.35"
            stroke={i <= at ? meaning.brass : text.secondary}
            strokeWidth="1.2"
          />
        ))}
      </svg>
      <span>{phase}</span>
    </Box>
  );
}
