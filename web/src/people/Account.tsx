import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { setPassword, signOut } from "../api/client";
import { useMe, useTakePerson } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";

/** Who is signed in, with the own password and the ways out. */
export function Account() {
  const me = useMe().data;
  const take = useTakePerson();
  const leave = useMutation({ mutationFn: signOut, onSuccess: () => take(null) });
  if (!me) return null;
  return (
    <Paper component="section" aria-label="Your account" sx={{ p: 2 }}>
      <Typography variant="h3" component="h2">
        {me.name}, {me.role}
      </Typography>
      {!me.hasPassword && (
        <Typography variant="body2" sx={{ mt: 0.5 }}>
          You came in by a key, which is used up. Set a password, so that you can come in again.
        </Typography>
      )}
      <Password key={String(me.hasPassword)} has={me.hasPassword} />
      <Box sx={{ display: "flex", gap: 1, mt: 1.5, flexWrap: "wrap" }}>
        <Button variant="outlined" disabled={leave.isPending} onClick={() => leave.mutate(false)}>
          Sign out
        </Button>
        <Button disabled={leave.isPending} onClick={() => leave.mutate(true)}>
          Sign out everywhere
        </Button>
      </Box>
      {leave.isError && <ErrorNotice error={leave.error} />}
    </Paper>
  );
}

function Password({ has }: { has: boolean }) {
  const [current, setCurrent] = useState("");
  const [fresh, setFresh] = useState("");
  const take = useTakePerson();
  const setting = useMutation({
    mutationFn: setPassword,
    onSuccess: (p) => {
      setCurrent("");
      setFresh("");
      take(p);
    },
  });
  return (
    <Box
      component="form"
      sx={{ display: "grid", gap: 1.25, mt: 1.25, maxWidth: 320 }}
      onSubmit={(e) => {
        e.preventDefault();
        setting.mutate({ current: has ? current : undefined, new: fresh });
      }}
    >
      {has && (
        <TextField
          label="Password as it is"
          type="password"
          value={current}
          onChange={(e) => setCurrent(e.target.value)}
          slotProps={{ htmlInput: { autoComplete: "current-password", maxLength: 128 } }}
        />
      )}
      <TextField
        label={has ? "New password" : "Password"}
        type="password"
        value={fresh}
        onChange={(e) => setFresh(e.target.value)}
        helperText="At least 12 signs: a few words in a row do well"
        slotProps={{ htmlInput: { autoComplete: "new-password", maxLength: 128 } }}
      />
      <Box>
        <Button
          type="submit"
          variant="contained"
          disabled={setting.isPending || fresh === "" || (has && current === "")}
        >
          {has ? "Change the password" : "Set the password"}
        </Button>
      </Box>
      {setting.isError && <ErrorNotice error={setting.error} />}
      {setting.isSuccess && (
        <Typography variant="body2" role="status">
          Set. Your sessions on other machines are over.
        </Typography>
      )}
    </Box>
  );
}
