import Box from "@mui/material/Box";
import Paper from "@mui/material/Paper";
import Typography from "@mui/material/Typography";
import { type Reach, type Stands, reaches, stands } from "./next";

interface Props {
  stands?: Stands;
  reach?: Reach;
  busy: boolean;
  onStands: (s: Stands) => void;
  onReach: (r: Reach) => void;
}

const hidden = { position: "absolute", opacity: 0, width: 1, height: 1 } as const;

/** Two questions: where it stands, along a line, and what is at hand. */
export function Situation({ stands: at, reach, busy, onStands, onReach }: Props) {
  return (
    <Paper sx={{ px: 2, py: 1.25 }}>
      <Box component="fieldset" disabled={busy} sx={{ border: 0, p: 0, m: 0 }}>
        <Typography component="legend" variant="h3">
          Where does it stand?
        </Typography>
        <Box
          sx={{
            display: "flex",
            position: "relative",
            mt: 0.75,
            "&::before": {
              content: '""',
              position: "absolute",
              left: "10%",
              right: "10%",
              top: 9,
              borderTop: "1.5px solid",
              borderColor: "text.primary",
            },
          }}
        >
          {(Object.entries(stands) as [Stands, string][]).map(([value, label]) => (
            <Box
              component="label"
              key={value}
              sx={{
                flex: 1,
                textAlign: "center",
                fontSize: "0.8125rem",
                lineHeight: 1.3,
                px: 0.5,
                cursor: "pointer",
                position: "relative",
                color: at === value ? "text.primary" : "text.secondary",
                fontWeight: at === value ? 650 : 400,
                "& i": {
                  display: "block",
                  width: 14,
                  height: 18,
                  mx: "auto",
                  mb: 0.5,
                  borderRadius: "3px",
                  border: "1.5px solid",
                  borderColor: at === value ? "primary.main" : "text.secondary",
                  bgcolor: at === value ? "primary.main" : "background.paper",
                },
                "&:focus-within i": {
                  outline: "2px solid",
                  outlineColor: "primary.main",
                  outlineOffset: "2px",
                },
              }}
            >
              <Box
                component="input"
                type="radio"
                name="stands"
                checked={at === value}
                onChange={() => onStands(value)}
                sx={hidden}
              />
              <i />
              {label}
            </Box>
          ))}
        </Box>
      </Box>
      <Box component="fieldset" disabled={busy} sx={{ border: 0, p: 0, m: 0, mt: 1.25 }}>
        <Typography component="legend" variant="h3">
          What can you get hold of?
        </Typography>
        <Box sx={{ display: "flex", flexWrap: "wrap", gap: 1, mt: 0.75 }}>
          {(Object.entries(reaches) as [Reach, string][]).map(([value, label]) => (
            <Box
              component="label"
              key={value}
              sx={{
                border: 1,
                borderColor: reach === value ? "primary.main" : "divider",
                boxShadow: reach === value ? "inset 0 -3px var(--mui-palette-primary-main)" : "none",
                fontWeight: reach === value ? 650 : 400,
                borderRadius: 1,
                px: 1.5,
                py: 0.75,
                fontSize: "0.8125rem",
                cursor: "pointer",
                position: "relative",
                "&:focus-within": { outline: "2px solid", outlineColor: "primary.main" },
              }}
            >
              <Box
                component="input"
                type="radio"
                name="reach"
                checked={reach === value}
                onChange={() => onReach(value)}
                sx={hidden}
              />
              {label}
            </Box>
          ))}
        </Box>
      </Box>
    </Paper>
  );
}
