import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { ApiError } from "../api/client";
import { App } from "./app";
import "./styles.css";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2000,
      // A no stays a no; an outage is asked again.
      retry: (failures, error) => failures < 3 && !(error instanceof ApiError && error.status >= 400),
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
