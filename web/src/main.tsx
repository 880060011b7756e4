import "@fontsource-variable/source-code-pro";
import "@fontsource-variable/source-sans-3";
import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Problem } from "./api/call";
import { sessionKey } from "./api/queries";
import { App } from "./app";
import "./app.css";
import { theme } from "./theme";

/** A session that has run out is found out by whatever is asked next. */
const onError = (error: unknown) => {
  if (error instanceof Problem && error.status === 401)
    void client.invalidateQueries({ queryKey: sessionKey });
};

const client: QueryClient = new QueryClient({
  queryCache: new QueryCache({ onError: (error, q) => q.queryKey !== sessionKey && onError(error) }),
  mutationCache: new MutationCache({ onError }),
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      networkMode: "always", // the server is on this machine, with or without a network
      retry: (count, error) =>
        count < 2 && error instanceof Problem && (error.status === 0 || error.status === 503),
    },
    mutations: { networkMode: "always" },
  },
});

const root = document.getElementById("root");
if (!root) throw new Error("the page has no element #root");
createRoot(root).render(
  <StrictMode>
    <ThemeProvider theme={theme} defaultMode="system" noSsr>
      <CssBaseline />
      <QueryClientProvider client={client}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  </StrictMode>,
);
