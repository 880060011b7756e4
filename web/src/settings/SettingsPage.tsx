import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Checkbox from "@mui/material/Checkbox";
import FormControl from "@mui/material/FormControl";
import FormControlLabel from "@mui/material/FormControlLabel";
import FormLabel from "@mui/material/FormLabel";
import Paper from "@mui/material/Paper";
import Radio from "@mui/material/Radio";
import RadioGroup from "@mui/material/RadioGroup";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useColorScheme } from "@mui/material/styles";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Settings, changeSettings } from "../api/client";
import { useMay, useSettings } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { Account } from "../people/Account";
import { PeopleTable } from "../people/PeopleTable";
import { SecurityLog } from "../people/SecurityLog";

/** The own account, this browser, and for a lead the people and rules of the bench. */
export default function SettingsPage() {
  const lead = useMay("lead");
  return (
    <>
      <Typography variant="h1" sx={{ mb: 1.5 }}>
        Settings
      </Typography>
      <Box
        sx={{
          display: "grid",
          gridTemplateColumns: { xs: "minmax(0, 1fr)", md: "minmax(0, 2fr) minmax(0, 3fr)" },
          gap: 1.5,
          alignItems: "start",
          maxWidth: 1180,
        }}
      >
        <Box sx={{ display: "grid", gap: 1.5 }}>
          <Account />
          <ThemeChoice />
          {lead && <Keeping />}
        </Box>
        {lead && (
          <Box sx={{ display: "grid", gap: 1.5 }}>
            <PeopleTable />
            <SecurityLog />
          </Box>
        )}
      </Box>
    </>
  );
}

function ThemeChoice() {
  const { mode, setMode } = useColorScheme();
  return (
    <Paper sx={{ p: 2 }}>
      <FormControl>
        <FormLabel id="theme-label">Theme of this browser</FormLabel>
        <RadioGroup
          aria-labelledby="theme-label"
          value={mode ?? "system"}
          onChange={(_, v) => setMode(v as "light" | "dark" | "system")}
        >
          <FormControlLabel value="system" control={<Radio size="small" />} label="As the system has it" />
          <FormControlLabel value="light" control={<Radio size="small" />} label="Light: paper and ink" />
          <FormControlLabel value="dark" control={<Radio size="small" />} label="Dark: slate and pale ink" />
        </RadioGroup>
      </FormControl>
    </Paper>
  );
}

/** How long the evidence of closed cases is kept. */
function Keeping() {
  const settings = useSettings();
  if (settings.isLoadingError)
    return <ErrorNotice error={settings.error} retry={() => void settings.refetch()} />;
  if (!settings.data) return null;
  return (
    <>
      <ReleaseRuleForm key={Object.values(settings.data.release).join()} settings={settings.data} />
      <Remembering settings={settings.data} />
      <KeepDays key={settings.data.keepDays} settings={settings.data} />
    </>
  );
}

function useSaveSettings() {
  const client = useQueryClient();
  return useMutation({
    mutationFn: changeSettings,
    onSuccess: (s) => {
      client.setQueryData(["settings"], s);
      void client.invalidateQueries({ queryKey: ["hand-over"] });
    },
  });
}

/** When an old drive may be released. */
function ReleaseRuleForm({ settings }: { settings: Settings }) {
  const now = settings.release;
  const [starts, setStarts] = useState(String(now.starts));
  const [days, setDays] = useState(String(now.days));
  const [looked, setLooked] = useState(now.looked);
  const save = useSaveSettings();
  const wanted = { starts: Number(starts), days: Number(days), looked };
  const fits = wanted.starts >= 1 && wanted.starts <= 20 && wanted.days >= 1 && wanted.days <= wanted.starts;
  return (
    <Paper component="section" aria-label="Release of old drives" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2">
        Release of old drives
      </Typography>
      <Typography variant="body2" sx={{ my: 0.5 }}>
        An old drive is the way back until the clone has proved itself.
      </Typography>
      <Box
        component="form"
        sx={{ display: "grid", gap: 1, mt: 1 }}
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate({ ...settings, release: wanted });
        }}
      >
        <Box sx={{ display: "flex", gap: 1 }}>
          {(
            [
              ["Cold starts from the clone", starts, setStarts],
              ["On how many days", days, setDays],
            ] as const
          ).map(([label, value, set]) => (
            <TextField
              key={label}
              label={label}
              value={value}
              onChange={(e) => set(e.target.value.replace(/\D/g, ""))}
              slotProps={{ htmlInput: { inputMode: "numeric", maxLength: 2 } }}
            />
          ))}
        </Box>
        <FormControlLabel
          sx={{ ml: "-4px" }}
          label={<Typography variant="body2">Everything that a case asks for was looked at</Typography>}
          control={
            <Checkbox
              size="small"
              sx={{ p: 0.5 }}
              checked={looked}
              onChange={(e) => setLooked(e.target.checked)}
            />
          }
        />
        <Button
          type="submit"
          variant="outlined"
          sx={{ justifySelf: "start" }}
          disabled={
            save.isPending ||
            !fits ||
            (wanted.starts === now.starts && wanted.days === now.days && wanted.looked === now.looked)
          }
        >
          Save the rule
        </Button>
      </Box>
      {save.isError && <ErrorNotice error={save.error} />}
    </Paper>
  );
}

/** Whether a case takes over by itself what its machine's model is known for. */
function Remembering({ settings }: { settings: Settings }) {
  const save = useSaveSettings();
  return (
    <Paper component="section" aria-label="What models are known for" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2">
        What models are known for
      </Typography>
      <FormControlLabel
        sx={{ ml: "-4px", mt: 0.5 }}
        label={
          <Typography variant="body2">
            A new case takes over by itself what other cases of its machine&apos;s model agree in
          </Typography>
        }
        control={
          <Checkbox
            size="small"
            sx={{ p: 0.5 }}
            disabled={save.isPending}
            checked={settings.takeModel}
            onChange={(e) => save.mutate({ ...settings, takeModel: e.target.checked })}
          />
        }
      />
      {save.isError && <ErrorNotice error={save.error} />}
    </Paper>
  );
}

function KeepDays({ settings }: { settings: Settings }) {
  const now = settings.keepDays;
  const [days, setDays] = useState(now ? String(now) : "");
  const save = useSaveSettings();
  const wanted = Number(days || "0");
  return (
    <Paper component="section" aria-label="Closed cases" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2">
        Closed cases
      </Typography>
      <Typography variant="body2" sx={{ my: 0.5 }}>
        {now
          ? `The evidence of a closed case is removed ${now} days after it was closed. What was found and done stays.`
          : "The evidence of closed cases is kept until a lead deletes the case."}
      </Typography>
      <Box
        component="form"
        sx={{ display: "flex", gap: 1, mt: 1 }}
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate({ ...settings, keepDays: wanted });
        }}
      >
        <TextField
          label="Days until it is removed"
          value={days}
          onChange={(e) => setDays(e.target.value.replace(/\D/g, ""))}
          helperText="Empty keeps it"
          slotProps={{ htmlInput: { inputMode: "numeric", maxLength: 5 } }}
        />
        <Box>
          <Button
            type="submit"
            variant="outlined"
            disabled={save.isPending || wanted === now}
            sx={{ mt: 0.5 }}
          >
            Save
          </Button>
        </Box>
      </Box>
      {save.isError && <ErrorNotice error={save.error} />}
    </Paper>
  );
}
