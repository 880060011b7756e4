import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import Dialog from "@mui/material/Dialog";
import Paper from "@mui/material/Paper";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Problem } from "../api/call";
import { signIn } from "../api/client";
import { useTakePerson } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { Logo } from "../parts/Logo";

/** Takes the key out of the address, if it ends in one: a key is no address to keep. */
export function takeKey(): string | undefined {
  const key = /^#key=([\w-]+)$/.exec(location.hash)?.[1];
  if (key) history.replaceState(null, "", location.pathname + location.search);
  return key;
}

/** The page of who is not signed in. */
export function SignInPage({ error }: { error: unknown }) {
  return (
    <Box component="main" sx={{ minHeight: "100vh", display: "grid", placeItems: "center", p: 2 }}>
      <Paper>
        <SignIn title="Latchkey" error={error} />
      </Paper>
    </Box>
  );
}

/** Lies over the page whose session has run out: what was typed on it stays. */
export function SignInAgain({ error }: { error: unknown }) {
  return (
    <Dialog open aria-labelledby="sign-in-title">
      <SignIn title="Sign in again" error={error} />
    </Dialog>
  );
}

/** Signing in, by name and password or by a key that is good once. */
function SignIn({ title, error }: { title: string; error: unknown }) {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const take = useTakePerson();
  const { mutate, ...signing } = useMutation({ mutationFn: signIn, onSuccess: take });
  useEffect(() => {
    const use = () => {
      const key = takeKey();
      if (key) mutate({ key });
    };
    use();
    window.addEventListener("hashchange", use);
    return () => window.removeEventListener("hashchange", use);
  }, [mutate]);
  return (
    <Box
      component="form"
      sx={{ p: 3, width: "100%", maxWidth: 380, display: "grid", gap: 1.75 }}
      onSubmit={(e) => {
        e.preventDefault();
        mutate({ name, password });
      }}
    >
      <Box sx={{ display: "flex", alignItems: "center", gap: 1.5 }}>
        <Box sx={(t) => ({ bgcolor: (t.vars ?? t).palette.meaning.rail, p: 0.75, borderRadius: 1 })}>
          <Logo />
        </Box>
        <Box>
          <Typography variant="h1" id="sign-in-title">
            {title}
          </Typography>
          <Typography variant="body2" color="text.secondary">
            Will the clone start in that machine?
          </Typography>
        </Box>
      </Box>
      <TextField
        label="Name"
        value={name}
        autoFocus
        onChange={(e) => setName(e.target.value)}
        slotProps={{ htmlInput: { autoComplete: "username", maxLength: 80 } }}
      />
      <TextField
        label="Password"
        type="password"
        value={password}
        onChange={(e) => setPassword(e.target.value)}
        slotProps={{ htmlInput: { autoComplete: "current-password", maxLength: 128 } }}
      />
      <Button
        type="submit"
        variant="contained"
        size="medium"
        disabled={signing.isPending || name.trim() === "" || password === ""}
      >
        Sign in
      </Button>
      {signing.isError && <ErrorNotice error={signing.error} />}
      {!signing.isError && !(error instanceof Problem && error.status === 401) && (
        <ErrorNotice error={error} />
      )}
      <Typography variant="body2" color="text.secondary">
        For the first time, open the address that a lead gave you: it ends in a key that is good once. The
        server prints one when it is started, as long as no lead has a password.
      </Typography>
    </Box>
  );
}
