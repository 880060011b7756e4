import Box from "@mui/material/Box";
import Typography from "@mui/material/Typography";
import type { Preparing } from "../api/client";
import { busName } from "../parts/format";

type Card = Preparing["cards"][number];

/** A card for each drive with everything that tells it from the other: to print, and to stick on. */
export function DriveCards({ cards }: { cards: Card[] }) {
  return (
    <Box sx={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 1, px: 1.5, pb: 1.5 }}>
      {cards.map((d) => (
        <Box
          key={d.role}
          component="section"
          aria-label={`Card of the ${d.role}`}
          sx={{
            border: 1.5,
            borderStyle: d.role === "original" ? "solid" : "dashed",
            borderColor: "text.primary",
            p: 1,
          }}
        >
          <Typography variant="body2" component="h3" sx={{ fontWeight: 650 }}>
            {d.role === "original" ? "Original: copied from" : "New drive: overwritten"}
          </Typography>
          {(
            [
              ["capacity", d.size && `${d.size.label} · ${d.size.binary}`],
              ["model", d.model],
              ["serial number", d.serial],
              ["bus", d.bus && (busName[d.bus] ?? d.bus)],
              ["style", d.style],
              ["identifier", d.id],
              ["partitions", d.partitions],
            ] as const
          ).map(([name, value]) => (
            <Typography key={name} variant="body2" sx={{ overflowWrap: "anywhere" }}>
              <Box component="span" sx={{ color: "text.secondary" }}>
                {name}{" "}
              </Box>
              {value || "not known"}
            </Typography>
          ))}
        </Box>
      ))}
    </Box>
  );
}
