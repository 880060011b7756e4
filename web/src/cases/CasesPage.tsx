import Box from "@mui/material/Box";
import Button from "@mui/material/Button";
import InputAdornment from "@mui/material/InputAdornment";
import LinearProgress from "@mui/material/LinearProgress";
import MenuItem from "@mui/material/MenuItem";
import Paper from "@mui/material/Paper";
import Table from "@mui/material/Table";
import TableBody from "@mui/material/TableBody";
import TableCell from "@mui/material/TableCell";
import TableHead from "@mui/material/TableHead";
import TableRow from "@mui/material/TableRow";
import TextField from "@mui/material/TextField";
import Typography from "@mui/material/Typography";
import { useDeferredValue, useEffect, useRef, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { useLocation, useNavigate, useSearchParams } from "react-router";
import type { ListedCase, Verdict } from "../api/client";
import { useCases, useMay } from "../api/queries";
import { ErrorNotice } from "../parts/ErrorNotice";
import { ago, busName, when } from "../parts/format";
import { VerdictMark, verdictWord } from "../parts/VerdictMark";
import { ImportCase } from "./ImportCase";
import { NewCaseDialog } from "./NewCaseDialog";
import { PhaseMark } from "./PhaseMark";

/** By what cases are alike, as the address says it, in words. */
const kinds = [
  ["stage", "that stopped at the stage"],
  ["model", "on the machine"],
  ["drive", "with the drive"],
  ["action", "with the repair step"],
  ["time", "whose first start came"],
] as const;

/** All cases, the latest changed first, with search and verdict. */
export default function CasesPage() {
  const [search, setSearch] = useState("");
  const [reaches, setReaches] = useState<Verdict | "">("");
  const [alike, setAlike] = useSearchParams();
  const [creating, setCreating] = useState(false);
  const technician = useMay("technician");
  const field = useRef<HTMLInputElement>(null);
  const { state } = useLocation();
  const narrowed = kinds.flatMap(([key, words]) => {
    const value = alike.get(key);
    return value ? [{ key, value, words }] : [];
  });
  const cases = useCases({
    q: useDeferredValue(search),
    reaches,
    ...Object.fromEntries(narrowed.map((n) => [n.key, n.value])),
  });
  const wanted = (state as { search?: number } | null)?.search;
  useEffect(() => {
    if (wanted) field.current?.focus();
  }, [wanted]);
  useHotkeys(
    "n",
    (e) => {
      e.preventDefault();
      setCreating(technician);
    },
    [technician],
  );
  const rows = cases.data?.pages.flatMap((p) => p.cases) ?? [];
  return (
    <Box sx={{ maxWidth: 1180 }}>
      <Box sx={{ display: "flex", alignItems: "center", gap: 1.5, mb: 1.5, flexWrap: "wrap" }}>
        <Typography variant="h1" sx={{ mr: "auto" }}>
          Cases
        </Typography>
        <TextField
          inputRef={field}
          value={search}
          onChange={(e) => setSearch(e.target.value)}
          placeholder="Find by anything in a case"
          sx={{ width: 250 }}
          slotProps={{
            htmlInput: { "aria-label": "Find a case" },
            input: {
              endAdornment: (
                <InputAdornment position="end">
                  <kbd>/</kbd>
                </InputAdornment>
              ),
            },
          }}
        />
        <TextField
          select
          value={reaches}
          onChange={(e) => setReaches(e.target.value as Verdict | "")}
          sx={{ width: 190 }}
          slotProps={{ select: { displayEmpty: true }, htmlInput: { "aria-label": "Verdict" } }}
        >
          <MenuItem value="">Any verdict</MenuItem>
          <MenuItem value="starts">Reaches its loader</MenuItem>
          <MenuItem value="starts-original">Starts the original</MenuItem>
          <MenuItem value="stops">Stops</MenuItem>
          <MenuItem value="depends">Depends</MenuItem>
        </TextField>
        {technician && (
          <>
            <ImportCase />
            <Button variant="contained" size="medium" onClick={() => setCreating(true)}>
              New case
            </Button>
          </>
        )}
      </Box>
      {narrowed.length > 0 && (
        <Box sx={{ display: "flex", gap: 1, alignItems: "center", mb: 1 }}>
          <Typography variant="body2">
            Only cases {narrowed.map((n) => `${n.words} ${n.value.replaceAll("-", " ")}`).join(", ")}
          </Typography>
          <Button onClick={() => setAlike({})}>Show all</Button>
        </Box>
      )}
      {cases.isError && <ErrorNotice error={cases.error} retry={() => void cases.refetch()} />}
      {cases.isPending && <LinearProgress aria-label="Loading the cases" />}
      {cases.isSuccess && rows.length === 0 && (
        <Empty
          searching={search !== "" || reaches !== "" || narrowed.length > 0}
          onNew={technician ? () => setCreating(true) : undefined}
        />
      )}
      {rows.length > 0 && (
        <Paper>
          <Table size="small" aria-label="Cases">
            <TableHead>
              <TableRow>
                {["Verdict", "Case", "Where it stands", "Original → clone", "Changed"].map((h) => (
                  <TableCell key={h} sx={{ color: "text.secondary", fontSize: "0.75rem", fontWeight: 600 }}>
                    {h}
                  </TableCell>
                ))}
              </TableRow>
            </TableHead>
            <TableBody>
              {rows.map((c) => (
                <CaseRow key={c.id} c={c} />
              ))}
            </TableBody>
          </Table>
        </Paper>
      )}
      {cases.hasNextPage && (
        <Button sx={{ mt: 1 }} onClick={() => void cases.fetchNextPage()} disabled={cases.isFetchingNextPage}>
          Show more
        </Button>
      )}
      <NewCaseDialog open={creating} onClose={() => setCreating(false)} />
    </Box>
  );
}

function Empty({ searching, onNew }: { searching: boolean; onNew?: () => void }) {
  return (
    <Paper sx={{ p: 3, maxWidth: 560 }}>
      <Typography variant="h2">{searching ? "No case matches" : "No cases yet"}</Typography>
      <Typography sx={{ my: 1 }}>
        {searching
          ? "Every word must begin a word of the case, its drives, or what their evidence holds."
          : "A case holds one machine, its original drive and the clone. Make one, then add the first bytes of both drives."}
      </Typography>
      {!searching && onNew && (
        <Button variant="contained" onClick={onNew}>
          New case
        </Button>
      )}
    </Paper>
  );
}

function CaseRow({ c }: { c: ListedCase }) {
  const navigate = useNavigate();
  const open = () => void navigate(`/cases/${c.id}/check`);
  return (
    <TableRow
      hover
      onClick={open}
      sx={{ cursor: "pointer", "& > td": { verticalAlign: "middle !important" } }}
    >
      <TableCell sx={{ width: 205 }}>
        <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
          <VerdictMark
            reaches={c.provedAt ? "starts" : (c.reaches as Verdict | "")}
            verdict={c.provedAt ? "starts" : (c.verdict as Verdict | "")}
            size={26}
          />
          <span>{c.provedAt ? "Started, proved" : verdictWord(c.reaches, c.verdict, c.stage)}</span>
        </Box>
      </TableCell>
      <TableCell>
        <Typography
          component="a"
          href={`/cases/${c.id}/check`}
          variant="body1"
          onClick={(e) => {
            e.preventDefault();
            e.stopPropagation();
            open();
          }}
          sx={{
            fontWeight: 650,
            color: "text.primary",
            textDecoration: "none",
            "&:hover": { textDecoration: "underline" },
          }}
        >
          {c.title}
        </Typography>
        <Typography variant="caption" color="text.secondary" component="p">
          {c.machine}
        </Typography>
      </TableCell>
      <TableCell sx={{ width: 230 }}>
        <PhaseMark phase={c.phase.name} />
        <Typography variant="caption" color="text.secondary" component="p">
          {c.closedAt
            ? "closed"
            : c.phase.next && `next: ${c.phase.next}${c.phase.turn ? ` · ${c.phase.turn}` : ""}`}
        </Typography>
      </TableCell>
      <TableCell>
        {c.drives.map((d) => (
          <Typography key={d.role} variant="caption" component="p">
            <b>{d.role}</b>{" "}
            {[d.model || "model not known", d.capacity, d.bus && busName[d.bus]].filter(Boolean).join(" · ")}
          </Typography>
        ))}
      </TableCell>
      <TableCell sx={{ whiteSpace: "nowrap", color: "text.secondary" }}>
        <span title={when(c.updatedAt)}>{ago(c.updatedAt)}</span>
      </TableCell>
    </TableRow>
  );
}
