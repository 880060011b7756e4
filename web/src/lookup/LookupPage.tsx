import Box from "@mui/material/Box";
import LinearProgress from "@mui/material/LinearProgress";
import Paper from "@mui/material/Paper";
import Tab from "@mui/material/Tab";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import Tabs from "@mui/material/Tabs";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useDeferredValue } from "react";
import { useSearchParams } from "react-router";
import type { Message } from "../api/client";
import { useMessages, usePartitionTypes } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { stageTitle } from "../parts/stages";

/** What a screen said and what it can mean; and the partition types. */
export default function LookupPage() {
  const [params, setParams] = useSearchParams();
  const view = params.get("view") === "types" ? "types" : "messages";
  const q = params.get("q") ?? "";
  return (
    <Box sx={{ maxWidth: 1040 }}>
      <Box sx={{ display: "flex", gap: 1.5, alignItems: "center", flexWrap: "wrap", mb: 1 }}>
        <Typography variant="h1" sx={{ mr: "auto" }}>
          Look-up
        </Typography>
        <TextField
          autoFocus
          value={q}
          onChange={(e) =>
            setParams({ ...(view === "types" ? { view } : {}), q: e.target.value }, { replace: true })
          }
          placeholder={
            view === "types" ? "EF, EFI system, basic data…" : "Words or a code, as the screen shows it"
          }
          sx={{ width: 340 }}
          slotProps={{ htmlInput: { "aria-label": "Look up", maxLength: 500 } }}
        />
      </Box>
      <Tabs
        value={view}
        onChange={(_, v: string) => setParams(v === "types" ? { view: "types" } : {})}
        aria-label="What to look up"
        sx={{ mb: 1.25, borderBottom: 1, borderColor: "divider" }}
      >
        <Tab value="messages" label="What the screen says" />
        <Tab value="types" label="Partition types" />
      </Tabs>
      {view === "messages" ? <Messages q={q} /> : <Types q={q} />}
    </Box>
  );
}

const modeWord: Record<string, string> = { uefi: "UEFI", legacy: "legacy mode" };

function Messages({ q }: { q: string }) {
  const found = useMessages(useDeferredValue(q));
  if (found.isLoadingError) return <ErrorNotice error={found.error} retry={() => void found.refetch()} />;
  if (!found.data) return <LinearProgress aria-label="Looking it up" />;
  if (found.data.messages.length === 0)
    return (
      <Typography>None of the known messages has these words. Try the code alone, or fewer words.</Typography>
    );
  return found.data.messages.map((m) => <Entry key={m.id} message={m} />);
}

function Entry({ message: m }: { message: Message }) {
  return (
    <Paper component="article" aria-label={m.shown} sx={{ px: 1.5, py: 1, mb: 1 }}>
      <Typography component="h2" className="mono" sx={{ fontWeight: 650, fontSize: "0.9375rem" }}>
        {m.shown}
      </Typography>
      <Typography variant="body2" color="text.secondary">
        Said by: {m.from}
        {m.mode && ` · ${modeWord[m.mode] ?? m.mode}`}
        {m.also && m.also.length > 0 && ` · also: ${m.also.join(" · ")}`}
      </Typography>
      <Box component="ol" aria-label="What it can mean" sx={{ m: 0, mt: 0.5, pl: 2.5 }}>
        {m.causes.map((c) => (
          <Box component="li" key={c.text} sx={{ py: 0.2 }}>
            <Typography variant="body2" component="span">
              <Box component="span" sx={{ fontWeight: 650 }}>
                {stageTitle(c.stage)}
              </Box>
              {": "}
              {c.text}{" "}
              <Box component="span" sx={{ color: "text.secondary" }}>
                {c.look}
              </Box>
            </Typography>
          </Box>
        ))}
      </Box>
      <Typography variant="caption" color="text.secondary">
        Source: {m.source}
      </Typography>
    </Paper>
  );
}

function Types({ q }: { q: string }) {
  const types = usePartitionTypes();
  if (types.isLoadingError) return <ErrorNotice error={types.error} retry={() => void types.refetch()} />;
  if (!types.data) return <LinearProgress aria-label="Loading the partition types" />;
  const wanted = q.trim().toLowerCase();
  const rows = types.data.types.filter((t) => `${t.code} ${t.name} ${t.role}`.toLowerCase().includes(wanted));
  if (rows.length === 0)
    return <Typography>No known partition type has that in its code or name.</Typography>;
  return (
    <Paper>
      <Table size="small" aria-label="Partition types">
        <TableHead>
          <TableRow>
            <TableCell>Code</TableCell>
            <TableCell>Name</TableCell>
            <TableCell>In the start</TableCell>
          </TableRow>
        </TableHead>
        <TableBody>
          {rows.map((t) => (
            <TableRow key={t.code}>
              <TableCell className="mono">{t.code}</TableCell>
              <TableCell>{t.name}</TableCell>
              <TableCell>{t.role}</TableCell>
            </TableRow>
          ))}
        </TableBody>
      </Table>
    </Paper>
  );
}
