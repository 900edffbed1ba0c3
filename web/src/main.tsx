import { QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { RouterProvider } from "react-router/dom";
import { Toasts } from "./design/toast";
import "./design/tokens.css";
import { client } from "./queries";
import { router } from "./router";

const root = document.getElementById("root");
if (!root) throw new Error("the page has no root");
createRoot(root).render(
  <StrictMode>
    <QueryClientProvider client={client}>
      <Tooltip.Provider delayDuration={500}>
        <Toasts>
          <RouterProvider router={router} />
        </Toasts>
      </Tooltip.Provider>
    </QueryClientProvider>
  </StrictMode>,
);
