import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import { Link } from "react-router";
import type { FigureGroup } from "../api/client";
import { Section } from "../parts/Section";
import { usePalette } from "../parts/palette";

/** One drawing of bars; each leads to its cases. The full part is what was seen to start. */
export function Bars({ group: g }: { group: FigureGroup }) {
  const palette = usePalette();
  const most = Math.max(1, ...g.bars.map((b) => b.all));
  return (
    <Section title={g.title} from={`full: ${g.good}`}>
      <Box component="ul" sx={{ listStyle: "none", m: 0, px: 1.5, py: 1, display: "grid", gap: 0.5 }}>
        {g.bars.map((b) => (
          <Box
            component="li"
            key={b.name}
            sx={{ display: "grid", gridTemplateColumns: "150px 1fr 84px", alignItems: "center", gap: 1 }}
          >
            <Typography
              variant="body2"
              component={Link}
              to={`/cases?${g.key}=${encodeURIComponent(b.name)}`}
              sx={{
                color: "text.primary",
                lineHeight: "24px",
                overflow: "hidden",
                textOverflow: "ellipsis",
              }}
              noWrap
              title={b.label}
            >
              {b.label}
            </Typography>
            <Box
              aria-hidden="true"
              sx={{
                height: 14,
                width: `${(100 * b.all) / most}%`,
                border: b.all > 0 ? 1 : 0,
                borderColor: palette.meaning.solid,
              }}
            >
              <Box
                sx={{
                  height: "100%",
                  width: `${b.all ? (100 * b.good) / b.all : 0}%`,
                  bgcolor: palette.meaning.sea,
                }}
              />
            </Box>
            <Typography variant="body2">
              {b.all}
              {g.key !== "time" && (
                <Box component="span" sx={{ color: "text.secondary" }}>{` · ${b.good} started`}</Box>
              )}
            </Typography>
          </Box>
        ))}
        {g.bars.length === 0 && (
          <Typography component="li" variant="body2" color="text.secondary">
            Nothing to count yet.
          </Typography>
        )}
      </Box>
    </Section>
  );
}
