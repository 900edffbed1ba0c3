import { Tooltip } from "radix-ui";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app";
import "./design/tokens.css";

const root = document.getElementById("root");
if (!root) throw new Error("the page has no root");
createRoot(root).render(
  <StrictMode>
    <Tooltip.Provider delayDuration={500}>
      <App />
    </Tooltip.Provider>
  </StrictMode>,
);
