import "@fontsource/source-code-pro/400.css";
import "@fontsource/source-sans-3/400.css";
import "@fontsource/source-sans-3/600.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { App, ConfigProvider } from "antd";
import { StrictMode, useLayoutEffect } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refusal, SIGNED_OUT, type Session } from "./api/client";
import { Pages } from "./Pages";
import { returningFocus } from "./parts/focus";
import { useMedia, useScheme } from "./parts/looks";
import { themed } from "./theme";
import "./theme.css";
import "./parts/levels.css";
import "./frame/frame.css";
import "./board/gates.css";
import "./parts/grid.css";
import "./parts/forms.css";
import "./begin/begin.css";
import "./lookup/lookup.css";
import "./storage/storage.css";
import "./plans/pages.css";
import "./directory/directory.css";
import "./shares/shares.css";
import "./walk/walk.css";
import "./promises/promises.css";
import "./sheets/sheets.css";
import "./rollout/rollout.css";
import "./help/help.css";

const client = new QueryClient({
  defaultOptions: {
    queries: { staleTime: 5_000, retry: (count, error) => !(error instanceof Refusal) && count < 2, refetchOnWindowFocus: true },
  },
});
window.addEventListener(SIGNED_OUT, () =>
  client.setQueryData<Session>(["session"], (old) => (old?.name ? { ...old, name: null, role: null } : old)),
);
returningFocus(document);

function Root() {
  const { dark } = useScheme();
  const still = useMedia("(prefers-reduced-motion: reduce)");
  useLayoutEffect(() => {
    document.documentElement.dataset.scheme = dark ? "dark" : "light";
  }, [dark]);
  return (
    <ConfigProvider theme={themed(dark, still)} wave={{ disabled: true }}>
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
