import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import "../styles.css";
import { Page } from "./Page";

const queries = new QueryClient({ defaultOptions: { queries: { retry: 0 } } });
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <Page />
      </QueryClientProvider>
    </StrictMode>,
  );
}
