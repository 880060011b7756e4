import Box from "@mui/material/Box";
import ButtonBase from "@mui/material/ButtonBase";
import { type ReactNode, useState } from "react";
import { useHotkeys } from "react-hotkeys-hook";
import { NavLink, useLocation, useNavigate } from "react-router";
import { useMe } from "../api/queries";
import { KeysDialog } from "./KeysDialog";
import { Logo } from "./Logo";

const places = [
  { to: "/cases", name: "Cases", icon: "M4 7h16v12H4zM9 7V4h6v3M4 12h16" },
  { to: "/bench", name: "Bench", icon: "M4 13h16M6 13v7M18 13v7M9 13V6h6v7M11 9h2" },
  { to: "/lookup", name: "Look-up", icon: "M4 5h7v14H4zM13 5h7v14h-7M15 9h3M15 12h3M6 9h3M6 12h3" },
  { to: "/figures", name: "Figures", icon: "M4 20h16M6 20v-6h3v6M11 20V7h3v13M16 20v-9h3v9" },
  { to: "/settings", name: "Settings", icon: "M5 7h14M5 12h14M5 17h14M9 5v4M15 10v4M8 15v4" },
];

// The character counts, not the key: keyboards have ? and / in different places.
const produced = { useKey: true, ignoreModifiers: true };

/** The slim rail at the left, the page beside it, and the keys that work everywhere. */
export function Frame({ children }: { children: ReactNode }) {
  const [keys, setKeys] = useState(false);
  const navigate = useNavigate();
  const { pathname } = useLocation();
  const me = useMe().data;
  useHotkeys("?", () => setKeys(true), produced);
  useHotkeys(
    "/",
    (e) => {
      e.preventDefault();
      void navigate("/cases", { state: { search: Date.now() } });
    },
    produced,
  );
  useHotkeys("g>c", () => void navigate("/cases"));
  useHotkeys("g>b", () => void navigate("/bench"));
  useHotkeys("g>l", () => void navigate("/lookup"));
  useHotkeys("g>f", () => void navigate("/figures"));
  useHotkeys("g>s", () => void navigate("/settings"));
  return (
    <Box sx={{ display: "flex", minHeight: "100vh" }}>
      <Box
        component="a"
        href="#page"
        sx={{
          position: "absolute",
          left: -9999,
          "&:focus": { left: 80, top: 4, zIndex: 10, bgcolor: "background.paper", p: 1 },
        }}
      >
        Skip to the page
      </Box>
      <Box
        component="nav"
        aria-label="Main"
        sx={(t) => ({
          width: 72,
          flex: "none",
          position: "sticky",
          top: 0,
          height: "100vh",
          bgcolor: (t.vars ?? t).palette.meaning.rail,
          display: "flex",
          flexDirection: "column",
          pt: 1.5,
        })}
      >
        <Box sx={{ mx: "auto", mb: 1.5 }}>
          <Logo />
        </Box>
        {places.map((p) => (
          <Place key={p.to} {...p} selected={pathname.startsWith(p.to)} />
        ))}
        {me && (
          <Box
            component={NavLink}
            to="/settings"
            title={`${me.name}, ${me.role}`}
            sx={(t) => ({
              mt: "auto",
              px: 0.5,
              py: 0.75,
              textAlign: "center",
              textDecoration: "none",
              color: (t.vars ?? t).palette.meaning.railText,
              fontSize: "0.75rem",
              overflow: "hidden",
              textOverflow: "ellipsis",
            })}
          >
            {me.name}
          </Box>
        )}
        <ButtonBase
          onClick={() => setKeys(true)}
          aria-label="Keys"
          sx={(t) => ({
            fontFamily: "inherit",
            mb: 1.5,
            py: 1,
            color: (t.vars ?? t).palette.meaning.railText,
            fontSize: "0.75rem",
            flexDirection: "column",
          })}
        >
          <Box
            component="kbd"
            sx={{ border: 1, borderColor: "currentcolor", borderRadius: 0.5, px: 0.75, mb: 0.25 }}
          >
            ?
          </Box>
          Keys
        </ButtonBase>
      </Box>
      <Box component="main" id="page" sx={{ flex: 1, minWidth: 0, px: { xs: 1.5, sm: 2.75 }, py: 1.5 }}>
        {children}
      </Box>
      <KeysDialog open={keys} onClose={() => setKeys(false)} />
    </Box>
  );
}

function Place({ to, name, icon, selected }: { to: string; name: string; icon: string; selected: boolean }) {
  return (
    <ButtonBase
      component={NavLink}
      to={to}
      sx={(t) => {
        const { meaning } = (t.vars ?? t).palette;
        return {
          flexDirection: "column",
          py: 1.25,
          fontSize: "0.75rem",
          color: selected ? "#fff" : meaning.railText,
          bgcolor: selected ? meaning.railSelected : "transparent",
          boxShadow: selected ? `inset 3px 0 ${meaning.railBrass}` : "none",
          "&:hover": { bgcolor: meaning.railSelected },
        };
      }}
    >
      <svg
        width="22"
        height="22"
        viewBox="0 0 24 24"
        aria-hidden="true"
        fill="none"
        stroke="currentcolor"
        strokeWidth="1.6"
      >
        <path d={icon} />
      </svg>
      {name}
    </ButtonBase>
  );
}
