import LinearProgress from "@mui/material/LinearProgress";
import Typography from "@mui/material/Typography";
import { Suspense, lazy } from "react";
import { Navigate, Route, Routes } from "react-router";
import { Problem } from "./api/call";
import { useMe } from "./api/queries";
import { Frame } from "./parts/Frame";
import { SignInAgain, SignInPage, takeKey } from "./people/SignInPage";

const CasesPage = lazy(() => import("./cases/CasesPage"));
const CasePage = lazy(() => import("./cases/CasePage"));
const BeginningPage = lazy(() => import("./beginning/BeginningPage"));
const PreparePage = lazy(() => import("./prepare/PreparePage"));
const EvidencePage = lazy(() => import("./evidence/EvidencePage"));
const CheckPage = lazy(() => import("./check/CheckPage"));
const BenchPage = lazy(() => import("./bench/BenchPage"));
const FirstStartPage = lazy(() => import("./firststart/FirstStartPage"));
const FiguresPage = lazy(() => import("./figures/FiguresPage"));
const HandOverPage = lazy(() => import("./handover/HandOverPage"));
const LookupPage = lazy(() => import("./lookup/LookupPage"));
const RepairPage = lazy(() => import("./repair/RepairPage"));
const SettingsPage = lazy(() => import("./settings/SettingsPage"));

/** The application, for who is signed in. */
export function App() {
  const me = useMe();
  if (me.isPending) return <LinearProgress aria-label="Finding out who is signed in" />;
  if (!me.data) return <SignInPage error={me.error} />;
  takeKey(); // somebody is signed in already
  const over = me.error instanceof Problem && me.error.status === 401;
  return (
    <Frame>
      {over && <SignInAgain error={me.error} />}
      <Suspense fallback={<LinearProgress aria-label="Loading the screen" />}>
        <Routes>
          <Route path="/" element={<Navigate to="/cases" replace />} />
          <Route path="/cases" element={<CasesPage />} />
          <Route path="/cases/:id" element={<CasePage />}>
            <Route index element={<Navigate to="check" replace />} />
            <Route path="beginning" element={<BeginningPage />} />
            <Route path="prepare" element={<PreparePage />} />
            <Route path="evidence" element={<EvidencePage />} />
            <Route path="check" element={<CheckPage />} />
            <Route path="repair" element={<RepairPage />} />
            <Route path="first-start" element={<FirstStartPage />} />
            <Route path="hand-over" element={<HandOverPage />} />
          </Route>
          <Route path="/bench" element={<BenchPage />} />
          <Route path="/lookup" element={<LookupPage />} />
          <Route path="/figures" element={<FiguresPage />} />
          <Route path="/settings" element={<SettingsPage />} />
          <Route path="*" element={<Typography sx={{ p: 3 }}>There is no such screen.</Typography>} />
        </Routes>
      </Suspense>
    </Frame>
  );
}
