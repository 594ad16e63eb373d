import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { Refused } from "./api";
import { applyTheme, Preferences } from "./prefs";
import "./theme.css";

applyTheme();
const cache = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (n, error) => !(error instanceof Refused && error.status >= 400 && error.status < 500) && n < 2,
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={cache}>
        <Preferences>
          <BrowserRouter>
            <App />
          </BrowserRouter>
        </Preferences>
      </QueryClientProvider>
    </StrictMode>,
  );
}
