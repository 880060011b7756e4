import Box from "@mui/material/Box";
import LinearProgress from "@mui/material/LinearProgress";
import Typography from "@mui/material/Typography";
import { useHotkeys } from "react-hotkeys-hook";
import { Link, NavLink, Outlet, useNavigate, useParams } from "react-router";
import type { Case } from "../api/client";
import { useCase, useCheck } from "../api/queries";
import { DriveName } from "../parts/DriveName";
import { ErrorNotice } from "../parts/ErrorNotice";
import { when } from "../parts/format";
import { CaseMenu } from "./CaseMenu";

const steps = [
  ["beginning", "Beginning"],
  ["prepare", "Prepare"],
  ["evidence", "Evidence"],
  ["check", "Start check"],
  ["repair", "Repair"],
  ["first-start", "First start"],
  ["hand-over", "Hand-over"],
];

/** The frame of a case: the machine, its two drives, and the steps in working order. */
export default function CasePage() {
  const id = Number(useParams().id);
  const c = useCase(id);
  const navigate = useNavigate();
  useHotkeys("b", () => void navigate(`/cases/${id}/beginning`));
  useHotkeys("p", () => void navigate(`/cases/${id}/prepare`));
  useHotkeys("e", () => void navigate(`/cases/${id}/evidence`));
  useHotkeys("r", () => void navigate(`/cases/${id}/repair`));
  useHotkeys("f", () => void navigate(`/cases/${id}/first-start`));
  useHotkeys("h", () => void navigate(`/cases/${id}/hand-over`));
  useHotkeys("k", () => void navigate(`/cases/${id}/check`));
  if (!Number.isSafeInteger(id) || id <= 0) return <Typography>There is no such case.</Typography>;
  const failed = c.isError && <ErrorNotice error={c.error} retry={() => void c.refetch()} />;
  if (!c.data) return failed || <LinearProgress aria-label="Opening the case" />;
  return (
    <>
      {failed}
      <Header case={c.data} />
      <Outlet context={c.data} />
    </>
  );
}

function Header({ case: c }: { case: Case }) {
  const check = useCheck(c.id, c.version, null);
  return (
    <Box component="header">
      <Box sx={{ display: "flex", alignItems: "center", gap: 1 }}>
        <Typography variant="h1" noWrap title={`${c.title} · ${c.machine}`} sx={{ mr: "auto" }}>
          {c.title}
          {c.machine && (
            <Box component="span" sx={{ fontWeight: 400, color: "text.secondary" }}>
              {" · "}
              {c.machine}
            </Box>
          )}
          {c.closedAt && (
            <Box component="span" sx={{ fontWeight: 400, color: "text.secondary" }}>
              {` · closed ${when(c.closedAt)}${c.clearedAt ? ", its evidence was removed" : ""}`}
            </Box>
          )}
        </Typography>
        <CaseMenu case={c} />
      </Box>
      <Box sx={{ display: "flex", flexWrap: "wrap", columnGap: 1, color: "text.secondary" }}>
        {c.drives.map((d, i) => (
          <Typography key={d.role} variant="body2" component="span">
            {i > 0 && "→ "}
            <DriveName drive={d} known={check.data?.drives.find((x) => x.role === d.role)} />
          </Typography>
        ))}
        <Alike case={c} />
      </Box>
      <Box
        component="nav"
        aria-label="Steps of the case"
        sx={{ display: "flex", gap: 2.5, mt: 0.5, borderBottom: 1, borderColor: "divider" }}
      >
        {steps.map(([path, name]) => (
          <Box
            key={path}
            component={NavLink}
            to={path!}
            sx={{
              py: 0.6,
              fontSize: "0.8125rem",
              color: "text.secondary",
              textDecoration: "none",
              "&:hover": { color: "text.primary" },
              "&.active": {
                color: "text.primary",
                fontWeight: 650,
                boxShadow: "inset 0 -3px var(--mui-palette-primary-main)",
              },
            }}
          >
            {name}
          </Box>
        ))}
      </Box>
    </Box>
  );
}

/** Cases of the same model, cause or drive, one click away. */
function Alike({ case: c }: { case: Case }) {
  const model = c.machine.split(",")[0]!.trim();
  const drive = c.drives.find((d) => d.role === "clone")?.model;
  const kinds = [
    ["model", model, `the same machine, ${model}`],
    ["stage", c.stage, `the same cause: they stop at the ${c.stage.replace("-", " ")}`],
    ["drive", drive, `the same new drive, ${drive}`],
  ] as const;
  const there = kinds.filter(([, value]) => value);
  if (there.length === 0) return null;
  return (
    <Typography variant="body2" component="span" sx={{ ml: "auto" }}>
      Alike:{" "}
      {there.map(([key, value, words], i) => (
        <span key={key}>
          {i > 0 && " · "}
          <Link to={`/cases?${key}=${encodeURIComponent(value!)}`} title={`Cases of ${words}`}>
            {{ model: "machine", stage: "cause", drive: "drive" }[key]}
          </Link>
        </span>
      ))}
    </Typography>
  );
}
