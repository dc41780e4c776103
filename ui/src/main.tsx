import "@fontsource/source-code-pro/400.css";
import "@fontsource/source-sans-3/400.css";
import "@fontsource/source-sans-3/600.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App, ConfigProvider } from "antd";
import { StrictMode, useSyncExternalStore } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refusal, SIGNED_OUT, type Session } from "./api/client";
import { Pages } from "./Pages";
import { themed } from "./theme";
import "./theme.css";

const client = new QueryClient({
  defaultOptions: { queries: { staleTime: 5_000, retry: (count, error) => !(error instanceof Refusal) && count < 2, refetchOnWindowFocus: true } },
});
window.addEventListener(SIGNED_OUT, () => client.setQueryData<Session>(["session"], (old) => (old?.name ? { ...old, name: null, role: null } : old)));
const dark = matchMedia("(prefers-color-scheme: dark)");

function Root() {
  const isDark = useSyncExternalStore(
    (changed) => {
      dark.addEventListener("change", changed);
      return () => dark.removeEventListener("change", changed);
    },
    () => dark.matches,
  );
  return (
    <ConfigProvider theme={themed(isDark)} wave={{ disabled: true }}>
      <App component={false}>
        <BrowserRouter>
          <Pages />
        </BrowserRouter>
      </App>
    </ConfigProvider>
  );
}

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <Root />
    </QueryClientProvider>
  </StrictMode>,
);
