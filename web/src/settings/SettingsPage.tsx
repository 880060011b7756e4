import FormControl from "@mui/material/FormControl";
import FormControlLabel from "@mui/material/FormControlLabel";
import FormLabel from "@mui/material/FormLabel";
import Paper from "@mui/material/Paper";
import Radio from "@mui/material/Radio";
import RadioGroup from "@mui/material/RadioGroup";
import Typography from "@mui/material/Typography";
import { useColorScheme } from "@mui/material/styles";

/** What a person sets for this browser. */
export default function SettingsPage() {
  const { mode, setMode } = useColorScheme();
  return (
    <>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Settings
      </Typography>
      <Paper sx={{ p: 2, maxWidth: 520 }}>
        <FormControl>
          <FormLabel id="theme-label">Theme of this browser</FormLabel>
          <RadioGroup
            aria-labelledby="theme-label"
            value={mode ?? "system"}
            onChange={(_, v) => setMode(v as "light" | "dark" | "system")}
          >
            <FormControlLabel value="system" control={<Radio size="small" />} label="As the system has it" />
            <FormControlLabel value="light" control={<Radio size="small" />} label="Light: paper and ink" />
            <FormControlLabel
              value="dark"
              control={<Radio size="small" />}
              label="Dark: slate and pale ink"
            />
          </RadioGroup>
        </FormControl>
      </Paper>
    </>
  );
}
